using Microsoft.Extensions.Time.Testing;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Service.Estate;
using Umbrek.Service.Health;
using Umbrek.Service.Links;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Service.Tests.Storage;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Tests.Health;

/// <summary>Alerts from what hosts report to what people decide, in a service whose clock the test turns.</summary>
public abstract class AlertTests
{
    private readonly FakeTimeProvider time = new(DateTimeOffset.UtcNow);

    /// <returns>Null is the embedded database.</returns>
    protected abstract string? NewDatabase();

    private Task<TestService> StartAsync(TimeProvider clock) => TestService.StartAsync(clock, NewDatabase());

    [Fact]
    public async Task A_disk_that_stays_full_raises_an_alert_that_says_what_to_do_and_clears_by_itself()
    {
        await using var service = await StartAsync(time);
        var host = await LinkedAsync(service, "ripening-climate-02");
        var line = await RaisedAsync(service, host, 92, "storage-high");
        line.What.ShouldStartWith("/ of ripening-climate-02 is 92 % full: 8.00 GiB are left.");
        (line.Severity, line.State, line.Place).ShouldBe((Severity.Warning, AlertState.Open, null));
        (line.RaisedAt - host.JoinedAt).ShouldBeGreaterThanOrEqualTo(TimeSpan.FromMinutes(5));
        var detail = await service.Api.GetAsync($"alerts/{line.Alerts[0].Id}", WireJson.Default.AlertDetail, default);
        detail.Graph.ShouldBe(new AlertGraph("storage.used", "/", 90, Relation.Above));
        detail.Alert.Fix!.ShouldContain("du -xh");

        // Between the two lines it stays; below the lower one it goes.
        await SampleAsync(service, host, 89);
        time.Advance(TimeSpan.FromMinutes(10));
        await SampleAsync(service, host, 89);
        (await AlertsAsync(service)).ShouldHaveSingleItem();
        await UntilAsync(service, host, 70, async () => (await AlertsAsync(service)).Count == 0, "the alert to clear");
        var over = (await service.Api.GetAsync("alerts?all=true", WireJson.Default.PageAlertLine, default)).Items.ShouldHaveSingleItem();
        (over.State, over.Alerts[0].StateBy).ShouldBe((AlertState.Cleared, null));
        (await service.Api.GetAsync($"hosts/{host.Id}/timeline", WireJson.Default.PageTimelineEntry, default)).Items.ShouldContain(e => e.Kind == HostEventKind.Alerted);
    }

    [Fact]
    public async Task What_people_decide_is_kept_audited_and_over_a_restart()
    {
        await using var service = await StartAsync(time);
        var host = await LinkedAsync(service, "ripening-climate-02");
        var alert = (await RaisedAsync(service, host, 92, "storage-high")).Alerts[0];

        var seen = await ActAsync(service, new AlertAct([alert.Id], AlertActKind.Acknowledge, Note: "cleaning up at noon"));
        (seen.State, seen.StateBy, seen.Note).ShouldBe((AlertState.Acknowledged, TestService.Name, "cleaning up at noon"));
        await service.RestartAsync();
        (await AlertsAsync(service)).ShouldHaveSingleItem().State.ShouldBe(AlertState.Acknowledged);

        await ActAsync(service, new AlertAct([alert.Id], AlertActKind.Snooze, time.GetUtcNow().AddHours(1).ToOffset(TimeSpan.FromHours(2))));
        service.Get<EstateIndex>().Linked(host.Id, host.Name, "0.1.0", null, time.GetUtcNow());
        await UntilAsync(service, host, 92, async () => (await AlertsAsync(service)).Single().State == AlertState.Open, "the snooze to end", TimeSpan.FromMinutes(5));

        (await ActAsync(service, new AlertAct([alert.Id], AlertActKind.Dismiss, Note: "it is meant to be full"))).State.ShouldBe(AlertState.Dismissed);
        (await AlertsAsync(service)).ShouldBeEmpty();
        // It is not raised again while its cause is there, and is once it has been gone.
        time.Advance(TimeSpan.FromMinutes(20));
        await SampleAsync(service, host, 93);
        (await AlertsAsync(service)).ShouldBeEmpty();
        await UntilAsync(service, host, 50, () => Task.FromResult(service.Get<AlertBook>().Current.Count == 0), "it to clear");
        (await RaisedAsync(service, host, 95, "storage-high")).Alerts[0].Id.ShouldNotBe(alert.Id);

        var lines = (await service.Api.GetAsync("audit?action=alert", WireJson.Default.PageAuditInfo, default)).Items;
        lines.Select(l => l.Action).ShouldBe(["alert.dismiss", "alert.snooze", "alert.acknowledge"]);
        lines[0].Target.ShouldBe("Storage nearly full on ripening-climate-02 in Saltmarsh Ferry/Quay");
    }

