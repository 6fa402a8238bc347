using System.Threading.Channels;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Core.Jobs;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Health;
using Umbrek.Service.Jobs;
using Umbrek.Service.Storage;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Links;

/// <summary>
/// The one writer of everything that arrives by the thousand: samples, facts, presence, run events. What waits is written
/// in one transaction; only then is it acknowledged to the agents and shown to people. Nobody else changes a run's state.
/// </summary>
public sealed partial class Intake(IDatabase database, EstateIndex estate, RollupQueue rollups, RunBook runs, JobFeed jobs, IAgentLinks links, TimeProvider time, ILogger<Intake> log) : BackgroundService
{
    private const int BatchItems = 4000;

    /// <summary>So many samples are company enough.</summary>
    private const int CompanySamples = 2000;

    /// <summary>How long samples may wait for company; run events never wait.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromMilliseconds(700);

    private readonly Channel<Item> queue = Channel.CreateBounded<Item>(new BoundedChannelOptions(20_000) { SingleReader = true });
    private readonly SemaphoreSlim urgent = new(0, 1);
    private int waitingSamples;

    /// <summary>The time of each host's sample that was taken last, and the hosts that were told off for sending too many; the one reader alone touches them.</summary>
    private readonly Dictionary<Guid, DateTimeOffset> lastSamples = [];
    private readonly HashSet<Guid> crowded = [];

    private abstract record Item;
    private sealed record SamplesItem(Guid HostId, IReadOnlyList<Sample> Samples, DateTimeOffset UpTo) : Item;
    private sealed record FactsItem(Guid HostId, IReadOnlyList<Fact> Facts) : Item;
    private sealed record PresenceItem(PresenceChange Change) : Item;
    private sealed record RollupsItem(IReadOnlyList<RollupRow> Rows, IReadOnlyList<(Guid HostId, DateTimeOffset? At)> StorageFull, TaskCompletionSource Done) : Item;
    private sealed record EventsItem(Guid HostId, IReadOnlyList<RunEvent> Events, IReadOnlyList<RunOutputRow?> Output) : Item;
    private sealed record HeldItem(Guid HostId, RunHeld Held) : Item;
    private sealed record MarkItem(IReadOnlyList<Guid> Runs, Func<RunMark, RunMark> Change, NewAuditLine? Audit, TaskCompletionSource Done) : Item;
    private sealed record JobItem(JobRow Job, IReadOnlyList<RunRow> Runs, NewAuditLine Audit, TaskCompletionSource Done) : Item;

    /// <param name="upTo">What is acknowledged, by the host's clock; the latest of the samples when that is right.</param>
    public async ValueTask SamplesAsync(Guid hostId, IReadOnlyList<Sample> samples, DateTimeOffset? upTo = null)
    {
        await queue.Writer.WriteAsync(new SamplesItem(hostId, samples, upTo ?? samples.Max(s => s.At))).ConfigureAwait(false);
        if (Interlocked.Add(ref waitingSamples, samples.Count) >= CompanySamples)
        {
            Hurry();
        }
    }

    public ValueTask FactsAsync(Guid hostId, IReadOnlyList<Fact> facts) => queue.Writer.WriteAsync(new FactsItem(hostId, facts));

    /// <summary>Roll-ups that were made of what is stored; completes when they are stored too.</summary>
    public async Task RollupsAsync(IReadOnlyList<RollupRow> rows, IReadOnlyList<(Guid HostId, DateTimeOffset? At)> storageFull)
    {
        var done = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        await UrgentAsync(new RollupsItem(rows, storageFull, done)).ConfigureAwait(false);
        await done.Task.ConfigureAwait(false);
    }

    public ValueTask PresenceAsync(PresenceChange change) => UrgentAsync(new PresenceItem(change));

    /// <summary>Output is packed here, by whoever brings it: the one writer has enough to do.</summary>
    public ValueTask EventsAsync(Guid hostId, IReadOnlyList<RunEvent> events) => UrgentAsync(new EventsItem(hostId, events, [.. events.Select(OutputPacking.Pack)]));

    public ValueTask HeldAsync(Guid hostId, RunHeld held) => UrgentAsync(new HeldItem(hostId, held));

    /// <summary>Changes runs by the service's own decision; completes when it is stored.</summary>
    public async Task MarkAsync(IReadOnlyList<Guid> runIds, Func<RunMark, RunMark> change, NewAuditLine? line = null)
    {
        var done = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        await UrgentAsync(new MarkItem(runIds, change, line, done)).ConfigureAwait(false);
        await done.Task.ConfigureAwait(false);
    }

