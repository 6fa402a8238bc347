using System.Linq.Expressions;
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

    /// <summary>Forgets what is past its time, a slice of time after the other: each is a short transaction, so that what comes in waits for none of them.</summary>
    /// <returns>Rows that went.</returns>
    public async Task<int> PruneAsync(CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        await using var db = database.Open();
        var gone = await PruneAsync(db.Samples, s => s.At, RawSlice, now - SampleRules.RawRetention, cancel).ConfigureAwait(false);
        foreach (var span in Enum.GetValues<RollupSpan>())
        {
            gone += await PruneAsync(db.Rollups.Where(r => r.Span == span), r => r.At, span.Length(), now - span.Retention(), cancel).ConfigureAwait(false);
        }
        return gone;
    }

    private static readonly TimeSpan RawSlice = TimeSpan.FromSeconds(30);

    private static async Task<int> PruneAsync<T>(IQueryable<T> rows, Expression<Func<T, DateTimeOffset>> at, TimeSpan slice, DateTimeOffset before, CancellationToken cancel) where T : class
    {
        var gone = 0;
        while (await rows.Select(at).OrderBy(a => a).Select(a => (DateTimeOffset?)a).FirstOrDefaultAsync(cancel).ConfigureAwait(false) is { } oldest && oldest < before)
        {
            var until = oldest + slice < before ? oldest + slice : before;
            var older = Expression.Lambda<Func<T, bool>>(Expression.LessThan(at.Body, Expression.Constant(until)), at.Parameters);
            gone += await rows.Where(older).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        }
        return gone;
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
