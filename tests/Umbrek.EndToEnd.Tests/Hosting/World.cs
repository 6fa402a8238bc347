using System.Net;
using System.Net.Http.Json;
using System.Text.Json;
using Microsoft.Net.Http.Headers;
using Microsoft.Playwright;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;

namespace Umbrek.EndToEnd.Tests.Hosting;

/// <summary>The programs as a user has them, over TLS on loopback: agents and client as processes, the service in this process or in its own.</summary>
internal sealed class World : IAsyncDisposable
{
    public const string Name = "Ines Okafor";
    public const string Password = "tide-lantern-orchard";
    public const string Group = "Saltmarsh Ferry/Quay";

    private readonly TestDirectory directory = new();
    private readonly List<TestPrograms> agents = [];
    private readonly List<VirtualScreen> screens = [];
    private readonly Lan? lan;
    private bool ownProcess;
    private HostedService? hosted;
    private TestPrograms? process;
    private string[] more = [];

    private World(Lan? lan, bool ownProcess)
    {
        (this.lan, this.ownProcess) = (lan, ownProcess);
        Directory.CreateDirectory(Sockets, (UnixFileMode)0x3FF);
        File.SetUnixFileMode(Sockets, (UnixFileMode)0x3FF);
    }

    /// <summary>The service's process.</summary>
    public TestPrograms Service => process ?? throw new InvalidOperationException("This scenario's service has no process of its own; start the world with ownProcess: true.");

    public Uri Address { get; } = new($"https://localhost:{TestPorts.Next()}");
    public ServicePin Pin { get; private set; } = null!;
    public ApiClient Api { get; private set; } = null!;

    public string In(string name) => directory.In(name);

    /// <summary>Where hosts of a <see cref="Lan"/> reach the service.</summary>
    public string LanAddress => $"https://{Lan.Address}:{Address.Port}";

    /// <summary>Stands for /tmp/.X11-unix in the agents of this world: they see the screens that are opened here, and no others of the machine.</summary>
    private string Sockets => In("x");

    /// <param name="lan">The test's own network, on which the service listens too; null is none.</param>
    /// <param name="options">More of what the service is started with; it is handed what puts a text into a file and names that.</param>
    /// <param name="ownProcess">The service has a process of its own, which the test may kill.</param>
    public static async Task<World> StartAsync(Lan? lan = null, Func<Func<string, string>, string[]>? options = null, bool ownProcess = false)
    {
        var world = new World(lan, ownProcess);
        world.more = options?.Invoke(text =>
        {
            File.WriteAllText(world.In("option"), text);
            return world.In("option");
        }) ?? [];
        var data = await SetUpData.Get();
        await data.CopyToAsync(world.In("service"));
        world.Pin = data.Pin;
        await world.StartServiceAsync();
        world.Api = new ApiClient(world.Address, data.Pin, data.Token);
        return world;
    }

    public async Task StartServiceAsync()
    {
        string[] arguments =
        [
            "serve", "--data", In("service"), "--console", TestPrograms.Console, "--agents", TestPrograms.Agents, "--listen", $"127.0.0.1:{Address.Port}",
            .. lan is null ? Array.Empty<string>() : ["--listen", $"{Lan.Address}:{Address.Port}", "--listen", $"[{Lan.Address6}]:{Address.Port}"], .. more,
        ];
        if (ownProcess)
        {
            process = TestPrograms.Start("umbrekd", arguments);
            await process.UntilSaidAsync("ready", Wait.StartSeconds);
        }
        else
        {
            hosted = await HostedService.StartAsync(arguments, lan);
        }
    }

