using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Health;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>Reads samples back, thinned to what a graph can show, and forgets those past their time.</summary>
public sealed class SampleService(IDatabase database, TimeProvider time)
{
    public const int DefaultPoints = 240;
    public const int MostPoints = 2000;

    public async Task<SampleSeries> ReadAsync(Guid hostId, DateTimeOffset? from, DateTimeOffset? to, int? points, CancellationToken cancel)
    {
        var until = to ?? time.GetUtcNow();
        var since = from ?? until.AddHours(-1);
        var count = points ?? DefaultPoints;
        if (since >= until)
        {
            throw ProblemException.Invalid("The time ends before it starts; give 'from' before 'to'.");
        }
        if (count is < 1 or > MostPoints)
        {
            throw ProblemException.Invalid($"A series has 1 to {MostPoints} points, not {count}.");
        }
        await using var db = database.Open();
        var rows = await db.Samples.AsNoTracking().Where(s => s.HostId == hostId && s.At >= since && s.At < until).OrderBy(s => s.At)
            .Select(s => new SeriesPoint(s.At, s.ProcessorPercent, s.MemoryUsedPercent, s.StorageUsedPercent, s.Load1))
            .ToListAsync(cancel).ConfigureAwait(false);
        return SeriesThinner.Thin(rows, since, until, count);
    }

    public async Task<int> PruneAsync(CancellationToken cancel)
    {
        var before = time.GetUtcNow() - SampleRules.RawRetention;
        await using var db = database.Open();
        return await db.Samples.Where(s => s.At < before).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
    }
}

internal sealed record SeriesPoint(DateTimeOffset At, double Processor, double Memory, double Storage, double Load1);

/// <summary>Means over equal parts of a time.</summary>
internal static class SeriesThinner
{
    public static SampleSeries Thin(IReadOnlyList<SeriesPoint> rows, DateTimeOffset since, DateTimeOffset until, int points)
    {
        var part = (until - since) / points;
        var parts = rows.GroupBy(r => Math.Min(points - 1, (int)((r.At - since) / part))).OrderBy(g => g.Key).ToList();
        return new SampleSeries(
            since, until,
            [.. parts.Select(g => (since + part * (g.Key + 0.5)).ToUnixTimeSeconds())],
            [.. parts.Select(g => Mean(g, r => r.Processor))],
            [.. parts.Select(g => Mean(g, r => r.Memory))],
            [.. parts.Select(g => Mean(g, r => r.Storage))],
            [.. parts.Select(g => Mean(g, r => r.Load1))]);
    }

    private static double Mean(IEnumerable<SeriesPoint> rows, Func<SeriesPoint, double> value) => Math.Round(rows.Average(value), 2);
}
