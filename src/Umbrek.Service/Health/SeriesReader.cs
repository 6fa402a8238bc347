using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Health;
using Umbrek.Core.Jobs;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>Metrics of a host over any time: from samples, five-minute or hourly roll-ups, whichever is no finer than a graph can show.</summary>
public sealed class SeriesReader(IDatabase database, TimeProvider time)
{
    public const int DefaultPoints = 360;
    public const int MostPoints = 2000;
    private const int MostMarks = 200;
    private static readonly TimeSpan NotRolledYet = TimeSpan.FromHours(1.5);
    private static readonly string[] Usual = ["processor", "memory.used", "storage.used", "load"];

    public async Task<MetricSeries> ReadAsync(Guid hostId, string? metrics, DateTimeOffset? from, DateTimeOffset? to, int? points, CancellationToken cancel)
    {
        var until = (to ?? time.GetUtcNow()).ToUniversalTime();
        var since = (from ?? until.AddHours(-1)).ToUniversalTime();
        var count = points ?? DefaultPoints;
        if (since >= until)
        {
            throw ProblemException.Invalid("The time ends before it starts; give 'from' before 'to'.");
        }
        if (until - since > TimeSpan.FromDays(400))
        {
            throw ProblemException.Invalid("A series reaches over 400 days at most; figures are kept for 13 months.");
        }
        if (count is < 1 or > MostPoints)
        {
            throw ProblemException.Invalid($"A series has 1 to {MostPoints} points, not {count}.");
        }
        var wanted = ReadMetrics(metrics);
        var step = (until - since) / count;
        await using var db = database.Open();
        // Raw samples are kept for two days, and drawn as they are for a few hours only.
        var source = step < RollupSpan.FiveMinutes.Length() / 2 && since > time.GetUtcNow() - SampleRules.RawRetention ? await SamplesAsync(db, hostId, since, until, cancel).ConfigureAwait(false)
            : await RollupsAsync(db, hostId, step < RollupSpan.Hour.Length() && since > time.GetUtcNow() - RollupSpan.FiveMinutes.Retention() ? RollupSpan.FiveMinutes : RollupSpan.Hour, wanted, since, until, cancel).ConfigureAwait(false);
        var stepSeconds = Math.Max(1, (int)Math.Ceiling(step.TotalSeconds));
        var begin = since.ToUnixTimeSeconds() / stepSeconds * stepSeconds;
        var at = new List<long>();
        for (var t = begin; t < until.ToUnixTimeSeconds(); t += stepSeconds)
        {
            at.Add(t);
        }
        var lines = new Dictionary<(byte, string), LineInHand>();
        foreach (var (when, rollup) in source)
        {
            var slot = (int)((when.ToUnixTimeSeconds() - begin) / stepSeconds);
            if (slot < 0 || slot >= at.Count)
            {
                continue;
            }
            foreach (var figure in rollup.Figures.Where(f => wanted.Contains(f.Metric)))
            {
                (lines.TryGetValue((figure.Metric.Code, figure.Part), out var line) ? line : lines[(figure.Metric.Code, figure.Part)] = new LineInHand(figure.Metric, figure.Part, at.Count)).Add(slot, figure, rollup.Count);
            }
        }
        return new MetricSeries(since, until, stepSeconds, at, [.. lines.OrderBy(l => l.Key.Item1).ThenBy(l => l.Key.Item2, StringComparer.Ordinal).Select(l => l.Value.ToLine())], await MarksAsync(db, hostId, since, until, cancel).ConfigureAwait(false));
    }

