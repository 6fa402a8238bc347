using CsCheck;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;

namespace Umbrek.Core.Tests.Health;

public sealed class CheckTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 26, 9, 0, 0, TimeSpan.Zero);
    private static readonly TimeSpan Hold = TimeSpan.FromMinutes(5);

    private static readonly SelectableHost Climate = new("ripening-climate-02", "ripening-climate-02", "Tarn Valley Creamery/Ripening Store", PresenceState.Linked)
    {
        LastSeenAt = Now,
        Health = new HealthFigures(12, 0.4, 40, 4L << 30, 2L << 30, 92.4, 2L << 30, 3600 * 50, 10, 41),
    };

    [Fact]
    public void An_alert_comes_and_goes_only_after_its_hold_time_without_a_break()
    {
        var state = CheckState.Calm;
        state = state.Step(Reading.Bad, Hold, Now);
        state = state.Step(Reading.Bad, Hold, Now.AddMinutes(4));
        state.ShouldBe(new CheckState(false, Now));
        state = state.Step(Reading.Between, Hold, Now.AddMinutes(4.5));
        state.ShouldBe(CheckState.Calm);
        state = state.Step(Reading.Bad, Hold, Now.AddMinutes(5));
        // What can't be told breaks nothing.
        state = state.Step(Reading.Unknown, Hold, Now.AddMinutes(7));
        state = state.Step(Reading.Bad, Hold, Now.AddMinutes(10));
        state.ShouldBe(CheckState.Alarmed);
        state = state.Step(Reading.Unknown, Hold, Now.AddHours(5));
        state = state.Step(Reading.Good, Hold, Now.AddHours(6));
        state.Raised.ShouldBeTrue();
        state.Step(Reading.Good, Hold, Now.AddHours(6).AddMinutes(5)).ShouldBe(CheckState.Calm);
        // A clock that was put back ends no hold.
        state.Step(Reading.Good, Hold, Now).ShouldBe(new CheckState(true, Now));
    }

    [Fact]
    public void Whatever_comes_in_no_alert_turns_more_often_than_its_hold_time_allows() =>
        Gen.Select(Gen.Enum<Reading>(), Gen.Double[-30, 200]).Array[0, 400].Select(Gen.Int[10, 900]).Sample((readings, holdSeconds) =>
        {
            var hold = TimeSpan.FromSeconds(holdSeconds);
            // A clock that is put back makes no time pass: what counts is what went by.
            var (state, now, passed, turns) = (CheckState.Calm, Now, 0.0, new List<double>());
            foreach (var (reading, seconds) in readings)
            {
                now = now.AddSeconds(seconds);
                passed += Math.Max(0, seconds);
                var after = state.Step(reading, hold, now);
                if (after.Raised != state.Raised)
                {
                    turns.Add(passed);
                }
                state = after;
            }
            turns.Prepend(0).Zip(turns).ShouldAllBe(t => t.Second - t.First >= hold.TotalSeconds - 0.001);
        });

    [Fact]
    public void Every_built_in_check_reads_and_says_something_with_the_hosts_own_figures()
    {
        BuiltInChecks.All.Select(c => c.Key).ShouldBeUnique();
        var host = Climate with
        {
            StorageFullAt = Now.AddDays(2),
            AwayFor = AwayReason.LostContact,
            Facts = [(FactNames.ServicesFailed, [new FactValue("ticket-print.service")]), (FactNames.UpdatesPending, [new FactValue("31", 31)]), (FactNames.UpdatesSecurity, [new FactValue("4", 4)])],
        };
        foreach (var check in BuiltInChecks.All)
        {
            check.Rule.Hold.ShouldBeGreaterThanOrEqualTo(CheckRule.LeastHold);
            var text = check.Say(new AlertSubject(host, "/", Now));
            text.What.ShouldContain("ripening-climate-02", Case.Sensitive, check.Key);
            text.Follows!.Length.ShouldBeGreaterThan(20, check.Key);
            text.Fix!.Length.ShouldBeGreaterThan(20, check.Key);
        }
        BuiltInChecks.Find("storage-filling")!.Say(new AlertSubject(host, "/var", Now)).What.ShouldBe("/var of ripening-climate-02 is 92.4 % full and will be full in 2 d, on Saturday 28 November if it goes on like this.");
        BuiltInChecks.Find("service-failed")!.Say(new AlertSubject(host, "/", Now)).Fix!.ShouldContain("systemctl restart ticket-print.service");
    }

    [Fact]
    public void A_rule_tells_bad_good_between_and_not_known_apart()
    {
        var high = BuiltInChecks.Find("storage-high")!.Rule;
        Reading At(double percent) => high.Read(Climate with { Health = Climate.Health! with { StorageUsedPercent = percent } }, Now);
        (At(91), At(89), At(80)).ShouldBe((Reading.Bad, Reading.Between, Reading.Good));
        high.Read(Climate with { Health = null }, Now).ShouldBe(Reading.Between);
        // Without an end of its own it is over when it no longer holds, unless that can't be told.
        var hot = new CheckRule(SelectionParser.Parse("temperature > 60", out _)!, null, Hold);
        hot.Read(Climate, Now).ShouldBe(Reading.Good);
        hot.Read(Climate with { Health = null }, Now).ShouldBe(Reading.Unknown);
        // A disk that does not fill has no time until it is full, and is well for that.
        BuiltInChecks.Find("storage-filling")!.Rule.Read(Climate, Now).ShouldBe(Reading.Good);
        var lost = BuiltInChecks.Find("lost-contact")!.Rule;
        var away = Climate with { Presence = PresenceState.Away, AwayFor = AwayReason.LostContact, LastSeenAt = Now.AddMinutes(-9) };
        (lost.Read(away, Now), lost.Read(away with { AwayFor = AwayReason.HostShuttingDown }, Now), lost.Read(Climate, Now)).ShouldBe((Reading.Bad, Reading.Between, Reading.Good));
        lost.Read(away with { LastSeenAt = Now.AddDays(-9) }, Now).ShouldBe(Reading.Good);
    }

    [Fact]
    public void A_growing_disk_has_a_day_on_which_it_is_full_and_any_other_has_none()
    {
        // 3 % a day, from 80 % two days ago: 86 % now, full in 14/3 days.
        var growing = Enumerable.Range(0, 49).Select(h => (Now.AddHours(h - 48), 80 + h / 24.0 * 3)).ToList();
        FillTrend.FullAt(growing)!.Value.ShouldBe(Now.AddDays(14 / 3.0), TimeSpan.FromMinutes(1));
        FillTrend.FullAt([.. growing.Select(g => (g.Item1, 86.0))]).ShouldBeNull();
        FillTrend.FullAt([.. growing.Select(g => (g.Item1, 166 - g.Item2))]).ShouldBeNull();
        FillTrend.FullAt([.. growing.Select((g, i) => (g.Item1, i % 2 == 0 ? 40.0 : 60))]).ShouldBeNull();
        FillTrend.FullAt([.. growing.Take(5)]).ShouldBeNull();
        FillTrend.FullAt([.. growing.Select(g => (Now, g.Item2))]).ShouldBeNull();
        FillTrend.FullAt([.. growing.Select((g, i) => (g.Item1, 50 + i * 0.0001))]).ShouldBeNull("in more than a year");
    }

    [Fact]
    public void A_line_that_is_down_is_one_alert_and_not_eight()
    {
        FoldableAlert Lost(int n, string path, double minutes, string check = "lost-contact") => new(new Guid(n, 0, 0, new byte[8]), new Guid(n, 1, 0, new byte[8]), path, check, Subsystem.Reachability, Severity.Critical, Now.AddMinutes(minutes));
        var dunlin = Enumerable.Range(1, 8).Select(n => Lost(n, "Saltmarsh Ferry/Vessels/Dunlin", n / 10.0)).ToList();
        var plover = Lost(20, "Saltmarsh Ferry/Vessels/Plover", 1);
        int HostsBelow(string path) => path switch { "Saltmarsh Ferry" => 40, "Saltmarsh Ferry/Vessels" => 16, "Saltmarsh Ferry/Vessels/Dunlin" => 9, _ => 8 };
        var folds = AlertFolding.Fold([.. dunlin, plover], HostsBelow);
        folds.Select(f => (f.Place, f.Alerts.Count)).ShouldBe([("Saltmarsh Ferry/Vessels/Dunlin", 8), (null, 1)], ignoreOrder: true);
        folds.First(f => f.Place is not null).Alerts[0].ShouldBe(dunlin[0]);
        // Six of nine are not the line; nor are eight that went on different days.
        AlertFolding.Fold([.. dunlin.Take(6)], HostsBelow).ShouldAllBe(f => f.Place == null);
        AlertFolding.Fold([.. dunlin.Select((a, i) => a with { RaisedAt = Now.AddDays(i) })], HostsBelow).Count.ShouldBe(8);
        // The whole customer is named when all of it is lost.
        AlertFolding.Fold([.. dunlin, plover], _ => 9).ShouldHaveSingleItem().Place.ShouldBe("Saltmarsh Ferry");
    }

    [Fact]
    public void Alerts_of_one_host_about_one_subsystem_are_one_line_with_the_worst_first()
    {
        var host = Guid.NewGuid();
        FoldableAlert One(Subsystem subsystem, Severity severity) => new(Guid.NewGuid(), host, "A/B", $"{subsystem}{severity}", subsystem, severity, Now);
        var (high, filling, busy) = (One(Subsystem.Storage, Severity.Warning), One(Subsystem.Storage, Severity.Critical), One(Subsystem.Processor, Severity.Warning));
        var folds = AlertFolding.Fold([high, filling, busy], _ => 1);
        folds.Select(f => f.Alerts.Count).ShouldBe([2, 1]);
        folds[0].Alerts.ShouldBe([filling, high]);
    }

    [Fact]
    public void The_same_updates_on_many_hosts_are_one_line()
    {
        FoldableAlert Wanted(int n, string check, Subsystem subsystem) => new(new Guid(n, 2, 0, new byte[8]), new Guid(n, 1, 0, new byte[8]), $"C{n}/Desk", check, subsystem, Severity.Warning, Now);
        var security = Enumerable.Range(1, 5).Select(n => Wanted(n, "security-updates", Subsystem.Security)).ToList();
        AlertFolding.Fold(security, _ => 1).ShouldHaveSingleItem().Place.ShouldBeNull();
        AlertFolding.Fold([.. security.Take(2)], _ => 1).Count.ShouldBe(2);
        // Disks fill for reasons of their own.
        AlertFolding.Fold([.. Enumerable.Range(1, 5).Select(n => Wanted(n, "storage-full", Subsystem.Storage))], _ => 1).Count.ShouldBe(5);
    }

    [Fact]
    public void Folding_loses_no_alert_and_shows_none_twice() =>
        Gen.Select(Gen.Int[0, 6], Gen.Int[0, 3], Gen.Enum<Subsystem>(), Gen.Enum<Severity>(), Gen.Int[0, 60]).Array[0, 60].Sample(rows =>
        {
            var alerts = rows.Select((r, i) => new FoldableAlert(new Guid(i, 0, 0, new byte[8]), new Guid(r.Item1, 9, 0, new byte[8]), r.Item2 == 0 ? "A" : $"A/{r.Item2}", $"c{r.Item3}", r.Item3, r.Item4, Now.AddMinutes(r.Item5))).ToList();
            AlertFolding.Fold(alerts, _ => 3).SelectMany(f => f.Alerts).Select(a => a.Id).Order().ShouldBe(alerts.Select(a => a.Id).Order());
        });

    [Fact]
    public void A_roll_up_holds_least_mean_and_most_of_every_figure_and_comes_back_as_it_was_stored()
    {
        var samples = Enumerable.Range(0, 20).Select(i => new Sample
        {
            At = Now.AddSeconds(15 * i),
            ProcessorPercent = i,
            MemoryTotalBytes = 100,
            MemoryAvailableBytes = 60,
            FileSystems = [new FileSystemSample("/", "ext4", 100, 50, 50, 3), new FileSystemSample("/srv/käse", "ext4", 100, 20, 80)],
            TemperatureCelsius = i < 10 ? null : 50,
        }).ToList();
        var rollup = Rollup.Of(samples);
        rollup.Find("processor").ShouldBe(new RollupFigure(Metric.Find("processor")!, "", 0, 9.5f, 19));
        rollup.Find("storage.used", "/srv/käse")!.Value.Mean.ShouldBe(20);
        rollup.Find("temperature")!.Value.Min.ShouldBe(50);
        rollup.Find("swap.used").ShouldBeNull();
        var back = Rollup.Decode(rollup.Encode());
        back.Count.ShouldBe(20);
        back.Figures.ShouldBe(rollup.Figures);

        var merged = Rollup.Merge([rollup, Rollup.Of([samples[19], samples[19]])]);
        merged.Find("processor").ShouldBe(new RollupFigure(Metric.Find("processor")!, "", 0, (float)((9.5 * 20 + 19 * 2) / 22), 19));
        Should.Throw<InvalidDataException>(() => Rollup.Decode(rollup.Encode().AsSpan()[..^3]));
        Should.Throw<InvalidDataException>(() => Rollup.Decode([]));
        Metric.All.Select(m => m.Code).ShouldBeUnique();
    }
}
