using System.Diagnostics;
using Microsoft.EntityFrameworkCore;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Service.Estate;
using Umbrek.Service.Health;
using Umbrek.Service.Storage;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Health;

namespace Umbrek.Bench.Health;

/// <summary>What checking a whole estate costs, what folding its alerts costs, and what a year of a host's figures costs to draw.</summary>
internal static class HealthBench
{
    private const int Hosts = 10_000;
    private const int Times = 9;

    public static async Task RunAsync()
    {
        Console.WriteLine("-- health");
        Checking();
        Folding();
        await DrawingAsync();
        await NoticeBench.RunAsync();
    }

    /// <summary>Every built-in check on every host, beside one selection over the same hosts, as a listing asks it.</summary>
    private static void Checking()
    {
        var now = DateTimeOffset.UtcNow;
        SelectableHost[] hosts = [.. Scenario.Hosts(Hosts).Select(h => new SelectableHost(h.Name, h.Name, h.GroupPath, PresenceState.Linked) { LastSeenAt = now, SampledAt = now, Health = EstateIndex.Figures(SimulatedHealth.At(h, now)) })];
        var checks = BuiltInChecks.All.Select(c => new EffectiveCheck(c.Key, c.Name, c.Subsystem, c.Severity, c.Rule, c.Say)).ToArray();
        var listing = SelectionParser.Parse("storage.used > 90 % and is linked", out _)!;
        var bad = 0;
        double All(Func<SelectableHost, int> ask) => Figures.Median(Enumerable.Range(0, Times).Select(_ =>
        {
            var began = Stopwatch.GetTimestamp();
            foreach (var host in hosts)
            {
                bad += ask(host);
            }
            return Stopwatch.GetElapsedTime(began).TotalMilliseconds;
        }).ToList());
        var ours = All(h => checks.Count(c => CheckState.Calm.Step(c.Read(h, null, now), c.Rule.Hold, now) != CheckState.Calm));
        var reference = All(h => listing.Matches(h, now) ? 1 : 0);
        Figures.Line($"{checks.Length} checks on {Hosts} hosts", ours, reference * checks.Length, "ms", "");
        if (bad == 0)
        {
            throw new InvalidOperationException("Nothing was bad anywhere.");
        }
    }

    /// <summary>Alerts of a bad day folded, beside putting the same rows in order.</summary>
    private static void Folding()
    {
        var now = DateTimeOffset.UtcNow;
        var below = Scenario.Hosts(Hosts).CountBy(h => h.GroupPath).ToDictionary();
        FoldableAlert[] alerts = [.. Scenario.Hosts(Hosts).Select((h, i) => new FoldableAlert(Guid.CreateVersion7(), new Guid(i, 0, 0, new byte[8]), h.GroupPath, i % 3 == 0 ? "storage-high" : "lost-contact", i % 3 == 0 ? Subsystem.Storage : Subsystem.Reachability, (Severity)(i % 3), now.AddSeconds(-i % 600)))];
        double Each(Action act) => Figures.Median(Enumerable.Range(0, Times).Select(_ =>
        {
            var began = Stopwatch.GetTimestamp();
            act();
            return Stopwatch.GetElapsedTime(began).TotalMilliseconds;
        }).ToList());
        var sum = 0;
        Figures.Line(
            $"{alerts.Length} alerts folded",
            Each(() => sum += AlertFolding.Fold(alerts, p => below.GetValueOrDefault(p, 1)).Count),
            Each(() => sum += alerts.OrderByDescending(a => a.Severity).ThenByDescending(a => a.RaisedAt).ThenBy(a => a.Id).ToList().Count), "ms", "");
    }

    /// <summary>A year of one host's hourly roll-ups as a graph has them, beside the bare rows; and what rolling up a host's five minutes costs.</summary>
    private static async Task DrawingAsync()
    {
        using var directory = new Scratch();
        var database = new SqliteDatabase(Path.Combine(directory.Path, "health.db"));
        await using (var db = database.Open())
        {
            await db.Database.MigrateAsync();
        }
        var now = RollupSpan.Hour.Floor(DateTimeOffset.UtcNow);
        var hosts = Scenario.Hosts(20).Select(h => (Id: Guid.CreateVersion7(), Host: h)).ToList();
        foreach (var (id, host) in hosts)
        {
            var batch = new BulkBatch();
            for (var hour = 0; hour < 365 * 24; hour++)
            {
                var at = now.AddHours(-hour);
                batch.Rollups.Add(new RollupRow { HostId = id, Span = RollupSpan.Hour, At = at, Figures = Rollup.Of([SimulatedHealth.At(host, at)]).Encode() });
            }
            await database.Bulk.WriteAsync(batch, default);
        }
        var reader = new SeriesReader(database, TimeProvider.System);
        async Task<double> EachAsync(Func<Guid, Task<int>> ask)
        {
            var taken = new List<double>();
            foreach (var (id, _) in hosts)
            {
                var began = Stopwatch.GetTimestamp();
                if (await ask(id) < 300)
                {
                    throw new InvalidOperationException("A year is missing.");
                }
                taken.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
            }
            return Figures.Median(taken);
        }
        var from = now.AddDays(-365);
        var bare = await EachAsync(async id =>
        {
            await using var db = database.Open();
            return (await db.Rollups.AsNoTracking().Where(r => r.HostId == id && r.Span == RollupSpan.Hour && r.At >= from).Select(r => r.Figures).ToListAsync()).Count;
        });
        var drawn = await EachAsync(async id => (await reader.ReadAsync(id, null, from, now, 730, default)).At.Count);
        Figures.Line("a year of a host's figures", drawn, bare, "ms", "under 100 ms");

        var samples = Enumerable.Range(0, 20).Select(i => SimulatedHealth.At(hosts[0].Host, now.AddSeconds(15 * i))).ToList();
        var began = Stopwatch.GetTimestamp();
        for (var i = 0; i < 2000; i++)
        {
            Rollup.Of(samples).Encode();
        }
        Figures.Alone("a host's five minutes rolled up", Stopwatch.GetElapsedTime(began).TotalMicroseconds / 2000, "µs", "");
    }
}