    private static HashSet<Metric> ReadMetrics(string? text)
    {
        if (string.IsNullOrWhiteSpace(text))
        {
            return [.. Usual.Select(n => Metric.Find(n)!)];
        }
        return [.. text.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries).Select(n => Metric.Find(n)
            ?? throw ProblemException.Invalid($"'{n}' is no metric. There are {string.Join(", ", Metric.All.Select(m => m.Name))}."))];
    }

    private static async Task<List<(DateTimeOffset, Rollup)>> SamplesAsync(UmbrekContext db, Guid hostId, DateTimeOffset since, DateTimeOffset until, CancellationToken cancel)
    {
        var rows = await db.Samples.AsNoTracking().Where(s => s.HostId == hostId && s.At >= since && s.At < until).OrderBy(s => s.At).Select(s => s.Sample).ToListAsync(cancel).ConfigureAwait(false);
        return [.. rows.Select(r => JsonSerializer.Deserialize(r, WireJson.Default.Sample)).OfType<Sample>().Select(s => (s.At, Rollup.Of([s])))];
    }

    private static async Task<List<(DateTimeOffset, Rollup)>> RollupsAsync(UmbrekContext db, Guid hostId, RollupSpan span, HashSet<Metric> wanted, DateTimeOffset since, DateTimeOffset until, CancellationToken cancel)
    {
        var rows = await db.Rollups.AsNoTracking().Where(r => r.HostId == hostId && r.Span == span && r.At >= since && r.At < until).OrderBy(r => r.At).Select(r => new { r.At, r.Figures }).ToListAsync(cancel).ConfigureAwait(false);
        var found = rows.ConvertAll(r => (r.At, Rollup.Decode(r.Figures, wanted)));
        // The latest part of time is not rolled up yet: there the samples themselves stand in.
        var rolled = found.Count > 0 ? found[^1].At + span.Length() : since;
        var latest = until - NotRolledYet > rolled ? until - NotRolledYet : rolled;
        found.AddRange(await SamplesAsync(db, hostId, latest, until, cancel).ConfigureAwait(false));
        return found;
    }

    private static async Task<List<SeriesMark>> MarksAsync(UmbrekContext db, Guid hostId, DateTimeOffset since, DateTimeOffset until, CancellationToken cancel)
    {
        var alerts = await db.Alerts.AsNoTracking().Where(a => a.HostId == hostId && a.RaisedAt < until && (a.State < AlertState.Cleared || a.StateAt >= since)).OrderByDescending(a => a.RaisedAt).Take(MostMarks).ToListAsync(cancel).ConfigureAwait(false);
        var runs = await db.Runs.AsNoTracking().Where(r => r.HostId == hostId && r.StartedAt >= since && r.StartedAt < until).OrderByDescending(r => r.StartedAt).Take(MostMarks)
            .Join(db.Jobs, r => r.JobId, j => j.Id, (r, j) => new { r.StartedAt, r.EndedAt, r.State, j.Command, j.CreatedBy }).ToListAsync(cancel).ConfigureAwait(false);
        return [.. alerts.Select(a => new SeriesMark(a.RaisedAt, a.State == AlertState.Cleared ? a.StateAt : null, "alert", a.CheckName, a.Severity))
            .Concat(runs.Select(r => new SeriesMark(r.StartedAt!.Value, r.EndedAt, "job", $"{JsonSerializer.Deserialize(r.Command, WireJson.Default.CommandSpec)!.Display()} ({r.CreatedBy})", null))).OrderBy(m => m.At)];
    }

    private sealed class LineInHand(Metric metric, string part, int points)
    {
        private readonly double?[] min = new double?[points];
        private readonly double?[] max = new double?[points];
        private readonly (double Sum, int Count)[] sums = new (double, int)[points];

        public void Add(int slot, RollupFigure figure, int count)
        {
            min[slot] = Math.Min(min[slot] ?? double.MaxValue, figure.Min);
            max[slot] = Math.Max(max[slot] ?? double.MinValue, figure.Max);
            sums[slot] = (sums[slot].Sum + (double)figure.Mean * count, sums[slot].Count + count);
        }

        public MetricLine ToLine() => new(metric.Name, part, metric.Unit, [.. min.Select(Short)], [.. sums.Select(s => s.Count == 0 ? null : Short(s.Sum / s.Count))], [.. max.Select(Short)]);

        private static double? Short(double? value) => value is { } v ? Math.Round(v, 2) : null;
    }
}
