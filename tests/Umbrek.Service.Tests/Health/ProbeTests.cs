using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Service.Estate;
using Umbrek.Service.Health;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Simulation.Estate;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Tests.Health;

/// <summary>Checks by which agents look: what they are told, what they tell, and what becomes of it.</summary>
public sealed class ProbeTests
{
    private static readonly Probe Printer = new(ProbeKind.Service, "ticket-print", EverySeconds: 10, Act: ProbeAct.Restart);

    [Fact]
    public async Task A_stopped_service_is_started_again_by_its_check_and_its_host_s_time_line_tells()
    {
        await using var service = await TestService.StartAsync();
        var made = await CheckAsync(service, new NewCheck("Ticket printing runs", Subsystem.Services, Severity.Critical, HoldSeconds: 600, Probe: Printer));
        made.ShouldSatisfyAllConditions(c => c.Key.ShouldBe("ticket-printing-runs"), c => c.Looks.ShouldBe("service ticket-print does not run"), c => c.Probe.ShouldBe(Printer), c => c.When.ShouldBe(""));
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03", story: HostStory.PrinterStopped);
        await Wait.UntilAsync(async () => (await TimelineAsync(service, agent.Id)).Any(e => e.Text.Contains("Well again", StringComparison.Ordinal)), "the service to run again");
        (await TimelineAsync(service, agent.Id)).Where(e => e.Kind == HostEventKind.Checked).Select(e => e.Text).ShouldBe(
        [
            "Ticket printing runs: Well again: Service ticket-print runs.", "Ticket printing runs: service ticket-print was started again.", "Ticket printing runs: Service ticket-print has failed (exit-code).",
        ]);
        var stands = (await OnHostsAsync(service, made.Key)).ShouldHaveSingleItem();
        (stands.Label, stands.Result!.State, stands.Raised).ShouldBe(("quay-ticket-03", ProbeState.Well, false));
        (await service.Api.GetAsync($"hosts/{agent.Id}/probes", WireJson.Default.PageProbeOnHost, default)).Items.ShouldHaveSingleItem().Looks.ShouldBe(made.Looks);
        agent.Said.ShouldContain("was started again");
    }

    [Fact]
    public async Task What_fails_raises_an_alert_in_the_agent_s_words_and_clears_it()
    {
        await using var service = await TestService.StartAsync();
        await CheckAsync(service, new NewCheck("Ticket printing runs", Subsystem.Services, Severity.Critical, HoldSeconds: 10, Follows: "No tickets.", Probe: Printer with { Act = ProbeAct.None, GraceSeconds = 0 }));
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03", story: HostStory.PrinterStopped);
        await Wait.UntilAsync(async () => (await AlertsAsync(service)).Any(a => a.Check == "ticket-printing-runs"), "the alert");
        var alert = (await AlertsAsync(service)).Single(a => a.Check == "ticket-printing-runs");
        (alert.What, alert.Follows, alert.Severity).ShouldBe(("quay-ticket-03: Service ticket-print has failed (exit-code).", "No tickets.", Severity.Critical));
        (await OnHostsAsync(service, "ticket-printing-runs")).Single().Raised.ShouldBeTrue();
        agent.Platform.StartPrinter();
        await Wait.UntilAsync(async () => (await AlertsAsync(service)).All(a => a.Check != "ticket-printing-runs"), "the alert to clear, which takes a look every 10 s and a hold of 10 s", 60);
    }

    [Fact]
    public async Task A_figure_past_its_limit_is_bad_and_one_that_can_t_be_told_is_not()
    {
        await using var service = await TestService.StartAsync();
        await CheckAsync(service, new NewCheck("Backup is fresh", Subsystem.Storage, Severity.Warning, "age > 26 h", HoldSeconds: 10, Probe: new Probe(ProbeKind.Script, "", "echo age=30 h", EverySeconds: 10)));
        await CheckAsync(service, new NewCheck("Spool is short", Subsystem.Storage, Severity.Warning, "queue > 10 %", HoldSeconds: 10, Probe: new Probe(ProbeKind.Script, "", "echo queue=30 h", EverySeconds: 10)));
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await Wait.UntilAsync(async () => (await AlertsAsync(service)).Count > 0, "the alert");
        (await AlertsAsync(service)).ShouldHaveSingleItem().What.ShouldBe("quay-ticket-01: The script ended with 0. The check allows no age > 26 h.");
        (await OnHostsAsync(service, "backup-is-fresh")).Single().ShouldSatisfyAllConditions(h => h.Past.ShouldBe("age > 26 h"), h => h.Result!.Figures.ShouldContain(new ProbeFigure("age", 30 * 3600, Dimension.Time)));
    }

