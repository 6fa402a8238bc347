using Microsoft.EntityFrameworkCore;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Jobs;

/// <summary>Removes output past its term, once in a while.</summary>
public sealed partial class OutputPruner(IDatabase database, OutputTerm term, AuditLog audit, TimeProvider time, ILogger<OutputPruner> log) : BackgroundService
{
    /// <summary>So many runs are found by one query.</summary>
    private const int Together = 200;

    /// <summary>So many bytes go in one transaction: what comes in waits for it.</summary>
    private const long MostBytes = 16 << 20;

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(TimeSpan.FromHours(1), time);
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

    /// <returns>Runs whose output went.</returns>
    public async Task<int> PruneAsync(CancellationToken cancel)
    {
        var before = term.Before;
        await using var db = database.Open();
        var gone = 0;
        while (true)
        {
            var runs = await db.Runs.AsNoTracking()
                .Where(r => r.EndedAt < before && db.Jobs.Any(j => j.Id == r.JobId && j.CreatedAt < before) && db.RunOutput.Any(o => o.RunId == r.Id))
                .OrderBy(r => r.Id).Select(r => new { r.Id, Bytes = r.StdoutBytes + r.StderrBytes }).Take(Together).ToListAsync(cancel).ConfigureAwait(false);
            if (runs.Count == 0)
            {
                break;
            }
            for (var at = 0; at < runs.Count;)
            {
                var (part, bytes) = (new List<Guid>(), 0L);
                do
                {
                    part.Add(runs[at].Id);
                    bytes += runs[at++].Bytes;
                }
                while (at < runs.Count && bytes + runs[at].Bytes <= MostBytes);
                await db.RunOutput.Where(o => part.Contains(o.RunId)).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
            }
            gone += runs.Count;
        }
        if (gone > 0)
        {
            await audit.AddAsync(Caller.Service, "output.expire", "everything", cancel, ("runs", $"{gone}"), ("older than", $"{term.Days} days")).ConfigureAwait(false);
        }
        return gone;
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Warning, Message = "Old output could not be removed; tried again in an hour")]
        public static partial void Failed(ILogger logger, Exception e);
    }
}