    [Fact]
    public async Task Bad_decisions_change_nothing_and_say_what_to_do()
    {
        await using var service = await StartAsync(time);
        var host = await LinkedAsync(service, "ripening-climate-02");
        var alert = (await RaisedAsync(service, host, 92, "storage-high")).Alerts[0];
        async Task<string> RefusedAsync(AlertAct act, ApiClient? by = null) => (await Should.ThrowAsync<ApiException>(() => ActAsync(service, act, by))).Message;
        (await RefusedAsync(new AlertAct([], AlertActKind.Acknowledge))).ShouldContain("1 to 1000 alerts");
        (await RefusedAsync(new AlertAct([alert.Id], AlertActKind.Dismiss))).ShouldContain("Say why it is dismissed");
        (await RefusedAsync(new AlertAct([alert.Id], AlertActKind.Snooze, time.GetUtcNow().AddMinutes(-1)))).ShouldContain("in the future");
        (await RefusedAsync(new AlertAct([alert.Id], AlertActKind.Snooze, time.GetUtcNow().AddDays(400)))).ShouldContain("at most 90 days");
        (await RefusedAsync(new AlertAct([alert.Id, Guid.NewGuid()], AlertActKind.Acknowledge))).ShouldContain("alert");
        using var viewer = await service.JoinedByAsync("priya", "viewer");
        (await RefusedAsync(new AlertAct([alert.Id], AlertActKind.Acknowledge), viewer)).ShouldContain("configure");
        using var stranger = await service.JoinedByAsync("tomasz", "technician", "Copperbeech Libraries");
        await RefusedAsync(new AlertAct([alert.Id], AlertActKind.Acknowledge), stranger);
        (await AlertsAsync(service)).ShouldHaveSingleItem().State.ShouldBe(AlertState.Open);
        (await stranger.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items.ShouldBeEmpty();
        (await service.SendAsync(HttpMethod.Get, "/api/v1/alerts?state=loud")).Body.ShouldContain("open, acknowledged, snoozed, cleared, dismissed");
    }

    [Fact]
    public async Task Hosts_that_go_away_together_are_one_line_and_clear_when_they_return()
    {
        await using var service = await StartAsync(time);
        var hosts = new List<Joined>();
        for (var i = 1; i <= 4; i++)
        {
            hosts.Add(await LinkedAsync(service, $"dunlin-display-0{i}"));
        }
        var estate = service.Get<EstateIndex>();
        hosts.ForEach(h => estate.Unlinked(h.Id, AwayReason.None, time.GetUtcNow()));
        await UntilAsync(async () => (await AlertsAsync(service)) is [{ Alerts.Count: 4 }], "one line");
        var line = (await AlertsAsync(service)).Single();
        (line.Place, line.Severity).ShouldBe(("Saltmarsh Ferry", Severity.Critical));
        line.What.ShouldStartWith("4 of 4 hosts of Saltmarsh Ferry went away together");
        var overview = await service.Api.GetAsync("overview", WireJson.Default.HealthOverview, default);
        overview.Places.Single(p => p.Path == "Saltmarsh Ferry").ShouldSatisfyAllConditions(p => p.Lost.ShouldBe(4), p => p.Subsystems.ShouldHaveSingleItem().ShouldBe(new SubsystemState(Subsystem.Reachability, Severity.Critical, 4, 4)));

        // One that was shut down on purpose is no trouble.
        hosts.ForEach(h => estate.Linked(h.Id, h.Name, "0.1.0", null, time.GetUtcNow()));
        await UntilAsync(async () => (await AlertsAsync(service)).Count == 0, "the line to clear");
        estate.Unlinked(hosts[0].Id, AwayReason.HostShuttingDown, time.GetUtcNow());
        time.Advance(TimeSpan.FromMinutes(10));
        await service.Get<AlertBook>().WakeAsync(default);
        (await AlertsAsync(service)).ShouldBeEmpty();
    }

    [Fact]
    public async Task A_place_may_switch_a_check_off_and_another_may_have_its_own_rule()
    {
        await using var service = await StartAsync(time);
        var host = await LinkedAsync(service, "ripening-climate-02");
        await RaisedAsync(service, host, 92, "storage-high");
        var quay = (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items.Single(g => g.Path == TestService.Group).Id;
        var set = await SayAsync(service, new CheckWish("storage-high", GroupId: quay, Off: true, Note: "a logger is meant to be full"));
        set.Settings.ShouldHaveSingleItem().Place.ShouldBe(TestService.Group);
        await UntilAsync(service, host, 92, async () => (await AlertsAsync(service)).Count == 0, "the alert to go with its check");
        (await service.Api.GetAsync("alerts?all=true", WireJson.Default.PageAlertLine, default)).Items.Single().Alerts[0].Note.ShouldBe("the check was switched off here");

        // The host's own word counts more than its group's.
        await SayAsync(service, new CheckWish("storage-high", HostId: host.Id, Off: false, When: "storage.used > 60 %", HoldSeconds: 30, Severity: Severity.Critical));
        (await RaisedAsync(service, host, 70, "storage-high")).Severity.ShouldBe(Severity.Critical);
        (await SayAsync(service, new CheckWish("storage-high", HostId: host.Id))).Settings.Count.ShouldBe(1);
        await UntilAsync(service, host, 70, async () => (await AlertsAsync(service)).Count == 0, "what is above to count again");

        async Task<string> RefusedAsync(CheckWish wish) => (await Should.ThrowAsync<ApiException>(() => SayAsync(service, wish))).Message;
        (await RefusedAsync(new CheckWish("storage-hihg", Off: true))).ShouldContain("check");
        (await RefusedAsync(new CheckWish("storage-high", When: "storage.used > 60 GiB"))).ShouldContain("%");
        (await RefusedAsync(new CheckWish("storage-high", HoldSeconds: 1))).ShouldContain("10 seconds at least");
        (await RefusedAsync(new CheckWish("storage-high", Until: "storage.used < 60 %"))).ShouldContain("give 'when' too");
        (await RefusedAsync(new CheckWish("storage-high", When: "all"))).ShouldContain("for ever");
        (await RefusedAsync(new CheckWish("storage-high", When: "fact os.version = 12"))).ShouldContain("os.version");
    }

    [Fact]
    public async Task A_check_of_ones_own_is_tried_on_the_past_before_it_counts()
    {
        await using var service = await StartAsync(time);
        var host = await LinkedAsync(service, "dome-capture-02");
        var start = RollupSpan.FiveMinutes.Floor(time.GetUtcNow()).AddHours(-6);
        // Hot for the second and the fourth hour.
        await service.Get<Intake>().SamplesAsync(host.Id, [.. Enumerable.Range(0, 360).Select(m => Sample(start.AddMinutes(m), 40) with { TemperatureCelsius = m / 60 is 1 or 3 ? 90 : 60 })]);
        await UntilAsync(async () => (await service.Api.GetAsync($"hosts/{host.Id}/series?metrics=temperature&from={start:yyyy-MM-ddTHH:mm:ssZ}&points=60", WireJson.Default.MetricSeries, default)).Lines.Count > 0
            && (await TryAsync(service, "temperature > 80", 600)).Alerts == 2, "the roll-ups");
        var result = await TryAsync(service, "temperature > 80", 600);
        (result.Alerts, result.Hosts, result.HostsLooked).ShouldBe((2, 1, 1));
        result.Times[^1].RaisedAt.ShouldBe(start.AddMinutes(75));
        result.Times[^1].ClearedAt.ShouldBe(start.AddMinutes(135));
        (await TryAsync(service, "temperature > 80", 3600 * 2)).Alerts.ShouldBe(0);
        (await TryAsync(service, "temperature > 80 and service.failed = x", 600)).Note!.ShouldContain("only the present is kept");

        var made = await service.Api.PostAsync("checks", new NewCheck("Capture runs warm", Subsystem.Hardware, Severity.Warning, "temperature > 55", HoldSeconds: 10, Fix: "Open the dome's vent."), WireJson.Default.NewCheck, WireJson.Default.CheckInfo, default);
        made.Key.ShouldBe("capture-runs-warm");
        (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("checks", new NewCheck("Capture runs warm", Subsystem.Hardware, Severity.Warning, "temperature > 55"), WireJson.Default.NewCheck, WireJson.Default.CheckInfo, default))).Message.ShouldContain("already");
        await UntilAsync(service, host, 40, async () => (await AlertsAsync(service)) is [{ What: "dome-capture-02: Capture runs warm (temperature > 55)." }], "its alert", warm: 60);
        (await AlertsAsync(service)).Single().Alerts[0].Fix.ShouldBe("Open the dome's vent.");
        await service.Api.ActAsync(HttpMethod.Delete, $"checks/{made.Id}", default);
        await UntilAsync(service, host, 40, async () => (await AlertsAsync(service)).Count == 0, "it to go");
    }

    [Fact]
    public async Task A_disk_that_fills_is_seen_days_before_it_is_full()
    {
        await using var service = await StartAsync(time);
        var host = await LinkedAsync(service, "ripening-climate-02");
        var now = time.GetUtcNow();
        // A day of samples, 10 % a day, to 85 %: full in a day and a half.
        var samples = Enumerable.Range(0, 24 * 12).Select(i => Sample(now.AddMinutes(5 * i - 24 * 60), 75 + i / 28.8)).ToList();
        foreach (var part in samples.Chunk(20))
        {
            await service.Get<Intake>().SamplesAsync(host.Id, part);
        }
        await UntilAsync(service, host, 85, async () => (await AlertsAsync(service)) is [{ Alerts: [{ Check: "storage-filling" }] }], "the alert");
        var what = (await AlertsAsync(service)).Single().What;
        what.ShouldContain("will be full in 1 d");
        what.ShouldContain(time.GetUtcNow().AddDays(1.5).ToString("dddd", System.Globalization.CultureInfo.InvariantCulture));
        (await service.Api.GetAsync($"hosts?selection={Uri.EscapeDataString("storage.full-in < 2 d")}", WireJson.Default.PageHostSummary, default)).Items.ShouldHaveSingleItem();
        (await service.Api.GetAsync($"hosts?selection={Uri.EscapeDataString("storage.full-in < 1 d")}", WireJson.Default.PageHostSummary, default)).Items.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_service_that_has_failed_is_told_with_its_name()
    {
        await using var service = await StartAsync(time);
        var host = await LinkedAsync(service, "quay-ticket-03");
        await FailedAsync("ticket-print.service");
        await UntilAsync(service, host, 40, async () => (await AlertsAsync(service)).Count == 1, "the alert");
        (await AlertsAsync(service)).Single().What.ShouldBe("ticket-print.service on quay-ticket-03 has failed.");
        await FailedAsync();
        await UntilAsync(service, host, 40, async () => (await AlertsAsync(service)).Count == 0, "it to clear");

        async Task FailedAsync(params string[] units) =>
            await service.Get<Intake>().FactsAsync(host.Id, [new Fact(FactNames.ServicesFailed, System.Text.Json.JsonSerializer.SerializeToElement(units), time.GetUtcNow())]);
    }

    [Fact]
    public async Task A_trend_counts_the_alerts_of_each_hour_that_somebody_may_see()
    {
        await using var service = await StartAsync(time);
        var host = await LinkedAsync(service, "ripening-climate-02");
        await RaisedAsync(service, host, 92, "storage-high");
        time.Advance(TimeSpan.FromHours(3));
        service.Get<EstateIndex>().Linked(host.Id, host.Name, "0.1.0", null, time.GetUtcNow());
        await UntilAsync(service, host, 50, async () => (await AlertsAsync(service)).Count == 0, "it to clear");
        time.Advance(TimeSpan.FromHours(2));
        // The roll-ups' writer, which may just be at the hours that went by, has no trend for it.
        var trend = new HealthTrend(default, 0, [], [], [], [], []);
        await Wait.UntilAsync(async () =>
        {
            service.Get<EstateIndex>().Fills(host.Id, time.GetUtcNow().AddDays(2));
            trend = await TrendAsync(service.Api);
            return trend.Filling.Count > 0;
        }, "the host to fill up");
        (trend.StepSeconds, trend.At.Count).ShouldBe((3600, 48));
        // It was there for some three hours, which lie in four or five of the clock's, and is over.
        trend.Warning.Count(n => n == 1).ShouldBeInRange(4, 5);
        trend.Warning[^1].ShouldBe(0);
        trend.Critical.Concat(trend.Information).ShouldAllBe(n => n == 0);
        (DateTimeOffset.FromUnixTimeSeconds(trend.At[^1]) <= time.GetUtcNow()).ShouldBeTrue();
        trend.Filling.ShouldHaveSingleItem().Label.ShouldBe("ripening-climate-02");
        (await service.Api.GetAsync("overview/trend?days=30&path=Copperbeech%20Libraries", WireJson.Default.HealthTrend, default)).Warning.ShouldAllBe(n => n == 0);
        using var stranger = await service.JoinedByAsync("tomasz", "technician", "Copperbeech Libraries");
        var theirs = await TrendAsync(stranger);
        theirs.Warning.ShouldAllBe(n => n == 0);
        theirs.Filling.ShouldBeEmpty();
        (await service.SendAsync(HttpMethod.Get, "/api/v1/overview/trend?days=900")).Body.ShouldContain("1 to 30 days");
        (await stranger.Http.GetAsync(new Uri(service.Address, "api/v1/overview/trend?path=Saltmarsh%20Ferry"))).StatusCode.ShouldBe(System.Net.HttpStatusCode.NotFound);

        static Task<HealthTrend> TrendAsync(ApiClient who) => who.GetAsync("overview/trend?days=2", WireJson.Default.HealthTrend, default);
    }

    [Fact]
    public async Task Whoever_gathers_figures_gets_those_of_hosts_that_he_may_see_as_OpenMetrics()
    {
        await using var service = await StartAsync(time);
        var host = await LinkedAsync(service, "ripening-climate-02");
        await RaisedAsync(service, host, 92, "storage-high");
        var answer = await service.SendAsync(HttpMethod.Get, "/api/v1/metrics");
        answer.Response.Content.Headers.ContentType!.ToString().ShouldBe("application/openmetrics-text; version=1.0.0; charset=utf-8");
        const string labels = "host=\"ripening-climate-02\",system=\"ripening-climate-02\",customer=\"Saltmarsh Ferry\",group=\"Saltmarsh Ferry/Quay\"";
        var lines = answer.Body.Split('\n');
        lines.ShouldContain($"umbrek_host_linked{{{labels}}} 1");
        lines.ShouldContain($"umbrek_host_storage_used_percent{{{labels},part=\"/\"}} 92");
        lines.ShouldContain($"umbrek_host_memory_free_bytes{{{labels}}} {2L << 30}");
        lines.ShouldContain("umbrek_alerts{severity=\"warning\",state=\"open\"} 1");
        answer.Body.ShouldEndWith("# EOF\n");
        // Each family is told once, before its lines (OpenMetrics §5).
        lines.Where(l => l.StartsWith("# TYPE ", StringComparison.Ordinal)).ShouldBeUnique();
        lines.ShouldAllBe(l => l.Length == 0 || l.StartsWith('#') || System.Text.RegularExpressions.Regex.IsMatch(l, "^[a-z_]+(\\{[a-z]+=\"[^\"]*\"(,[a-z]+=\"[^\"]*\")*\\})? -?[0-9.E+-]+$"));
        // An old sample says nothing of now.
        time.Advance(TimeSpan.FromMinutes(6));
        (await service.SendAsync(HttpMethod.Get, "/api/v1/metrics")).Body.ShouldNotContain("umbrek_host_storage_used_percent{");
        using var stranger = await service.JoinedByAsync("tomasz", "technician", "Copperbeech Libraries");
        (await stranger.Http.GetStringAsync(new Uri(service.Address, "api/v1/metrics"))).ShouldNotContain("ripening");
    }

    private sealed record Joined(Guid Id, string Name, DateTimeOffset JoinedAt);

    /// <summary>A host that counts as linked, without a link of its own.</summary>
    private async Task<Joined> LinkedAsync(TestService service, string name)
    {
        var (identity, _) = await service.EnrolAsync(name);
        service.Get<EstateIndex>().Linked(identity.HostId, name, "0.1.0", null, time.GetUtcNow());
        return new Joined(identity.HostId, name, time.GetUtcNow());
    }

    private static Sample Sample(DateTimeOffset at, double storagePercent) => new()
    {
        At = at,
        ProcessorPercent = 12,
        MemoryTotalBytes = 4L << 30,
        MemoryAvailableBytes = 2L << 30,
        FileSystems = [new FileSystemSample("/", "ext4", 100L << 30, (long)(storagePercent * (1L << 30)), (long)((100 - storagePercent) * (1L << 30)))],
    };

    private ValueTask SampleAsync(TestService service, Joined host, double storagePercent, double? warm = null) =>
        service.Get<Intake>().SamplesAsync(host.Id, [Sample(time.GetUtcNow(), storagePercent) with { TemperatureCelsius = warm }]);

    /// <summary>Lets time go by, with a sample at each step.</summary>
    private Task UntilAsync(TestService service, Joined host, double storagePercent, Func<Task<bool>> until, string what, TimeSpan? step = null, double? warm = null) => Wait.UntilAsync(
        async () =>
        {
            await SampleAsync(service, host, storagePercent, warm);
            time.Advance(step ?? TimeSpan.FromSeconds(15));
            return await until();
        },
        what);

    private Task UntilAsync(Func<Task<bool>> until, string what) => Wait.UntilAsync(
        async () =>
        {
            time.Advance(TimeSpan.FromSeconds(5));
            return await until();
        },
        what);

    private async Task<AlertLine> RaisedAsync(TestService service, Joined host, double storagePercent, string check)
    {
        await UntilAsync(service, host, storagePercent, async () => (await AlertsAsync(service)).Any(a => a.Alerts[0].Check == check), $"the alert of {check}");
        return (await AlertsAsync(service)).Single(a => a.Alerts[0].Check == check);
    }

    private static async Task<IReadOnlyList<AlertLine>> AlertsAsync(TestService service) => (await service.Api.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items;

    private static async Task<AlertInfo> ActAsync(TestService service, AlertAct act, ApiClient? by = null) =>
        (await (by ?? service.Api).PostAsync("alerts/acts", act, WireJson.Default.AlertAct, WireJson.Default.PageAlertInfo, default)).Items.Single();

    private static Task<CheckInfo> SayAsync(TestService service, CheckWish wish) =>
        service.Api.PostAsync("checks/settings", wish, WireJson.Default.CheckWish, WireJson.Default.CheckInfo, default);

    private static Task<CheckTrialResult> TryAsync(TestService service, string when, double hold) =>
        service.Api.PostAsync("checks/trial", new CheckTrial(when, null, hold, null, 12), WireJson.Default.CheckTrial, WireJson.Default.CheckTrialResult, default);
}

public sealed class SqliteAlertTests : AlertTests
{
    protected override string? NewDatabase() => null;
}

public sealed class PostgresAlertTests(PostgresServer server) : AlertTests
{
    protected override string? NewDatabase() => server.NewDatabase();
}
