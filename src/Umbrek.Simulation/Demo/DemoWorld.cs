using Microsoft.Data.Sqlite;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Links;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;

namespace Umbrek.Simulation.Demo;

/// <summary>The demo world on a running service: technicians, groups, and every simulated host enrolled through the API.</summary>
public sealed class DemoWorld(string directory, int port, int hostCount, DemoReceivers receivers, TextWriter say)
{
    /// <summary>Hosts past this many speak the link directly, without a whole agent each.</summary>
    private const int WholeAgents = 300;
    private static readonly TimeSpan LongGone = TimeSpan.FromDays(9);

    /// <summary>Computers that wait to be let in, with state directories apart: one of them is a known machine that comes again.</summary>
    private readonly SimulatedAgents newcomers = new(Path.Combine(directory, "newcomers"), TimeProvider.System);
    private readonly SimulatedAgents agents = new(Path.Combine(directory, "hosts"), TimeProvider.System);

    private string? token;

    public Uri Address { get; } = new($"https://localhost:{port}");
    public ServicePin? Pin { get; private set; }
    public List<DemoAccount> Accounts { get; private set; } = [];
    public IReadOnlyList<SimulatedHost> Hosts { get; } = Scenario.Hosts(hostCount);
    public string ServiceData => Path.Combine(directory, "service");
    public string OwnAgentState => Path.Combine(directory, "this-machine");

    public Task<ChildProgram> StartServiceAsync(CancellationToken cancel) =>
        ChildProgram.StartAsync("umbrekd", "ready", cancel, "serve", "--data", ServiceData, "--listen", $"127.0.0.1:{port}", "--hooks-may-reach", "127.0.0.1/32");

    /// <summary>Makes what is missing: accounts, groups, enrolments.</summary>
    /// <returns>The running service.</returns>
    public async Task<ChildProgram> PrepareAsync(CancellationToken cancel)
    {
        Directory.CreateDirectory(directory);
        var service = await StartServiceAsync(cancel).ConfigureAwait(false);
        Pin = ServicePin.Parse(service.Said("key")!);
        var fresh = DemoAccounts.Load(directory) is null;
        if (fresh)
        {
            await MakeAccountsAsync(service.Said("set-up code") ?? throw new InvalidOperationException($"The service in {ServiceData} has technicians, but {directory} has no demo-accounts.json. Choose another --data, or remove the directory."), cancel).ConfigureAwait(false);
        }
        Accounts = DemoAccounts.Load(directory)!;
        using var api = await SignInAsync(cancel).ConfigureAwait(false);
        if (fresh)
        {
            foreach (var path in Scenario.Groups)
            {
                var cut = path.LastIndexOf('/');
                await api.PostAsync("groups", new NewGroup(path[(cut + 1)..], cut < 0 ? null : path[..cut]), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, cancel).ConfigureAwait(false);
            }
        }
        await EnrolAsync(api, cancel).ConfigureAwait(false);
        if (fresh && Hosts.FirstOrDefault(h => h.Story == HostStory.LongGone) is { } gone)
        {
            await service.DisposeAsync().ConfigureAwait(false);
            LetItBeGone(gone);
            service = await StartServiceAsync(cancel).ConfigureAwait(false);
        }
        if (fresh)
        {
            await GrantAsync(cancel).ConfigureAwait(false);
            await MakeInstallersAsync(cancel).ConfigureAwait(false);
            await PutInOrderAsync(cancel).ConfigureAwait(false);
            await MakeNoticesAsync(cancel).ConfigureAwait(false);
            await MakeChecksAsync(cancel).ConfigureAwait(false);
            await KeepScriptsAsync(cancel).ConfigureAwait(false);
        }
        return service;
    }

