using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Health;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Jobs;
using Umbrek.Service.Storage;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Health;

/// <summary>
/// Makes jobs because of alerts. It goes by what is, not by what happened: what was due while the service was down is done afterwards if the alert is still
/// open, and nothing is done twice, for the job carries the alert's and the reaction's ids as its key.
/// </summary>
public sealed partial class ReactionEngine(IDatabase database, EstateIndex estate, AlertBook alerts, MaintenanceBook maintenance, ReactionBook book, JobService jobs, AccessIndex access, AuditLog audit, TimeProvider time, ILogger<ReactionEngine> log) : AlertWatcher(alerts, maintenance, time)
{
    /// <summary>A host that is away for longer is not mended by what helped then.</summary>
    private static readonly TimeSpan Expiry = TimeSpan.FromHours(1);

    protected override long Rules => book.Turns;

    protected override void Failed(Exception e) => Log.Failed(log, e);

    protected override async Task LookAsync(DateTimeOffset now, CancellationToken cancel)
    {
        foreach (var row in book.All.Where(r => !r.Off))
        {
            foreach (var alert in Alerts.Current.Where(a => a.Check == row.Check && !a.State.IsOver() && !book.Done.ContainsKey((row.Id, a.Id))).OrderBy(a => a.RaisedAt))
            {
                if (estate.FindSelectable(alert.HostId) is { Retired: false } host && estate.Find(alert.HostId) is { } summary && book.IsFor(row, alert.HostId, host))
                {
                    await TakeAsync(row, alert, summary, await book.JudgeAsync(row, alert, host, now, cancel).ConfigureAwait(false), cancel).ConfigureAwait(false);
                }
            }
        }
    }

    private async Task TakeAsync(ReactionRow row, AlertRow alert, HostSummary host, ReactionVerdict verdict, CancellationToken cancel)
    {
        switch (verdict.Step)
        {
            case ReactionStep.Run:
                await RunAsync(row, alert, host, cancel).ConfigureAwait(false);
                break;
            case ReactionStep.Pass:
                await KeepAsync(row, alert, host, new Caller(row.Owner, null), null, verdict.Says, cancel).ConfigureAwait(false);
                break;
            default:
                LookAgain(verdict.At ?? DateTimeOffset.MaxValue);
                break;
        }
    }

    private async Task RunAsync(ReactionRow row, AlertRow alert, HostSummary host, CancellationToken cancel)
    {
        Caller by = new(row.Owner, null);
        JobInfo? job = null;
        string? problem = null;
        try
        {
            var seat = access.Find(row.OwnerId) ?? throw ProblemException.Invalid($"{row.Owner} is no technician any more; somebody else has to write the reaction.");
            var asker = new Asker(seat, null, false, seat.Reach, null) { Name = $"{seat.Name} (reaction '{row.Name}')" };
            by = asker;
            var wish = new NewJob($"\"{host.Label}\"", null, (long)Expiry.TotalSeconds, null, row.UsesVault, null, new ScriptUse(row.ScriptId, row.Number, row.ReadValues()));
            job = await jobs.CreateOnAsync(wish, [host], asker, $"reaction {row.Id:N} {alert.Id:N}", cancel).ConfigureAwait(false);
        }
        catch (ProblemException e)
        {
            problem = e.Message;
        }
        await KeepAsync(row, alert, host, by, job?.Id, problem, cancel).ConfigureAwait(false);
    }

    /// <summary>Keeps what came of it, with a line in the audit log.</summary>
    private async Task KeepAsync(ReactionRow row, AlertRow alert, HostSummary host, Caller by, Guid? jobId, string? problem, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        // It may have been removed in this very moment; the job that was made is told by the job's own line.
        if (await db.Reactions.AnyAsync(r => r.Id == row.Id, cancel).ConfigureAwait(false) && !await db.ReactionsDone.AnyAsync(d => d.ReactionId == row.Id && d.AlertId == alert.Id, cancel).ConfigureAwait(false))
        {
            db.ReactionsDone.Add(new ReactionDoneRow { ReactionId = row.Id, AlertId = alert.Id, HostId = host.Id, At = Time.GetUtcNow(), JobId = jobId, Problem = problem });
            await audit.AddAsync(db, by, jobId is null ? "reaction.pass" : "reaction.run", host.Label, cancel, ("reaction", row.Name), ("check", row.Check), ("alert", $"{alert.Id}"), ("job", jobId?.ToString()), ("why", problem)).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        book.Done.TryAdd((row.Id, alert.Id), 0);
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Error, Message = "What is to run because of alerts could not be looked at; it is looked at again")]
        public static partial void Failed(ILogger logger, Exception e);
    }
}
