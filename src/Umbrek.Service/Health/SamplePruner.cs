using System.Linq.Expressions;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Health;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Health;

/// <summary>Forgets samples and roll-ups past their retention, once in a while.</summary>
public sealed partial class SamplePruner(IDatabase database, TimeProvider time, ILogger<SamplePruner> log) : BackgroundService
{
    private static readonly TimeSpan RawSlice = TimeSpan.FromSeconds(30);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(TimeSpan.FromMinutes(10), time);
        while (await timer.WaitForNextTickAsync(stoppingToken).ConfigureAwait(false))
        {
            try
            {
                await PruneAsync(stoppingToken).ConfigureAwait(false);
            }
            catch (Exception e) when (e is not OperationCanceledException)
            {
                Log.Failed(log, e);
            }
        }
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

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Warning, Message = "Old samples could not be removed; tried again in ten minutes")]
        public static partial void Failed(ILogger logger, Exception e);
    }
}