    /// <summary>Stores a new job with its runs; completes when it is stored.</summary>
    public async Task AddJobAsync(JobRow job, IReadOnlyList<RunRow> jobRuns, NewAuditLine line)
    {
        var done = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        await UrgentAsync(new JobItem(job, jobRuns, line, done)).ConfigureAwait(false);
        await done.Task.ConfigureAwait(false);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        var items = new List<Item>(BatchItems);
        try
        {
            while (await queue.Reader.WaitToReadAsync(stoppingToken).ConfigureAwait(false))
            {
                if (queue.Reader.Count < BatchItems)
                {
                    await urgent.WaitAsync(Patience, stoppingToken).ConfigureAwait(false);
                }
                items.Clear();
                Volatile.Write(ref waitingSamples, 0);
                while (items.Count < BatchItems && queue.Reader.TryRead(out var item))
                {
                    items.Add(item);
                }
                if (queue.Reader.Count > 0)
                {
                    Hurry();
                }
                await StoreAsync(items, stoppingToken).ConfigureAwait(false);
            }
        }
        catch (OperationCanceledException)
        {
            // What is still queued was not acknowledged: the agents send it again.
        }
    }

    private async ValueTask UrgentAsync(Item item)
    {
        await queue.Writer.WriteAsync(item).ConfigureAwait(false);
        Hurry();
    }

    private void Hurry()
    {
        try
        {
            urgent.Release();
        }
        catch (SemaphoreFullException)
        {
            // Somebody hurries already.
        }
    }

    private async Task StoreAsync(List<Item> items, CancellationToken stopping)
    {
        var work = new BatchInHand(time.GetUtcNow());
        foreach (var item in items)
        {
            try
            {
                Take(work, item);
            }
            catch (Exception e)
            {
                // What one host sent must not stop the one writer for all the others.
                Log.ItemDropped(log, e, item.GetType().Name);
                (item as MarkItem)?.Done.TrySetException(e);
                (item as JobItem)?.Done.TrySetException(e);
            }
        }
        for (var attempt = 1; ; attempt++)
        {
            try
            {
                if (!work.Batch.IsEmpty)
                {
                    await database.Bulk.WriteAsync(work.Batch, stopping).ConfigureAwait(false);
                }
                break;
            }
            catch (Exception e) when (e is not OperationCanceledException)
            {
                Log.StoreFailed(log, e, items.Count, attempt);
                if (work.NewJobs.Count > 0)
                {
                    await StoreJobsAloneAsync(work, stopping).ConfigureAwait(false);
                    continue;
                }
                await Task.Delay(TimeSpan.FromSeconds(Math.Min(10, attempt)), time, stopping).ConfigureAwait(false);
            }
        }
        await PublishAsync(work, stopping).ConfigureAwait(false);
    }

    private void Take(BatchInHand work, Item item)
    {
        switch (item)
        {
            case SamplesItem s:
                TakeSamples(work, s);
                break;
            case FactsItem f:
                work.Batch.Facts.AddRange(f.Facts.Select(fact => (f.HostId, fact)));
                break;
            case RollupsItem r:
                work.Batch.Rollups.AddRange(r.Rows);
                work.Batch.StorageFull.AddRange(r.StorageFull);
                work.Waiting.Add(r.Done);
                break;
            case PresenceItem p:
                work.Batch.Presences.Add(p.Change);
                break;
            case EventsItem e:
                TakeEvents(work, e);
                break;
            case HeldItem h:
                Change(work, h.Held.RunId, m => m.HostId == h.HostId && !m.Status.State.IsFinal() ? m with { Status = m.Status with { Reason = h.Held.Reason } } : m);
                break;
            case MarkItem mark:
                foreach (var run in mark.Runs)
                {
                    Change(work, run, mark.Change);
                }
                if (mark.Audit is { } line)
                {
                    work.Batch.Audit.Add(line);
                }
                work.Waiting.Add(mark.Done);
                break;
            case JobItem job:
                work.Batch.Jobs.Add((job.Job, job.Runs));
                work.Batch.Audit.Add(job.Audit);
                work.NewJobs.Add(job);
                break;
        }
    }

    /// <summary>A job that the database does not take must not hold up the rest: each is tried by itself, once, for a person waits.</summary>
    private async Task StoreJobsAloneAsync(BatchInHand work, CancellationToken stopping)
    {
        foreach (var job in work.NewJobs)
        {
            var alone = new BulkBatch();
            alone.Jobs.Add((job.Job, job.Runs));
            alone.Audit.Add(job.Audit);
            try
            {
                await database.Bulk.WriteAsync(alone, stopping).ConfigureAwait(false);
                work.Stored.Add((job.Job, job.Runs));
                work.Waiting.Add(job.Done);
            }
            catch (Exception e) when (e is not OperationCanceledException)
            {
                job.Done.TrySetException(new IOException("The database did not take the job; the service's log says why. Try again.", e));
            }
        }
        work.Batch.Audit.RemoveAll(line => work.NewJobs.Exists(j => j.Audit == line));
        work.NewJobs.Clear();
        work.Batch.Jobs.Clear();
    }

    private void TakeSamples(BatchInHand work, SamplesItem item)
    {
        foreach (var sample in item.Samples.Where(s => SampleRules.IsUsable(s, work.Now)))
        {
            if (lastSamples.TryGetValue(item.HostId, out var before) && !SampleRules.IsApart(sample.At, before))
            {
                if (crowded.Add(item.HostId))
                {
                    Log.Crowded(log, estate.Find(item.HostId)?.Label ?? $"{item.HostId}", SampleRules.LeastSpacing.TotalMilliseconds);
                }
                continue;
            }
            lastSamples[item.HostId] = sample.At;
            work.Batch.Samples.Add((item.HostId, sample));
        }
        // Unusable ones are acknowledged too: they would not get better by being sent again.
        work.SamplesKept[item.HostId] = item.UpTo;
    }

