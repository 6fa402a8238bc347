using System.Net;
using System.Text.Json;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;

namespace Umbrek.EndToEnd.Tests.Hosting;

/// <summary>The programs as a user has them: service, agents and client as processes, over TLS on loopback.</summary>
internal sealed class World : IAsyncDisposable
{
    public const string Name = "Ines Okafor";
    public const string Password = "tide-lantern-orchard";
    public const string Group = "Saltmarsh Ferry/Quay";

    private readonly TestDirectory directory = new();
    private bool lan;
    private readonly List<TestPrograms> agents = [];

    public TestPrograms Service { get; private set; } = null!;
    public Uri Address { get; private set; } = null!;
    public ServicePin Pin { get; private set; } = null!;
    public ApiClient Api { get; private set; } = null!;

    public string In(string name) => directory.In(name);

    /// <summary>Where hosts of a <see cref="Lan"/> reach the service.</summary>
    public string LanAddress => $"https://{Lan.Address}:{Address.Port}";

    private string[] more = [];

    /// <param name="lan">Whether the service listens on the test's own network too.</param>
    /// <param name="options">More of what the service is started with; it is handed what puts a text into a file and names that.</param>
    public static async Task<World> StartAsync(bool lan = false, Func<Func<string, string>, string[]>? options = null)
    {
        var world = new World { Address = new Uri($"https://localhost:{TestPorts.Next()}"), lan = lan };
        world.more = options?.Invoke(text =>
        {
            File.WriteAllText(world.In("option"), text);
            return world.In("option");
        }) ?? [];
        await world.StartServiceAsync();
        world.Pin = ServicePin.Parse(world.Service.Said("key")!)!;
        using (var anonymous = new ApiClient(world.Address, world.Pin))
        {
            await anonymous.PostAsync("set-up", new SetUpRequest(world.Service.Said("set-up code")!, Name, Password), WireJson.Default.SetUpRequest, WireJson.Default.TechnicianInfo, default);
            var answer = await anonymous.PostAsync("sign-in", new SignInRequest(Name, Password, SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default);
            world.Api = new ApiClient(world.Address, world.Pin, answer.Token);
        }
        await world.Api.PostAsync("groups", new NewGroup("Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        await world.Api.PostAsync("groups", new NewGroup("Quay", "Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        return world;
    }

    public async Task StartServiceAsync()
    {
        Service = TestPrograms.Start("umbrekd", ["serve", "--data", In("service"), "--listen", $"127.0.0.1:{Address.Port}", .. lan ? ["--listen", $"{Lan.Address}:{Address.Port}", "--listen", $"[{Lan.Address6}]:{Address.Port}"] : Array.Empty<string>(), .. more]);
        await Service.UntilSaidAsync("ready");
    }

    public async Task<string> NewTokenAsync() =>
        (await Api.PostAsync("installers", new NewInstaller(Group), WireJson.Default.NewInstaller, WireJson.Default.InstallerDetail, default)).Token;

    public Task<InstallerDetail> NewInstallerAsync(NewInstaller? wish = null) =>
        Api.PostAsync("installers", wish ?? new NewInstaller(Group), WireJson.Default.NewInstaller, WireJson.Default.InstallerDetail, default);

    /// <summary>An installer's line as it reads for hosts of the test's own network.</summary>
    public string ForLan(string text) => text.Replace($"{Address.Scheme}://{Address.Authority}", LanAddress, StringComparison.Ordinal);

    /// <summary>The silent command of an installer, with this build's agent, for a host of the test's own network.</summary>
    public string SilentLine(InstallerDetail installer) => $"{TestPrograms.PathOf("umbrek-agent")} {ForLan(installer.SilentCommand)["umbrek-agent ".Length..]}";

    public string StateOf(string label) => In("a-" + label);

    /// <summary>Enrols a real agent of this machine under a label.</summary>
    public async Task EnrolAsync(string label, string? token = null)
    {
        var (status, _, stderr) = await TestPrograms.RunAsync("umbrek-agent", ["enrol", "--service", $"{Address}", "--token", token ?? await NewTokenAsync(), "--state", StateOf(label), "--label", label]);
        status.ShouldBe(0, stderr);
    }

    public TestPrograms StartAgent(string label) => Keep(TestPrograms.Start("umbrek-agent", ["run", "--state", StateOf(label)]));

    /// <summary>Starts an agent that sees no screen of this machine: where their sockets are, it has a directory of its own.</summary>
    public TestPrograms StartAgentWithoutScreen(string label)
    {
        const string sockets = "/tmp/.X11-unix";
        Directory.CreateDirectory(sockets);
        return Keep(TestPrograms.Start("/usr/bin/unshare", ["--mount", "sh", "-c", $"mount -t tmpfs -o mode=1777 none {sockets} && exec \"$0\" run --state \"$1\"", TestPrograms.PathOf("umbrek-agent"), StateOf(label)]));
    }

    private TestPrograms Keep(TestPrograms agent)
    {
        agents.Add(agent);
        return agent;
    }

    /// <summary>Enrols an agent, starts it and waits until the service sees it.</summary>
    public async Task<TestPrograms> JoinAsync(string label, string? token = null)
    {
        await EnrolAsync(label, token);
        var agent = StartAgent(label);
        await UntilAsync(label, "linked");
        return agent;
    }

    public async Task<HostSummary> HostAsync(string label) =>
        await FindAsync(label) ?? throw new InvalidOperationException($"There is no host {label}.");

    private async Task<HostSummary?> FindAsync(string label) =>
        (await Api.GetAsync($"hosts?selection={Uri.EscapeDataString($"\"{label}\"")}", WireJson.Default.PageHostSummary, default)).Items.SingleOrDefault(h => h.Label == label);

    public Task UntilAsync(string label, string state) => Wait.UntilAsync(
        async () => await FindAsync(label) is { } host && JsonSerializer.Serialize(host.Presence.State, WireJson.Default.PresenceState) == $"\"{state}\"", $"{label} to be {state}");

    public Task<JobInfo> MakeJobAsync(string selection, string line) =>
        Api.PostAsync("jobs", new NewJob(selection, new Core.Jobs.CommandSpec { Line = line }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);

    public Task<JobDetail> JobAsync(Guid id) => Api.GetAsync($"jobs/{id}", WireJson.Default.JobDetail, default);

    public async Task<JobDetail> EndedAsync(Guid id)
    {
        await Wait.UntilAsync(async () => (await JobAsync(id)).Job.Runs is var runs && runs.Ended == runs.Total, "every run of the job to end", 300);
        return await JobAsync(id);
    }

    public async Task<string> OutputAsync(Guid runId)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}runs/{runId}/output");
        using var response = await Api.SendRawAsync(request, default);
        return await response.Content.ReadAsStringAsync();
    }

    /// <summary>The client, with a home of its own.</summary>
    public Task<(int Status, string Stdout, string Stderr)> ClientAsync(string? input, params string[] arguments) => ClientOfAsync(Name, input, arguments);

    /// <summary>The client as one of several people has it, each with a home of his own.</summary>
    public Task<(int Status, string Stdout, string Stderr)> ClientOfAsync(string who, string? input, params string[] arguments) =>
        TestPrograms.RunAsync("umbrek", arguments, input, new Dictionary<string, string> { ["UMBREK_HOME"] = In(who == Name ? "client" : $"client of {who}") });

    public async Task SignInClientAsync(string who = Name)
    {
        var (status, _, stderr) = await ClientOfAsync(who, Password + "\n", "sign-in", $"{Address}", "--name", who, "--password-stdin", "--trust", $"{Pin}");
        status.ShouldBe(0, stderr);
    }

    public async ValueTask DisposeAsync()
    {
        Api?.Dispose();
        await Task.WhenAll(agents.Select(a => a.DisposeAsync().AsTask()));
        await Service.DisposeAsync();
        directory.Dispose();
    }
}
