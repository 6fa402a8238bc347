using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Files;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Sessions;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Jobs;

/// <summary>
/// Sends orders to linked hosts and puts things right when a host returns: what waits is sent, what the host never
/// accepted is sent again (it takes an id only once), what it lost is interrupted.
/// </summary>
public sealed class Dispatcher(IDatabase database, RunBook book, IAgentLinks links, Intake intake, AccessIndex access, EstateIndex estate, SealedOrders orders, VaultedKeys keys, JobFeed feed, ContentServer content, TimeProvider time)
{
    /// <summary>Sends the runs of a new job to those of its hosts that are linked.</summary>
    public async Task SendAsync(JobRow job, IReadOnlyList<RunRow> runs, CancellationToken cancel)
    {
        var command = CommandOf(job);
        var slow = new List<Task>();
        // A host may have been linked between the choice of the state and now: it would wait for nothing.
        var late = runs.Where(r => r.State == RunState.Waiting && links.IsLinked(r.HostId)).Select(r => r.Id).ToHashSet();
        if (late.Count > 0)
        {
            await intake.MarkAsync([.. late], RunDecisions.Send).ConfigureAwait(false);
        }
        foreach (var run in runs.Where(r => r.State == RunState.Sent || late.Contains(r.Id)))
        {
            var sending = SendAsync(job, run.Id, run.HostId, command, cancel);
            if (!sending.IsCompletedSuccessfully)
            {
                slow.Add(sending);
            }
        }
        // A host that went away meanwhile gets its order when it returns.
        await Task.WhenAll(slow).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    /// <summary>A host is linked (again).</summary>
    /// <param name="unfinished">The runs whose journal its agent holds.</param>
    public async Task ReturnedAsync(Guid hostId, IReadOnlyList<Guid> unfinished, CancellationToken cancel)
    {
        var known = book.OfHost(hostId);
        if (known.Count == 0 && unfinished.Count == 0)
        {
            return;
        }
        var held = unfinished.ToHashSet();
        var now = time.GetUtcNow();
        var lost = known.Where(r => r.Mark.Status.AcceptedAt is not null && !held.Contains(r.RunId)).Select(r => r.RunId).ToList();
        var toSend = known.Where(r => r.Mark.Status.AcceptedAt is null && !r.Mark.Held && !held.Contains(r.RunId)).ToList();
        foreach (var jobId in known.Where(r => r.Mark.Held).Select(r => r.Mark.JobId).Distinct())
        {
            // Whether it is this host's turn is decided by its job's pace.
            feed.Jobs.Publish(jobId);
        }

        var keptByUs = known.Where(r => held.Contains(r.RunId) && r.Mark.Status.LastSequence >= 0)
            .Select(r => new RunKept(r.RunId, r.Mark.Status.LastSequence));
        foreach (var part in keptByUs.Chunk(200))
        {
            await links.SendAsync(hostId, ToAgent.RunsKept, new RunsKept(part), cancel).ConfigureAwait(false);
        }
        if (lost.Count > 0)
        {
            await intake.MarkAsync(lost, m => m.Status.State.IsFinal() ? m : m with
            {
                Status = m.Status with { State = RunState.Interrupted, EndedAt = now, Reason = "The host came back without the run's journal; how the command ended is not known." },
            }).ConfigureAwait(false);
        }
        foreach (var (runId, mark) in known.Where(r => held.Contains(r.RunId) && r.Mark.CancelRequestedAt is not null))
        {
            await links.SendAsync(hostId, ToAgent.CancelRun, new RunCancel(runId, ""), cancel).ConfigureAwait(false);
        }
        await SendWaitingAsync(hostId, toSend, now, cancel).ConfigureAwait(false);
    }

    /// <summary>A host is not linked any more: whoever looks at a job where its turn has not come learns that nobody waits for it.</summary>
    public void Gone(Guid hostId)
    {
        foreach (var (runId, mark) in book.OfHost(hostId).Where(r => r.Mark.Held))
        {
            feed.RunChanged(mark.JobId, runId);
        }
    }

    /// <summary>The turn of these runs has come: they are sent, or wait for their hosts like any other.</summary>
    public async Task ReleaseAsync(IReadOnlyList<Guid> runIds, CancellationToken cancel)
    {
        if (runIds.Count == 0)
        {
            return;
        }
        await intake.MarkAsync(runIds, m => m with { Held = false }).ConfigureAwait(false);
        var now = time.GetUtcNow();
        var released = runIds.Select(id => (RunId: id, Mark: book.Find(id))).Where(r => r.Mark is { Status.State: RunState.Waiting } mark && links.IsLinked(mark.HostId));
        foreach (var host in released.GroupBy(r => r.Mark!.HostId))
        {
            await SendWaitingAsync(host.Key, [.. host.Select(r => (r.RunId, r.Mark!))], now, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>What somebody ordered waits no longer than he may order it.</summary>
    private bool StillMay(JobRow job, Guid hostId) =>
        access.Find(job.CreatedById) is { } seat && estate.Find(hostId) is { } host && CommandOf(job) is var command && seat.Reach.May(command.Needs, host.GroupPath)
        && (command.User is null || seat.Reach.May(Permission.ChooseUser, host.GroupPath));

    private static CommandSpec CommandOf(JobRow job) => JsonSerializer.Deserialize(job.Command, WireJson.Default.CommandSpec)!;

    private async Task SendWaitingAsync(Guid hostId, List<(Guid RunId, RunMark Mark)> waiting, DateTimeOffset now, CancellationToken cancel)
    {
        if (waiting.Count == 0)
        {
            return;
        }
        var jobIds = waiting.Select(r => r.Mark.JobId).Distinct().ToList();
        await using var db = database.Open();
        var jobs = await db.Jobs.AsNoTracking().Where(j => jobIds.Contains(j.Id)).ToDictionaryAsync(j => j.Id, cancel).ConfigureAwait(false);
        var cancelled = waiting.Where(r => r.Mark.CancelRequestedAt is not null).ToList();
        var expired = waiting.Except(cancelled).Where(r => jobs[r.Mark.JobId].ExpiresAt <= now).ToList();
        var barred = waiting.Except(cancelled).Except(expired).Where(r => !StillMay(jobs[r.Mark.JobId], hostId)).ToList();
        var live = waiting.Except(cancelled).Except(expired).Except(barred).ToList();
        await intake.MarkAsync([.. cancelled.Select(r => r.RunId)], m => RunDecisions.CancelUnsent(m, now, jobs[m.JobId].CancelledBy)).ConfigureAwait(false);
        await intake.MarkAsync([.. expired.Select(r => r.RunId)], m => RunDecisions.Expire(m, now)).ConfigureAwait(false);
        await intake.MarkAsync([.. barred.Select(r => r.RunId)], m => RunDecisions.Bar(m, now, jobs[m.JobId].CreatedBy)).ConfigureAwait(false);
        await intake.MarkAsync([.. live.Select(r => r.RunId)], RunDecisions.Send).ConfigureAwait(false);
        foreach (var (runId, mark) in live)
        {
            var job = jobs[mark.JobId];
            await SendAsync(job, runId, hostId, CommandOf(job), cancel).ConfigureAwait(false);
        }
    }

    private Task SendAsync(JobRow job, Guid runId, Guid hostId, CommandSpec command, CancellationToken cancel)
    {
        var seal = orders.Find(runId);
        if (seal is null && job.UsesVault && estate.AsksKey(hostId, command.Act))
        {
            // The host comes to a channel for that, and may still be saying hello: nobody waits for it here.
            _ = SealAndSendAsync(job, runId, hostId, command);
            return Task.CompletedTask;
        }
        return links.SendAsync(hostId, ToAgent.StartRun, new RunOrder(runId, job.Id, job.CreatedAt, command, job.CreatedBy, seal, content.TicketFor(runId, command)), cancel);
    }

    private async Task SealAndSendAsync(JobRow job, Guid runId, Guid hostId, CommandSpec command)
    {
        string refusal;
        try
        {
            if (estate.Find(hostId) is not { } host || access.Find(job.CreatedById) is not { } seat)
            {
                return;
            }
            await keys.SealAsync(host, new Asker(seat, null, false, seat.Reach, null), command.Act ?? HostAct.Run, JsonSerializer.Serialize(command, LinkJson.Default.CommandSpec), ("job", job.Id),
                seal => links.SendAsync(hostId, ToAgent.StartRun, new RunOrder(runId, job.Id, job.CreatedAt, command, job.CreatedBy, seal, content.TicketFor(runId, command)), CancellationToken.None), CancellationToken.None).ConfigureAwait(false);
            return;
        }
        catch (Exception e) when (e is DoorException or ProblemException)
        {
            refusal = e.Message;
        }
        catch (OperationCanceledException)
        {
            refusal = "The host did not answer in time.";
        }
        catch (Exception e) when (e is DbUpdateException or System.Data.Common.DbException or System.Security.Cryptography.CryptographicException)
        {
            // Nobody waits for this: without a word the run would stand as sent for ever.
            refusal = "The vault could not be read.";
        }
        if (links.IsLinked(hostId))
        {
            var now = time.GetUtcNow();
            await intake.MarkAsync([runId], m => RunDecisions.Refuse(m, now, $"{refusal} Nothing was run.")).ConfigureAwait(false);
        }
    }
}

/// <summary>What the service decides about runs that no host has accepted.</summary>
public static class RunDecisions
{
    public static RunMark Send(RunMark mark) =>
        mark.Status.State == RunState.Waiting ? mark with { Status = mark.Status with { State = RunState.Sent } } : mark;

    /// <summary>Enough runs of its job have failed, and its turn had not come.</summary>
    public static RunMark Stop(RunMark mark, DateTimeOffset now, int failures) =>
        mark.Status.State.IsFinal() || !mark.Held ? mark : mark with
        {
            Status = mark.Status with { State = RunState.Cancelled, EndedAt = now, Reason = $"Not begun: {failures} {(failures == 1 ? "host" : "hosts")} had failed, and the job was to stop then." },
        };

    public static RunMark CancelUnsent(RunMark mark, DateTimeOffset now, string? by) =>
        mark.Status.State.IsFinal() || mark.Status.AcceptedAt is not null ? mark : mark with
        {
            Status = mark.Status with { State = RunState.Cancelled, EndedAt = now, Reason = by is null ? "Cancelled before it started." : $"Cancelled by {by} before it started." },
        };

    public static RunMark Bar(RunMark mark, DateTimeOffset now, string by) =>
        mark.Status.State.IsFinal() || mark.Status.AcceptedAt is not null ? mark : mark with
        {
            Status = mark.Status with { State = RunState.Refused, EndedAt = now, Reason = $"When the host returned, {by} might not run commands on it any more; nothing was run." },
        };

    public static RunMark Refuse(RunMark mark, DateTimeOffset now, string reason) =>
        mark.Status.State.IsFinal() || mark.Status.AcceptedAt is not null ? mark : mark with { Status = mark.Status with { State = RunState.Refused, EndedAt = now, Reason = reason } };

    public static RunMark Expire(RunMark mark, DateTimeOffset now) =>
        mark.Status.State.IsFinal() || mark.Status.AcceptedAt is not null ? mark : mark with
        {
            Status = mark.Status with { State = RunState.Expired, EndedAt = now, Reason = mark.Held ? "Its turn did not come before the run expired; nothing was run." : "The host did not return before the run expired; nothing was run." },
        };
}
