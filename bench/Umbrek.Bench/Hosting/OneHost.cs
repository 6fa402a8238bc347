using System.Diagnostics;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Core.Estate;
using Umbrek.Simulation.Demo;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Links;

namespace Umbrek.Bench.Hosting;

/// <summary>A service and one real agent, each a process of its own, with one technician signed in.</summary>
internal sealed class OneHost : IAsyncDisposable
{
    public const string Name = "Ines Okafor";
    public const string Password = "tide-lantern-orchard";
    private readonly Scratch directory;

    private OneHost(Scratch directory) => this.directory = directory;

    public required Uri Address { get; init; }

    public required ServicePin Pin { get; init; }

    public required string Token { get; init; }

    public required ApiClient Api { get; init; }

    public required Measured Service { get; init; }

    public required Measured Agent { get; init; }

    public required HostSummary Host { get; init; }

    public static async Task<OneHost> StartAsync()
    {
        var directory = new Scratch();
        var port = LinkBench.FreePort();
        var address = new Uri($"https://localhost:{port}");
        var service = await Measured.StartAsync(ChildProgram.Find("umbrekd"), "ready", "serve", "--data", Path.Combine(directory.Path, "service"), "--listen", $"127.0.0.1:{port}", "--calls-per-second", "0");
        var pin = ServicePin.Parse(service.Said("key"))!;
        string token;
        using (var anonymous = new ApiClient(address, pin))
        {
            await anonymous.PostAsync("set-up", new SetUpRequest(service.Said("set-up code"), Name, Password), WireJson.Default.SetUpRequest, WireJson.Default.TechnicianInfo, default);
            token = (await anonymous.PostAsync("sign-in", new SignInRequest(Name, Password, SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default)).Token!;
        }
        var api = new ApiClient(address, pin, token);
        await api.PostAsync("groups", new NewGroup("Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        var state = Path.Combine(directory.Path, "agent");
        var enrolment = await DemoWorld.TokenAsync(api, "Saltmarsh Ferry", 1, "bench", default);
        await new Enroller(new StateDirectory(state), new Umbrek.Agent.Platform.Linux.LinuxPlatform()).EnrolAsync(address, enrolment, null, AccessKeyChoice.None, default);
        var agent = await Measured.StartAsync(ChildProgram.Find("umbrek-agent"), "linked with", "run", "--state", state);
        HostSummary host;
        do
        {
            host = (await api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items.Single();
        }
        while (host.Presence.State != PresenceState.Linked);
        return new OneHost(directory) { Address = address, Pin = pin, Token = token, Api = api, Service = service, Agent = agent, Host = host };
    }

    /// <summary>A file of the service or the agent.</summary>
    public string In(string name) => Path.Combine(directory.Path, name);

    /// <param name="at">Where the client finds the service; null for where it is.</param>
    /// <returns>The environment in which the client is signed in.</returns>
    public async Task<Dictionary<string, string>> SignInClientAsync(Uri? at = null)
    {
        var environment = new Dictionary<string, string> { ["UMBREK_HOME"] = Path.Combine(directory.Path, "client") };
        await TimeAsync(ChildProgram.Find("umbrek"), ["sign-in", $"{at ?? Address}", "--name", Name, "--password-stdin", "--trust", $"{Pin}"], environment, Password + "\n");
        return environment;
    }

    /// <returns>Seconds that the program took from its start to its end; its output is read and forgotten.</returns>
    public static async Task<double> TimeAsync(string program, string[] arguments, Dictionary<string, string> environment, string? input = null)
    {
        var start = new ProcessStartInfo(program, arguments) { RedirectStandardInput = true, RedirectStandardOutput = true, RedirectStandardError = true };
        foreach (var (name, value) in environment)
        {
            start.Environment[name] = value;
        }
        var began = Stopwatch.GetTimestamp();
        using var process = Process.Start(start)!;
        await process.StandardInput.WriteAsync(input ?? "");
        process.StandardInput.Close();
        var output = process.StandardOutput.BaseStream.CopyToAsync(Stream.Null, 64 * 1024);
        var errors = process.StandardError.ReadToEndAsync();
        await output;
        await process.WaitForExitAsync();
        var took = Stopwatch.GetElapsedTime(began).TotalSeconds;
        return process.ExitCode == 0 ? took : throw new InvalidOperationException($"{program} {string.Join(' ', arguments)}: {await errors}");
    }

    public async ValueTask DisposeAsync()
    {
        Api.Dispose();
        await Agent.DisposeAsync();
        await Service.DisposeAsync();
        directory.Dispose();
    }
}