    /// <summary>The lead's client; signed in once, however often it is asked for.</summary>
    public async Task<ApiClient> SignInAsync(CancellationToken cancel)
    {
        if (token is not null)
        {
            return new ApiClient(Address, Pin, token);
        }
        using var api = new ApiClient(Address, Pin);
        var answer = await api.PostAsync("sign-in", new SignInRequest(Accounts[0].Name, Accounts[0].Password, SignInUse.Token, "demo"), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, cancel).ConfigureAwait(false);
        token = answer.Token;
        return new ApiClient(Address, Pin, token);
    }

    /// <summary>Runs every host's agent until it is told to stop.</summary>
    public async Task RunAgentsAsync(CancellationToken stop)
    {
        var present = Hosts.Where(h => h.Story != HostStory.LongGone).ToList();
        var whole = present.Take(WholeAgents).Select(h => agents.RunAsync(h, stop));
        var light = present.Skip(WholeAgents).Select(h => new LightHost(AgentIdentity.Load(agents.StateOf(h))!, h, TimeProvider.System).RunForeverAsync(stop));
        var waiting = Scenario.Newcomers.Where(h => AgentIdentity.Load(newcomers.StateOf(h)) is not null).Select(h => newcomers.RunAsync(h, stop));
        await Task.WhenAll(whole.Concat(light).Concat(waiting)).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    /// <summary>Enrols the machine that this runs on and starts its real agent.</summary>
    public async Task<ChildProgram> StartOwnAgentAsync(ApiClient api, CancellationToken cancel)
    {
        if (AgentIdentity.Load(new StateDirectory(OwnAgentState)) is null)
        {
            var token = await TokenAsync(api, Scenario.OwnGroup, 1, "the machine that the demo runs on", cancel).ConfigureAwait(false);
            await using var enrol = await ChildProgram.StartAsync("umbrek-agent", null, cancel, "enrol", "--service", $"{Address}", "--token", token, "--state", OwnAgentState).ConfigureAwait(false);
            while (!enrol.HasExited)
            {
                await Task.Delay(20, cancel).ConfigureAwait(false);
            }
            if (AgentIdentity.Load(new StateDirectory(OwnAgentState)) is null)
            {
                throw new InvalidOperationException("This machine could not be enrolled: " + string.Join(' ', enrol.Lines));
            }
        }
        return await ChildProgram.StartAsync("umbrek-agent", null, cancel, "run", "--state", OwnAgentState).ConfigureAwait(false);
    }

    public static async Task<string> TokenAsync(ApiClient api, string group, int uses, string note, CancellationToken cancel) =>
        (await InstallerAsync(api, new NewInstaller(group, note, 86400, uses), cancel).ConfigureAwait(false)).Token;

    private async Task MakeAccountsAsync(string code, CancellationToken cancel)
    {
        var accounts = ScenarioAccess.Technicians.Select(t => new DemoAccount(t, $"{t.Split(' ')[0].ToLowerInvariant()}-lantern-over-the-quay")).ToList();
        using (var api = new ApiClient(Address, Pin))
        {
            await api.PostAsync("set-up", new SetUpRequest(code, accounts[0].Name, accounts[0].Password), WireJson.Default.SetUpRequest, WireJson.Default.TechnicianInfo, cancel).ConfigureAwait(false);
        }
        DemoAccounts.Save(directory, accounts);
        Accounts = accounts;
        using var lead = await SignInAsync(cancel).ConfigureAwait(false);
        foreach (var other in accounts.Skip(1))
        {
            await lead.PostAsync("technicians", new NewTechnician(other.Name, other.Password), WireJson.Default.NewTechnician, WireJson.Default.TechnicianInfo, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>Everybody gets what is his.</summary>
    private async Task GrantAsync(CancellationToken cancel)
    {
        using var api = await SignInAsync(cancel).ConfigureAwait(false);
        var people = (await api.GetAsync("technicians", WireJson.Default.PageTechnicianInfo, cancel).ConfigureAwait(false)).Items.ToDictionary(t => t.Name, t => t.Id);
        foreach (var role in ScenarioAccess.Roles)
        {
            await api.PostAsync("roles", role, WireJson.Default.NewRole, WireJson.Default.RoleInfo, cancel).ConfigureAwait(false);
        }
        foreach (var (name, members) in ScenarioAccess.Teams)
        {
            var team = await api.PostAsync("teams", new NewTeam(name), WireJson.Default.NewTeam, WireJson.Default.TeamInfo, cancel).ConfigureAwait(false);
            foreach (var member in members)
            {
                await api.PutAsync($"teams/{team.Id}/members/{people[member]}", WireJson.Default.TeamInfo, cancel).ConfigureAwait(false);
            }
        }
        foreach (var grant in ScenarioAccess.Grants(DateTimeOffset.UtcNow))
        {
            await api.PostAsync("grants", grant, WireJson.Default.NewGrant, WireJson.Default.GrantInfo, cancel).ConfigureAwait(false);
        }
        var groups = (await api.GetAsync("groups", WireJson.Default.PageGroupInfo, cancel).ConfigureAwait(false)).Items.ToDictionary(g => g.Path, g => g.Id);
        foreach (var (place, isHost, part) in ScenarioAccess.Policies)
        {
            if (await PlaceAsync(place, isHost).ConfigureAwait(false) is not { } id)
            {
                continue;
            }
            await api.PutAsync($"{(isHost ? "hosts" : "groups")}/{id}/policy", part, 0, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, cancel).ConfigureAwait(false);
        }
        foreach (var (place, isHost, secret) in ScenarioAccess.Secrets)
        {
            if (await PlaceAsync(place, isHost).ConfigureAwait(false) is not { } id)
            {
                continue;
            }
            await api.PostAsync("secrets", isHost ? secret with { HostId = id } : secret with { GroupId = id }, WireJson.Default.NewSecret, WireJson.Default.SecretInfo, cancel).ConfigureAwait(false);
        }
        if ((await HostsAsync(ScenarioAccess.WithKeys).ConfigureAwait(false)).Count > 0)
        {
            // They have theirs as soon as they are linked.
            await api.PostAsync("key-rotations", new NewKeyRotation(ScenarioAccess.WithKeys), WireJson.Default.NewKeyRotation, WireJson.Default.KeyRotationDetail, cancel).ConfigureAwait(false);
        }

        async Task<IReadOnlyList<HostSummary>> HostsAsync(string selection) =>
            (await api.GetAsync($"hosts?selection={Uri.EscapeDataString(selection)}", WireJson.Default.PageHostSummary, cancel).ConfigureAwait(false)).Items;

        // A small demo has not all of them.
        async Task<Guid?> PlaceAsync(string place, bool isHost) => !isHost ? groups[place] : (await HostsAsync(place).ConfigureAwait(false)) is [var host, ..] ? host.Id : null;
    }

    /// <summary>Installers as they are found in the middle of a week, and two computers that wait.</summary>
    private async Task MakeInstallersAsync(CancellationToken cancel)
    {
        using var api = await SignInAsync(cancel).ConfigureAwait(false);
        foreach (var wish in Scenario.Installers)
        {
            await InstallerAsync(api, wish, cancel).ConfigureAwait(false);
        }
        foreach (var host in Scenario.Newcomers)
        {
            var installer = await InstallerAsync(api, new NewInstaller(host.GroupPath, host.Name == "tidewell-kiosk" ? "the kiosk with its new disk" : "a third desk", 7 * 86400, 2, ApprovalNeeded: true), cancel).ConfigureAwait(false);
            await newcomers.EnrolAsync(host, Address, installer.Token, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>What people keep of customers and hosts.</summary>
    private async Task PutInOrderAsync(CancellationToken cancel)
    {
        using var api = await SignInAsync(cancel).ConfigureAwait(false);
        var customers = (await api.GetAsync("customers", WireJson.Default.PageCustomerInfo, cancel).ConfigureAwait(false)).Items.ToDictionary(c => c.Name);
        foreach (var (name, kept, fields) in ScenarioOrder.Customers)
        {
            var customer = await api.PatchAsync($"customers/{customers[name].Id}", kept, 0, WireJson.Default.CustomerChange, WireJson.Default.CustomerInfo, cancel).ConfigureAwait(false);
            foreach (var field in fields)
            {
                await api.PostAsync($"customers/{customer.Id}/fields", field, WireJson.Default.NewOwnField, WireJson.Default.CustomerInfo, cancel).ConfigureAwait(false);
            }
        }
        foreach (var (selection, tag) in ScenarioOrder.Tags)
        {
            await api.PostAsync("hosts/edits", new BulkEdit(selection, AddTags: [tag]), WireJson.Default.BulkEdit, WireJson.Default.BulkOutcome, cancel).ConfigureAwait(false);
        }
        var hosts = (await api.GetAsync("hosts?limit=1000", WireJson.Default.PageHostSummary, cancel).ConfigureAwait(false)).Items.DistinctBy(h => h.SystemName).ToDictionary(h => h.SystemName);
        foreach (var (name, change) in ScenarioOrder.Hosts.Where(h => hosts.ContainsKey(h.Host)))
        {
            var before = await api.GetAsync($"hosts/{hosts[name].Id}", WireJson.Default.HostDetail, cancel).ConfigureAwait(false);
            await api.PatchAsync($"hosts/{hosts[name].Id}", change, before.Version, WireJson.Default.HostChange, WireJson.Default.HostDetail, cancel).ConfigureAwait(false);
        }
        foreach (var selection in ScenarioOrder.Selections)
        {
            await api.PostAsync("selections", selection, WireJson.Default.NewSavedSelection, WireJson.Default.SavedSelectionInfo, cancel).ConfigureAwait(false);
        }
        foreach (var name in ScenarioOrder.Pinned.Where(hosts.ContainsKey))
        {
            await api.PutAsync($"hosts/{hosts[name].Id}/mark?pinned=true", WireJson.Default.OwnMark, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>Who is told of what; mail and web hook end on this machine.</summary>
    private async Task MakeNoticesAsync(CancellationToken cancel)
    {
        using var api = await SignInAsync(cancel).ConfigureAwait(false);
        var groups = (await api.GetAsync("groups", WireJson.Default.PageGroupInfo, cancel).ConfigureAwait(false)).Items.ToDictionary(g => g.Path, g => g.Id);
        var teams = (await api.GetAsync("teams", WireJson.Default.PageTeamInfo, cancel).ConfigureAwait(false)).Items.ToDictionary(t => t.Name, t => t.Id);
        foreach (var person in (await api.GetAsync("technicians", WireJson.Default.PageTechnicianInfo, cancel).ConfigureAwait(false)).Items)
        {
            await api.PutAsync($"technicians/{person.Id}/mail", new MailWish(ScenarioNotices.MailOf(person.Name)), 0, WireJson.Default.MailWish, WireJson.Default.TechnicianInfo, cancel).ConfigureAwait(false);
        }
        await api.PutAsync("settings/mail", new MailSettingsWish("127.0.0.1", receivers.MailPort, MailSecurity.None, null, null, "umbrek@halyard.example", $"{Address}"), 0, WireJson.Default.MailSettingsWish, WireJson.Default.MailSettings, cancel).ConfigureAwait(false);
        foreach (var (group, team, notice) in ScenarioNotices.Notices(receivers.HookAddress))
        {
            var wish = notice with { GroupId = group is null ? null : groups[group], TeamId = team is null ? null : teams[team] };
            await api.PostAsync("notices", wish, WireJson.Default.NewNotice, WireJson.Default.NoticeMade, cancel).ConfigureAwait(false);
        }
        foreach (var (group, window) in ScenarioNotices.Maintenance(DateOnly.FromDateTime(DateTime.UtcNow)))
        {
            await api.PostAsync("maintenance", window with { GroupId = groups[group] }, WireJson.Default.NewMaintenance, WireJson.Default.MaintenanceInfo, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>By which the agents themselves look.</summary>
    private async Task MakeChecksAsync(CancellationToken cancel)
    {
        using var api = await SignInAsync(cancel).ConfigureAwait(false);
        var groups = (await api.GetAsync("groups", WireJson.Default.PageGroupInfo, cancel).ConfigureAwait(false)).Items.ToDictionary(g => g.Path, g => g.Id);
        foreach (var (group, check) in ScenarioChecks.All)
        {
            await api.PostAsync("checks", check with { GroupId = group is null ? null : groups[group] }, WireJson.Default.NewCheck, WireJson.Default.CheckInfo, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>What the technicians have written so far.</summary>
    private async Task KeepScriptsAsync(CancellationToken cancel)
    {
        using var api = await SignInAsync(cancel).ConfigureAwait(false);
        var teams = (await api.GetAsync("teams", WireJson.Default.PageTeamInfo, cancel).ConfigureAwait(false)).Items.ToDictionary(t => t.Name, t => t.Id);
        foreach (var (first, next, sharing) in ScenarioScripts.All)
        {
            var wish = first with { Sharing = [.. sharing.Select(s => new ScriptShare(s.Team is null ? null : teams[s.Team], null, s.MayChange))] };
            var kept = await api.PostAsync("scripts", wish, WireJson.Default.NewScript, WireJson.Default.ScriptDetail, cancel).ConfigureAwait(false);
            foreach (var version in next)
            {
                kept = await api.PostAsync($"scripts/{kept.Script.Id}/versions", version, kept.Script.Version, WireJson.Default.NewScriptVersion, WireJson.Default.ScriptDetail, cancel).ConfigureAwait(false);
            }
        }
    }

    private static Task<InstallerDetail> InstallerAsync(ApiClient api, NewInstaller wish, CancellationToken cancel) =>
        api.PostAsync("installers", wish, WireJson.Default.NewInstaller, WireJson.Default.InstallerDetail, cancel);

    private async Task EnrolAsync(ApiClient api, CancellationToken cancel)
    {
        var missing = Hosts.Where(h => AgentIdentity.Load(agents.StateOf(h)) is null).ToList();
        var done = 0;
        foreach (var group in missing.GroupBy(h => h.GroupPath))
        {
            var token = await TokenAsync(api, group.Key, group.Count(), "first roll-out", cancel).ConfigureAwait(false);
            await Parallel.ForEachAsync(group, new ParallelOptions { MaxDegreeOfParallelism = 8, CancellationToken = cancel }, async (host, c) =>
            {
                await agents.EnrolAsync(host, Address, token, c).ConfigureAwait(false);
                if (Interlocked.Increment(ref done) % 500 == 0)
                {
                    await say.WriteLineAsync($"enrolled {done} of {missing.Count} simulated hosts").ConfigureAwait(false);
                }
            }).ConfigureAwait(false);
        }
    }

    /// <summary>A demo that starts now can't wait nine days: the host's last sign of life is put back in the stopped service's database.</summary>
    private void LetItBeGone(SimulatedHost host)
    {
        var then = (DateTimeOffset.UtcNow - LongGone).ToUnixTimeMilliseconds();
        using var database = new SqliteConnection($"Data Source={Path.Combine(ServiceData, "umbrek.db")}");
        database.Open();
        using var command = database.CreateCommand();
        command.CommandText = """UPDATE "Hosts" SET "Presence"=3,"PresenceReason"=4,"PresenceSince"=$then,"LastSeenAt"=$then,"EnrolledAt"=$then-8640000000 WHERE "SystemName"=$name""";
        command.Parameters.AddWithValue("$then", then);
        command.Parameters.AddWithValue("$name", host.Name);
        command.ExecuteNonQuery();
    }
}