    private void TakeEvents(BatchInHand work, EventsItem item)
    {
        foreach (var (index, e) in item.Events.Index())
        {
            var mark = work.Marks.GetValueOrDefault(e.RunId) ?? runs.Find(e.RunId);
            if (mark is null || mark.HostId != item.HostId)
            {
                // Not a run of this host, or of a database that was put back to an earlier day: nothing to keep it under.
                work.RunsKept[(item.HostId, e.RunId)] = long.MaxValue;
                continue;
            }
            var after = mark with { Status = mark.Status.Apply(e) };
            if (after.Status != mark.Status)
            {
                work.Marks[e.RunId] = after;
                if (item.Output[index] is { } output)
                {
                    work.Batch.Output.Add(output);
                }
            }
            work.RunsKept[(item.HostId, e.RunId)] = Math.Max(after.Status.LastSequence, work.RunsKept.GetValueOrDefault((item.HostId, e.RunId), -1));
        }
        foreach (var id in item.Events.Select(e => e.RunId).Distinct())
        {
            if (work.Marks.TryGetValue(id, out var mark))
            {
                work.Batch.Runs[id] = mark;
            }
        }
    }

    private void Change(BatchInHand work, Guid runId, Func<RunMark, RunMark> change)
    {
        if ((work.Marks.GetValueOrDefault(runId) ?? runs.Find(runId)) is { } before)
        {
            var after = change(before);
            if (after != before)
            {
                work.Marks[runId] = after;
                work.Batch.Runs[runId] = after;
            }
        }
    }

    private async Task PublishAsync(BatchInHand work, CancellationToken stopping)
    {
        work.Waiting.AddRange(work.NewJobs.Select(j => j.Done));
        foreach (var (job, jobRuns) in work.Batch.Jobs.Concat(work.Stored))
        {
            runs.Add(jobRuns);
            jobs.JobAdded(job.Id);
        }
        foreach (var (id, mark) in work.Marks)
        {
            runs.Set(id, mark);
            jobs.RunChanged(mark.JobId, id);
        }
        work.Waiting.ForEach(w => w.TrySetResult());
        foreach (var group in work.Batch.Samples.GroupBy(s => s.HostId))
        {
            estate.Sampled(group.Key, group.MaxBy(s => s.Sample.At).Sample);
        }
        foreach (var (host, sample) in work.Batch.Samples)
        {
            rollups.Note(host, sample.At);
        }
        foreach (var (host, at) in work.Batch.StorageFull)
        {
            estate.Fills(host, at);
        }
        foreach (var group in work.Batch.Facts.GroupBy(f => f.HostId))
        {
            estate.Learnt(group.Key, [.. group.Select(g => g.Fact)]);
        }
        foreach (var (host, upTo) in work.SamplesKept)
        {
            await links.SendAsync(host, ToAgent.SamplesKept, new SamplesKept(upTo), stopping).ConfigureAwait(false);
        }
        foreach (var host in work.RunsKept.GroupBy(k => k.Key.HostId))
        {
            foreach (var part in host.Chunk(200))
            {
                await links.SendAsync(host.Key, ToAgent.RunsKept, new RunsKept([.. part.Select(k => new RunKept(k.Key.RunId, k.Value))]), stopping).ConfigureAwait(false);
            }
        }
    }

    public override void Dispose()
    {
        urgent.Dispose();
        base.Dispose();
    }

    private sealed class BatchInHand(DateTimeOffset now)
    {
        public DateTimeOffset Now { get; } = now;
        public BulkBatch Batch { get; } = new();
        public Dictionary<Guid, RunMark> Marks { get; } = [];
        public Dictionary<Guid, DateTimeOffset> SamplesKept { get; } = [];
        public Dictionary<(Guid HostId, Guid RunId), long> RunsKept { get; } = [];
        public List<TaskCompletionSource> Waiting { get; } = [];
        public List<JobItem> NewJobs { get; } = [];

        /// <summary>Jobs that were stored by themselves.</summary>
        public List<(JobRow Job, IReadOnlyList<RunRow> Runs)> Stored { get; } = [];
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Error, Message = "A {Item} could not be taken and was dropped")]
        public static partial void ItemDropped(ILogger logger, Exception e, string item);

        [LoggerMessage(Level = LogLevel.Warning, Message = "{Host} sends more than one sample in {Milliseconds} ms; the others are dropped. Its agent, or whoever speaks for it, is not well")]
        public static partial void Crowded(ILogger logger, string host, double milliseconds);

        [LoggerMessage(Level = LogLevel.Error, Message = "The database did not take {Items} items (attempt {Attempt}); they are kept and tried again")]
        public static partial void StoreFailed(ILogger logger, Exception e, int items, int attempt);
    }
}