    /// <summary>From here on the service has a process of its own, on the same data and at the same address, to which all hosts have returned.</summary>
    public async Task TakeOwnProcessAsync()
    {
        await hosted!.StopAsync();
        (hosted, ownProcess) = (null, true);
        await StartServiceAsync();
        await Wait.UntilAsync(
            async () => (await Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items.All(h => h.Presence.State == Core.Estate.PresenceState.Linked),
            "all hosts to be linked again");
    }

    public Task StopServiceAsync() => ownProcess ? Service.StopAsync() : hosted!.StopAsync();

    /// <summary>A screen that the agents of this world see; it goes with it.</summary>
    public async Task<VirtualScreen> OpenScreenAsync(string size = "1280x800x24", int? number = null, params string[] more)
    {
        var screen = await VirtualScreen.StartAsync(size, number, more, Sockets);
        screens.Add(screen);
        return screen;
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

    /// <summary>Starts an agent that sees the screens of this world in the place of the machine's.</summary>
    public TestPrograms StartAgent(string label)
    {
        const string line = $"mkdir -p {VirtualScreen.Sockets} && mount --bind \"$2\" {VirtualScreen.Sockets} && exec \"$0\" run --state \"$1\"";
        return Keep(TestPrograms.Start("/usr/bin/unshare", ["--mount", "sh", "-c", line, TestPrograms.PathOf("umbrek-agent"), StateOf(label), Sockets]));
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

    public Task UntilAsync(string label, string state, int seconds = Wait.DefaultSeconds) => Wait.UntilAsync(
        async () => await FindAsync(label) is { } host && JsonSerializer.Serialize(host.Presence.State, WireJson.Default.PresenceState) == $"\"{state}\"", $"{label} to be {state}", seconds);

    public Task<JobInfo> MakeJobAsync(string selection, string line) =>
        Api.PostAsync("jobs", new NewJob(selection, new Core.Jobs.CommandSpec { Line = line }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);

    public Task<JobDetail> JobAsync(Guid id) => Api.GetAsync($"jobs/{id}", WireJson.Default.JobDetail, default);

    public async Task<JobDetail> EndedAsync(Guid id)
    {
        await Wait.UntilAsync(async () => (await JobAsync(id)).Job.Runs is var runs && runs.Ended == runs.Total, "every run of the job to end", 120);
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

    /// <summary>The client as one of several people has it, each with a home of their own.</summary>
    public Task<(int Status, string Stdout, string Stderr)> ClientOfAsync(string who, string? input, params string[] arguments) =>
        TestPrograms.RunAsync("umbrek", arguments, input, new Dictionary<string, string> { ["UMBREK_HOME"] = In(who == Name ? "client" : $"client of {who}") });

    /// <summary>The environment of a client that has signed in without the proxy, which may cut, and reaches the service through it.</summary>
    public Dictionary<string, string> HomeThrough(CuttingProxy proxy)
    {
        var home = In($"client of {proxy.Port}");
        if (!Directory.Exists(home))
        {
            Directory.CreateDirectory(home);
            foreach (var file in Directory.GetFiles(In("client")))
            {
                var copy = Path.Combine(home, Path.GetFileName(file));
                File.WriteAllText(copy, File.ReadAllText(file).Replace($":{Address.Port}", $":{proxy.Port}", StringComparison.Ordinal));
                File.SetUnixFileMode(copy, File.GetUnixFileMode(file));
            }
        }
        return new() { ["UMBREK_HOME"] = home };
    }

    public async Task SignInClientAsync(string who = Name)
    {
        var (status, _, stderr) = await ClientOfAsync(who, Password + "\n", "sign-in", $"{Address}", "--name", who, "--password-stdin", "--trust", $"{Pin}");
        status.ShouldBe(0, stderr);
    }

    /// <summary>The cookies that a browser has once somebody has signed in with it.</summary>
    public async Task<IReadOnlyList<Microsoft.Playwright.Cookie>> SignInCookiesAsync(string who, string userAgent)
    {
        using var anonymous = new ApiClient(Address, Pin);
        using var request = new HttpRequestMessage(HttpMethod.Post, $"{ApiClient.Base}sign-in")
        {
            Content = JsonContent.Create(new SignInRequest(who, Password, SignInUse.Cookie), WireJson.Default.SignInRequest),
        };
        request.Headers.TryAddWithoutValidation("User-Agent", userAgent);
        using var response = await anonymous.Http.SendAsync(request);
        response.StatusCode.ShouldBe(HttpStatusCode.OK, await response.Content.ReadAsStringAsync());
        return
        [
            .. SetCookieHeaderValue.ParseList([.. response.Headers.GetValues("Set-Cookie")]).Select(c => new Microsoft.Playwright.Cookie
            {
                Url = $"{Address}",
                Name = $"{c.Name}",
                Value = $"{c.Value}",
                Secure = c.Secure,
                HttpOnly = c.HttpOnly,
                SameSite = SameSiteAttribute.Strict,
            }),
        ];
    }

    public async ValueTask DisposeAsync()
    {
        Api?.Dispose();
        await Task.WhenAll(agents.Select(a => a.DisposeAsync().AsTask()));
        await Task.WhenAll(screens.Select(s => s.DisposeAsync().AsTask()));
        if (hosted is not null)
        {
            await hosted.DisposeAsync();
        }
        if (process is not null)
        {
            await process.DisposeAsync();
        }
        directory.Dispose();
    }
}
