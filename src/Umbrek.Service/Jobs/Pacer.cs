using System.Collections.Concurrent;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Jobs;
using Umbrek.Service.Estate;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Wire;

namespace Umbrek.Service.Jobs;

/// <summary>Gives the runs of jobs with a pace their turn: when one has ended, when a host returns, and after a restart.</summary>
public sealed partial class Pacer(IDatabase database, RunBook book, Dispatcher dispatcher, Intake intake, IAgentLinks links, EstateIndex estate, JobFeed feed, TimeProvider time, ILogger<Pacer> log) : BackgroundService
{
    private readonly ConcurrentDictionary<Guid, RunPace> paced = new();

    /// <summary>A new job, which is stored.</summary>
    public void Add(Guid jobId, RunPace pace)
    {
        paced[jobId] = pace;
        feed.Jobs.Publish(jobId);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        using var changes = feed.Jobs.Subscribe();
        try
        {
            await LoadAsync(stoppingToken).ConfigureAwait(false);
            while (true)
            {
                foreach (var jobId in await changes.TakeAsync(stoppingToken).ConfigureAwait(false))
                {
                    if (paced.TryGetValue(jobId, out var pace))
                    {
                        await StepAsync(jobId, pace, stoppingToken).ConfigureAwait(false);
                    }
                }
            }
        }
        catch (OperationCanceledException)
        {
            // The service stops; the database has what is held.
        }
    }

    private async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        foreach (var job in await db.Jobs.AsNoTracking().Where(j => j.Pace != null && db.Runs.Any(r => r.JobId == j.Id && r.Held && r.State == RunState.Waiting)).ToListAsync(cancel).ConfigureAwait(false))
        {
            Add(job.Id, JsonSerializer.Deserialize(job.Pace!, WireJson.Default.RunPace)!);
        }
    }

    private async Task StepAsync(Guid jobId, RunPace pace, CancellationToken cancel)
    {
        try
        {
            var open = book.OfJob(jobId);
            var held = open.Where(r => r.Mark.Held).Select(r => r.RunId).ToList();
            if (held.Count == 0)
            {
                paced.TryRemove(jobId, out _);
                return;
            }
            var inOrder = open.Select(r => (Run: r, Host: estate.Find(r.Mark.HostId)))
                .OrderBy(r => r.Host?.GroupPath, StringComparer.OrdinalIgnoreCase).ThenBy(r => r.Host?.Label, StringComparer.OrdinalIgnoreCase).ThenBy(r => r.Run.RunId)
                .Select(r => new PacedRun(r.Run.RunId, r.Host?.GroupPath ?? "", r.Run.Mark.Held, links.IsLinked(r.Run.Mark.HostId))).ToList();
            if (pace.Next(inOrder, pace.StopAfterFailures is null ? 0 : await FailuresAsync(jobId, cancel).ConfigureAwait(false)) is { } next)
            {
                await dispatcher.ReleaseAsync(next, cancel).ConfigureAwait(false);
                return;
            }
            var now = time.GetUtcNow();
            await intake.MarkAsync(held, m => RunDecisions.Stop(m, now, pace.StopAfterFailures!.Value)).ConfigureAwait(false);
            paced.TryRemove(jobId, out _);
        }
        catch (Exception e) when (e is DbUpdateException or System.Data.Common.DbException)
        {
            // Another change of the job brings the next try.
            Log.StepFailed(log, e, jobId);
        }
    }

    private async Task<int> FailuresAsync(Guid jobId, CancellationToken cancel)
    {
        await using var db = database.Open();
        return await db.Runs.CountAsync(r => r.JobId == jobId && r.State > RunState.Succeeded && r.State != RunState.Cancelled, cancel).ConfigureAwait(false);
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Error, Message = "Whose turn it is in job {JobId} could not be found out; it is tried again when the job changes")]
        public static partial void StepFailed(ILogger logger, Exception e, Guid jobId);
    }
}