    [Fact]
    public async Task Hosts_look_at_what_is_theirs_and_hear_of_changes()
    {
        await using var service = await TestService.StartAsync();
        await using var quay = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var group = await GroupAsync(service, TestService.Group);
        var made = await CheckAsync(service, new NewCheck("Printer answers", Subsystem.Services, Severity.Warning, GroupId: group, Probe: new Probe(ProbeKind.Ping, "192.0.2.7", EverySeconds: 10)));
        await Wait.UntilAsync(async () => (await OnHostsAsync(service, made.Key)).Single().Result is { State: ProbeState.Well }, "the first look");
        made = await service.Api.PutAsync($"checks/{made.Id}", new NewCheck("Printer answers", Subsystem.Services, Severity.Warning, "took > 0.1 s", GroupId: group, Probe: new Probe(ProbeKind.Port, "192.0.2.7:9100", EverySeconds: 10)), made.Version, WireJson.Default.NewCheck, WireJson.Default.CheckInfo, default);
        made.Looks.ShouldBe("port 192.0.2.7:9100 takes no connection, or took > 0.1 s");
        await Wait.UntilAsync(async () => (await OnHostsAsync(service, made.Key)).Single().Result?.Says.StartsWith("192.0.2.7:9100 took", StringComparison.Ordinal) == true, "the changed look");

        // Switched off here it is looked at no more; removed, nothing is left of it.
        await service.Api.PostAsync("checks/settings", new CheckWish(made.Key, HostId: quay.Id, Off: true), WireJson.Default.CheckWish, WireJson.Default.CheckInfo, default);
        (await OnHostsAsync(service, made.Key)).ShouldBeEmpty();
        await Wait.UntilAsync(() => File.ReadAllText(quay.State.ProbesFile).Contains("\"probes\":[]", StringComparison.Ordinal), "the host to be told");
        await service.Api.ActAsync(HttpMethod.Delete, $"checks/{made.Id}", default);
        (await service.SendAsync(HttpMethod.Get, $"/api/v1/checks/{made.Key}/hosts")).Response.StatusCode.ShouldBe(System.Net.HttpStatusCode.NotFound);
    }

    [Fact]
    public async Task What_was_found_last_is_there_after_a_restart_of_the_service_and_tells_nothing_of_a_host_that_is_away()
    {
        await using var service = await TestService.StartAsync();
        var made = await CheckAsync(service, new NewCheck("Ticket printing runs", Subsystem.Services, Severity.Critical, Probe: Printer with { Act = ProbeAct.None }));
        await using (await RunningAgent.StartAsync(service, "quay-ticket-01"))
        {
            await Wait.UntilAsync(async () => (await OnHostsAsync(service, made.Key)).Single().Result is { State: ProbeState.Well }, "the first look");
        }
        await service.RestartAsync();
        var stands = (await OnHostsAsync(service, made.Key)).Single();
        stands.Result!.Says.ShouldBe("Service ticket-print runs.");
        var host = (await service.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items.Single();
        service.Get<CheckBook>().For(host.Id, host.GroupPath).Single(c => c.Key == made.Key).Read(service.Get<EstateIndex>().FindSelectable(host.Id)!, stands.Result, DateTimeOffset.UtcNow).ShouldBe(Reading.Unknown);
    }

    [Fact]
    public async Task Reports_are_taken_once_in_the_service_s_time_and_never_of_what_is_not_looked_at()
    {
        await using var service = await TestService.StartAsync();
        var made = await CheckAsync(service, new NewCheck("Ticket printing runs", Subsystem.Services, Severity.Critical, Probe: Printer));
        await service.EnrolAsync("quay-ticket-01");
        var host = (await service.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items.Single();
        var theirs = DateTimeOffset.UtcNow.AddYears(-3);
        var report = new ProbeReport(theirs,
            [new ProbeResult(made.Key, ProbeState.Failed, "It does not run.", [], theirs.AddMinutes(-5), theirs), new ProbeResult("made-up", ProbeState.Failed, "x", [], theirs, theirs)],
            [new ProbeEvent(Guid.CreateVersion7(), made.Key, theirs.AddMinutes(-5), "It does not run.")]);
        for (var i = 0; i < 2; i++)
        {
            await service.Get<ProbeBook>().TakeAsync(host.Id, report, default);
        }
        var taken = service.Get<ProbeBook>().Find(host.Id, made.Key)!;
        (DateTimeOffset.UtcNow - taken.Since - TimeSpan.FromMinutes(5)).Duration().ShouldBeLessThan(TimeSpan.FromMinutes(1));
        service.Get<ProbeBook>().Find(host.Id, "made-up").ShouldBeNull();
        var told = (await TimelineAsync(service, host.Id)).Where(e => e.Kind == HostEventKind.Checked).ShouldHaveSingleItem();
        (DateTimeOffset.UtcNow - told.At - TimeSpan.FromMinutes(5)).Duration().ShouldBeLessThan(TimeSpan.FromMinutes(1));
    }

    [Fact]
    public async Task Scripts_and_help_take_the_permission_for_commands_and_logs_the_one_for_files()
    {
        await using var service = await TestService.StartAsync();
        var group = await GroupAsync(service, "Saltmarsh Ferry");
        await service.Api.PostAsync("roles", new NewRole("configures", [Permission.See, Permission.Configure]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var careful = await service.JoinedByAsync("tomasz", "configures", "Saltmarsh Ferry");
        await MakeAsync(Printer with { Act = ProbeAct.None });
        await RefusedAsync(Printer, "run commands");
        await RefusedAsync(new Probe(ProbeKind.Script, "", "true"), "run commands");
        await RefusedAsync(new Probe(ProbeKind.Ping, "192.0.2.1", Act: ProbeAct.Script, ActScript: "true"), "run commands");
        await RefusedAsync(new Probe(ProbeKind.Log, "/var/log/till.log", "error"), "read");
        var trial = await Should.ThrowAsync<ApiException>(() => careful.PostAsync("checks/probe-trial", new ProbeTrialWish(new Probe(ProbeKind.Script, "", "true"), "all"), WireJson.Default.ProbeTrialWish, WireJson.Default.PageProbeTrialLine, default));
        trial.Problem.Status.ShouldBe(404);

        Task<CheckInfo> MakeAsync(Probe probe) => careful.PostAsync("checks", new NewCheck($"Check {Guid.NewGuid():N}", Subsystem.Services, Severity.Warning, GroupId: group, Probe: probe), WireJson.Default.NewCheck, WireJson.Default.CheckInfo, default);
        async Task RefusedAsync(Probe probe, string what)
        {
            var refused = await Should.ThrowAsync<ApiException>(() => MakeAsync(probe));
            (refused.Problem.Status, refused.Message).ShouldSatisfyAllConditions(r => r.Status.ShouldBe(403), r => r.Message.ShouldContain(what));
        }
    }

    [Fact]
    public async Task A_probe_is_tried_once_on_hosts_and_the_audit_log_knows()
    {
        await using var service = await TestService.StartAsync();
        await using var first = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await using var third = await RunningAgent.StartAsync(service, "quay-ticket-03", story: HostStory.PrinterStopped);
        await service.EnrolAsync("quay-ticket-04");
        var lines = (await service.Api.PostAsync("checks/probe-trial", new ProbeTrialWish(Printer, "all"), WireJson.Default.ProbeTrialWish, WireJson.Default.PageProbeTrialLine, default)).Items.ToDictionary(l => l.Label);
        lines["quay-ticket-01"].ShouldSatisfyAllConditions(l => l.State.ShouldBe(ProbeState.Well), l => l.Bad.ShouldBeFalse());
        lines["quay-ticket-03"].ShouldSatisfyAllConditions(l => l.State.ShouldBe(ProbeState.Failed), l => l.Bad.ShouldBeTrue());
        lines["quay-ticket-04"].ShouldSatisfyAllConditions(l => l.State.ShouldBe(ProbeState.Unknown), l => l.Says.ShouldContain("away"));
        third.Platform.PrinterFailed.ShouldBeTrue("nothing is done about what a trial finds");
        (await service.SendAsync(HttpMethod.Get, "/api/v1/audit")).Body.ShouldContain("check.try");
        foreach (var (wish, says) in new[]
        {
            (new ProbeTrialWish(Printer, "nobody-there"), "No host matches"), (new ProbeTrialWish(Printer, ""), "on which hosts"), (new ProbeTrialWish(Printer with { Target = "" }, "all"), "Name the service"),
            (new ProbeTrialWish(Printer, "all", "left < 3"), "no figures"),
        })
        {
            (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("checks/probe-trial", wish, WireJson.Default.ProbeTrialWish, WireJson.Default.PageProbeTrialLine, default))).Message.ShouldContain(says);
        }
    }

    [Fact]
    public async Task Checks_that_can_t_be_are_refused_with_what_to_do()
    {
        await using var service = await TestService.StartAsync();
        var made = await CheckAsync(service, new NewCheck("Ticket printing runs", Subsystem.Services, Severity.Critical, Probe: Printer));
        await RefusedAsync(() => CheckAsync(service, new NewCheck("Bad", Subsystem.Services, Severity.Warning, "storage.used > 3 %", Probe: Printer)), "no figures to set limits to");
        await RefusedAsync(() => CheckAsync(service, new NewCheck("Bad", Subsystem.Services, Severity.Warning, Until: "seen > 3 d", Probe: Printer)), "leave 'until' out");
        await RefusedAsync(() => CheckAsync(service, new NewCheck("Bad", Subsystem.Services, Severity.Warning, HoldSeconds: 1, Probe: Printer)), "10 seconds at least");
        await RefusedAsync(() => CheckAsync(service, new NewCheck("Bad", Subsystem.Services, Severity.Warning)), "Say when the check is raised");
        await RefusedAsync(() => service.Api.PostAsync("checks/settings", new CheckWish(made.Key, When: "storage.used > 3 %"), WireJson.Default.CheckWish, WireJson.Default.CheckInfo, default), "looks by a probe");
        (await service.SendAsync(HttpMethod.Get, "/api/v1/checks/storage-high/hosts")).Body.ShouldContain("looks by no probe");
        (await service.Api.PostAsync("checks/settings", new CheckWish(made.Key, HoldSeconds: 30), WireJson.Default.CheckWish, WireJson.Default.CheckInfo, default)).Settings.ShouldHaveSingleItem().HoldSeconds.ShouldBe(30);

        static async Task RefusedAsync(Func<Task> act, string says) => (await Should.ThrowAsync<ApiException>(act)).Message.ShouldContain(says);
    }

    [Fact]
    public async Task What_hosts_of_one_place_can_t_reach_together_is_one_line_that_does_not_say_they_went_away()
    {
        await using var service = await TestService.StartAsync();
        foreach (var name in new[] { "plover-log-01", "plover-log-02", "plover-display-01" })
        {
            await service.EnrolAsync(name);
        }
        var hosts = (await service.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items;
        var line = service.Get<AlertLines>().Fold([.. hosts.Select(h => Alert(h, "bridge-router-answers", "Bridge router answers"))], () => hosts).ShouldHaveSingleItem();
        line.What.ShouldBe($"Bridge router answers: 3 of 3 hosts of {line.Place} at about the same time, most likely for one cause.");
        service.Get<AlertLines>().Fold([.. hosts.Select(h => Alert(h, "lost-contact", "Lost contact"))], () => hosts).Single().What.ShouldContain("went away together");

        static AlertInfo Alert(HostSummary h, string check, string name) =>
            new(Guid.CreateVersion7(), h.Id, h.Label, h.SystemName, h.GroupPath, check, name, Subsystem.Reachability, Severity.Warning, AlertState.Open, DateTimeOffset.UtcNow, "x", null, null, DateTimeOffset.UtcNow, null, null, null);
    }

    private static Task<CheckInfo> CheckAsync(TestService service, NewCheck wish) => service.Api.PostAsync("checks", wish, WireJson.Default.NewCheck, WireJson.Default.CheckInfo, default);

    private static async Task<Guid> GroupAsync(TestService service, string path) =>
        (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items.Single(g => g.Path == path).Id;

    private static async Task<IReadOnlyList<ProbeOnHost>> OnHostsAsync(TestService service, string check) =>
        (await service.Api.GetAsync($"checks/{check}/hosts", WireJson.Default.PageProbeOnHost, default)).Items;

    private static async Task<IReadOnlyList<TimelineEntry>> TimelineAsync(TestService service, Guid host) =>
        (await service.Api.GetAsync($"hosts/{host}/timeline", WireJson.Default.PageTimelineEntry, default)).Items;

    private static async Task<List<AlertInfo>> AlertsAsync(TestService service) =>
        [.. (await service.Api.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items.SelectMany(l => l.Alerts).Where(a => a.Check is "ticket-printing-runs" or "backup-is-fresh" or "spool-is-short")];
}
