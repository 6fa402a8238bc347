using System.Reflection;
using System.Runtime.CompilerServices;
using Microsoft.AspNetCore.Authorization;
using Microsoft.AspNetCore.SignalR;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Enrolment;
using Umbrek.Service.Estate;
using Umbrek.Service.Health;
using Umbrek.Service.Jobs;
using Umbrek.Service.Sessions;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Hosting;

/// <summary>
/// Live views for console and client: each is a stream that first gives what there is, then what changes, at most four
/// times a second. Whoever reads slowly gets fewer, fuller messages. When what somebody may do changes, his views end at once, and
/// begin anew if they may.
/// </summary>
[Authorize]
public sealed class LiveHub(AccessIndex access, Gate gate, SignIns signIns, AuditLog audit, EstateIndex estate, SelectionService selections, EnrolmentReader enrolments, ScanService scans, JobReader jobs, JobFeed feed, AlertBook alerts, AlertService alertService, InvitationService invitations, TimeProvider time) : Hub
{
    public const string Path = "/live";
    private const int HostsAtFirst = 50;
    private const int HostsPerMessage = 250;

    /// <summary>Messages that are ready at the same time travel as one; the first is not held up by those behind it.</summary>
    private static readonly TimeSpan FirstAlone = TimeSpan.FromMilliseconds(5);
    private const int IdsPerMessage = 2000;
    private static readonly TimeSpan SelectionPace = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan SelectionPatience = TimeSpan.FromSeconds(20);
    private const int RunsPerMessage = 250;
    private const int OutputPerMessage = 96 * 1024;
    private static readonly TimeSpan Pace = TimeSpan.FromMilliseconds(250);

    /// <summary>The estate: every host, then hosts that changed.</summary>
    [Needs(NeedAt.Own)]
    public IAsyncEnumerable<EstateChanges> Estate(CancellationToken cancel) => WatchAsync(EstateAsync, cancel);

    private async IAsyncEnumerable<EstateChanges> EstateAsync(Asker by, [EnumeratorCancellation] CancellationToken cancel)
    {
        using var reader = estate.Changes.Subscribe();
        var reset = true;
        // The first message is what fits a screen, so that it is there at once.
        var all = estate.ByPlace().Where(h => by.Reach.May(Permission.See, h.GroupPath)).ToList();
        var shown = all.Select(h => h.Id).ToHashSet();
        foreach (var part in all.Skip(HostsAtFirst).Chunk(HostsPerMessage).Prepend([.. all.Take(HostsAtFirst)]))
        {
            yield return new EstateChanges(reset, part);
            if (reset && all.Count > HostsAtFirst)
            {
                await Task.Delay(FirstAlone, time, cancel).ConfigureAwait(false);
            }
            reset = false;
        }
        while (true)
        {
            var changed = await reader.TakeAsync(cancel).ConfigureAwait(false);
            // A host that moved to where it may not be seen is as good as gone.
            var gone = changed.Where(id => estate.Find(id, by.Reach) is null && shown.Remove(id)).ToList();
            if (gone.Count > 0)
            {
                yield return new EstateChanges(false, [], gone);
            }
            foreach (var part in changed.Select(id => estate.Find(id, by.Reach)).OfType<HostSummary>().Chunk(HostsPerMessage))
            {
                shown.UnionWith(part.Select(h => h.Id));
                yield return new EstateChanges(false, part);
            }
            await Task.Delay(Pace, time, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>The hosts of a selection: all of them, then those that come and go. It is looked at again when the estate changed, and as time passes.</summary>
    [Needs(NeedAt.Own)]
    public IAsyncEnumerable<SelectionChanges> Selected(string selection, CancellationToken cancel) => WatchAsync((by, c) => SelectedAsync(selection, by, c), cancel);

    private async IAsyncEnumerable<SelectionChanges> SelectedAsync(string selection, Asker by, [EnumeratorCancellation] CancellationToken cancel)
    {
        using var reader = estate.Changes.Subscribe();
        var known = new HashSet<Guid>();
        var reset = true;
        while (true)
        {
            HashSet<Guid> now = [.. (await selections.SelectAsync(selection, by.Reach, cancel).ConfigureAwait(false)).Select(h => h.Id)];
            var (added, removed) = (now.Where(id => !known.Contains(id)).ToList(), known.Where(id => !now.Contains(id)).ToList());
            if (reset || added.Count + removed.Count > 0)
            {
                foreach (var part in added.Chunk(IdsPerMessage).DefaultIfEmpty([]))
                {
                    yield return new SelectionChanges(reset, part, reset ? [] : removed);
                    (reset, removed) = (false, []);
                }
            }
            known = now;
            await Task.Delay(SelectionPace, time, cancel).ConfigureAwait(false);
            using var patience = new CancellationTokenSource(SelectionPatience, time);
            using var either = CancellationTokenSource.CreateLinkedTokenSource(patience.Token, cancel);
            try
            {
                await reader.TakeAsync(either.Token).ConfigureAwait(false);
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                // Nothing changed but the time.
            }
        }
    }

    /// <summary>How many enrolments wait for a person, now and whenever one comes in or is decided.</summary>
    [Needs(NeedAt.Own)]
    public IAsyncEnumerable<EnrolmentPulse> Enrolments(CancellationToken cancel) => WatchAsync(EnrolmentsAsync, cancel);

    private async IAsyncEnumerable<EnrolmentPulse> EnrolmentsAsync(Asker by, [EnumeratorCancellation] CancellationToken cancel)
    {
        using var reader = enrolments.Changes.Subscribe();
        while (true)
        {
            yield return new EnrolmentPulse(await enrolments.CountWaitingAsync(by.Reach, cancel).ConfigureAwait(false));
            await reader.TakeAsync(cancel).ConfigureAwait(false);
            await Task.Delay(Pace, time, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>A scan: all it found so far, then what changes, until it has ended.</summary>
    [Needs(NeedAt.Somewhere, Permission.Scan)]
    public IAsyncEnumerable<ScanChanges> Scan(Guid scanId, CancellationToken cancel) => WatchAsync((by, c) => ScanAsync(scanId, by, c), cancel);

    private async IAsyncEnumerable<ScanChanges> ScanAsync(Guid scanId, Asker by, [EnumeratorCancellation] CancellationToken cancel)
    {
        using var reader = scans.Changes.Subscribe();
        var known = new Dictionary<string, ScanFind>();
        var reset = true;
        while (true)
        {
            var detail = await scans.GetAsync(scanId, by, cancel).ConfigureAwait(false);
            var news = detail.Finds.Where(f => !known.TryGetValue(f.Address, out var before) || !Same(before, f)).ToList();
            news.ForEach(f => known[f.Address] = f);
            foreach (var part in news.Chunk(HostsPerMessage).DefaultIfEmpty([]))
            {
                yield return new ScanChanges(reset, detail.Info, part);
                reset = false;
            }
            if (detail.Info.State != ScanState.Running)
            {
                yield break;
            }
            do
            {
                await Task.Delay(Pace, time, cancel).ConfigureAwait(false);
            }
            while (!(await reader.TakeAsync(cancel).ConfigureAwait(false)).Contains(scanId));
        }

        static bool Same(ScanFind a, ScanFind b) => a with { OpenPorts = [] } == b with { OpenPorts = [] } && a.OpenPorts.SequenceEqual(b.OpenPorts);
    }

    /// <summary>Jobs that are new or changed from now on.</summary>
    [Needs(NeedAt.Own)]
    public IAsyncEnumerable<JobInfo> Jobs(CancellationToken cancel) => WatchAsync(JobsAsync, cancel);

    private async IAsyncEnumerable<JobInfo> JobsAsync(Asker by, [EnumeratorCancellation] CancellationToken cancel)
    {
        using var reader = feed.Jobs.Subscribe();
        while (true)
        {
            foreach (var id in await reader.TakeAsync(cancel).ConfigureAwait(false))
            {
                if (await jobs.FindInfoAsync(id, by.Reach, cancel).ConfigureAwait(false) is { } job)
                {
                    yield return job;
                }
            }
            await Task.Delay(Pace, time, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>How many alerts ask for somebody: now, and whenever an alert has changed.</summary>
    [Needs(NeedAt.Own)]
    public IAsyncEnumerable<AlertsChanged> Alerts(CancellationToken cancel) => WatchAsync(AlertsAsync, cancel);

    private async IAsyncEnumerable<AlertsChanged> AlertsAsync(Asker by, [EnumeratorCancellation] CancellationToken cancel)
    {
        using var reader = alerts.Changes.Subscribe();
        while (true)
        {
            yield return alertService.Count(by);
            await Task.Delay(Pace, time, cancel).ConfigureAwait(false);
            await reader.TakeAsync(cancel).ConfigureAwait(false);
        }
    }

    /// <summary>Invitations to the reader and from him, now and whenever one of them changes; while this is read he counts as here.</summary>
    [Needs(NeedAt.Own)]
    public IAsyncEnumerable<InvitationsNow> Invitations(CancellationToken cancel) => WatchAsync(InvitationsAsync, cancel);

    private async IAsyncEnumerable<InvitationsNow> InvitationsAsync(Asker by, [EnumeratorCancellation] CancellationToken cancel)
    {
        using var here = invitations.Here(by.Id);
        using var reader = invitations.Changes.Subscribe();
        while (true)
        {
            yield return new InvitationsNow(invitations.List(by));
            while (!(await reader.TakeAsync(cancel).ConfigureAwait(false)).Contains(by.Id))
            {
                // Somebody else's.
            }
        }
    }

    /// <summary>One job: its runs and all output so far, then both as they come, until every run has ended.</summary>
    [Needs(NeedAt.Somewhere, Permission.See)]
    public IAsyncEnumerable<JobChanges> Job(Guid jobId, CancellationToken cancel) => WatchAsync((by, c) => JobAsync(jobId, true, by, c), cancel);

    /// <summary>The same without output: how a job stands on each host.</summary>
    [Needs(NeedAt.Somewhere, Permission.See)]
    public IAsyncEnumerable<JobChanges> JobBoard(Guid jobId, CancellationToken cancel) => WatchAsync((by, c) => JobAsync(jobId, false, by, c), cancel);

    /// <summary>One run and its output so far, then both as they come, until it has ended.</summary>
    [Needs(NeedAt.Somewhere, Permission.Run, Permission.Power)]
    public IAsyncEnumerable<JobChanges> Run(Guid runId, CancellationToken cancel) => WatchAsync((by, c) => RunAsync(runId, by, c), cancel);

    private async IAsyncEnumerable<JobChanges> RunAsync(Guid runId, Asker by, [EnumeratorCancellation] CancellationToken cancel)
    {
        var run = await jobs.GetRunAsync(runId, by.Reach, cancel).ConfigureAwait(false);
        var needs = await jobs.NeedsAsync(run.JobId, cancel).ConfigureAwait(false);
        using var reader = feed.Watch(run.JobId);
        var sent = -1L;
        for (var reset = true; ; reset = false)
        {
            var job = await jobs.GetInfoAsync(run.JobId, by.Reach, cancel).ConfigureAwait(false);
            run = await jobs.GetRunAsync(runId, by.Reach, cancel).ConfigureAwait(false);
            // Each time: its host may have moved to where he may not read what it says.
            gate.Host(by, run.HostId, needs);
            yield return new JobChanges(reset, job, [run], []);
            while (!run.OutputGone && await jobs.ReadOutputAsync(runId, sent, OutputPerMessage, cancel).ConfigureAwait(false) is { Count: > 0 } pieces)
            {
                sent = pieces[^1].Sequence;
                yield return new JobChanges(false, job, [], pieces);
            }
            // The end of a run is stored together with the last of its output.
            yield return new JobChanges(false, job, [], [], CaughtUp: true, run.State.IsFinal());
            if (run.State.IsFinal())
            {
                yield break;
            }
            while (!(await reader.TakeAsync(cancel).ConfigureAwait(false)).Contains(runId))
            {
                // Another run of the job.
            }
            await Task.Delay(Pace, time, cancel).ConfigureAwait(false);
        }
    }

    private async IAsyncEnumerable<JobChanges> JobAsync(Guid jobId, bool withOutput, Asker by, [EnumeratorCancellation] CancellationToken cancel)
    {
        using var reader = feed.Watch(jobId);
        var detail = await jobs.GetAsync(jobId, by.Reach, cancel).ConfigureAwait(false);
        var sent = new Dictionary<Guid, long>();
        var reset = true;
        IReadOnlyCollection<RunInfo> changed = detail.Runs;
        while (true)
        {
            foreach (var part in changed.Chunk(RunsPerMessage).DefaultIfEmpty([]))
            {
                yield return new JobChanges(reset, detail.Job, part, []);
                reset = false;
            }
            foreach (var run in changed.Where(r => withOutput && !r.OutputGone && r.StdoutBytes + r.StderrBytes > 0 && by.Reach.May(detail.Job.Command.Needs, r.GroupPath)))
            {
                while (await jobs.ReadOutputAsync(run.Id, sent.GetValueOrDefault(run.Id, -1), OutputPerMessage, cancel).ConfigureAwait(false) is { Count: > 0 } pieces)
                {
                    sent[run.Id] = pieces[^1].Sequence;
                    yield return new JobChanges(false, detail.Job, [], pieces);
                }
            }
            var finished = detail.Job.Runs.Ended == detail.Job.Runs.Total;
            yield return new JobChanges(false, detail.Job, [], [], CaughtUp: true, finished);
            if (finished)
            {
                yield break;
            }
            var ids = await reader.TakeAsync(cancel).ConfigureAwait(false);
            var job = await jobs.GetInfoAsync(jobId, by.Reach, cancel).ConfigureAwait(false);
            changed = await jobs.GetRunsAsync(job.Runs.Ended == job.Runs.Total ? [.. detail.Runs.Select(r => r.Id)] : ids, job.CreatedAt, by.Reach, cancel).ConfigureAwait(false);
            detail = detail with { Job = job };
            await Task.Delay(job.Runs.Ended == job.Runs.Total ? TimeSpan.Zero : Pace, time, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>The connection goes with the sign-in that it was opened with.</summary>
    public override async Task OnConnectedAsync()
    {
        var connection = Context;
        try
        {
            var ended = await signIns.HoldAsync(SignIns.IdOf(Context.User!), Context.ConnectionAborted).ConfigureAwait(false);
            connection.Items[nameof(SignIns)] = ended.Register(connection.Abort);
        }
        catch (ProblemException)
        {
            connection.Abort();
        }
        await base.OnConnectedAsync().ConfigureAwait(false);
    }

    public override Task OnDisconnectedAsync(Exception? exception)
    {
        if (Context.Items.Remove(nameof(SignIns), out var aborting))
        {
            ((CancellationTokenRegistration)aborting!).Dispose();
        }
        return base.OnDisconnectedAsync(exception);
    }

    /// <summary>A view for as long as the one who asks may do what he may do now.</summary>
    private async IAsyncEnumerable<T> WatchAsync<T>(Func<Asker, CancellationToken, IAsyncEnumerable<T>> view, [EnumeratorCancellation] CancellationToken cancel, [CallerMemberName] string method = "")
    {
        Asker by;
        CancellationToken ended;
        try
        {
            ended = await signIns.HoldAsync(SignIns.IdOf(Context.User!), cancel).ConfigureAwait(false);
            by = Asker.Of(Context.User!, Context.GetHttpContext()?.Address(), access);
        }
        catch (ProblemException e)
        {
            throw new HubException(e.Message);
        }
        try
        {
            EndpointNeeds.Ask(gate, by, NeedsOf(method), () => throw new InvalidOperationException("A live view asks for its place itself."));
        }
        catch (ProblemException e)
        {
            throw await RefusedAsync(by, method, e, cancel).ConfigureAwait(false);
        }
        using var either = CancellationTokenSource.CreateLinkedTokenSource(cancel, by.Seat.Lapsed, ended);
        await using var items = view(by, either.Token).GetAsyncEnumerator(either.Token);
        while (true)
        {
            try
            {
                if (!await items.MoveNextAsync().ConfigureAwait(false))
                {
                    yield break;
                }
                either.Token.ThrowIfCancellationRequested();
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                throw new HubException(LiveProblems.AccessChanged);
            }
            catch (ProblemException e)
            {
                throw await RefusedAsync(by, method, e, cancel).ConfigureAwait(false);
            }
            yield return items.Current;
        }
    }

    /// <summary>A refusal goes into the audit log here as it does for calls.</summary>
    private async Task<HubException> RefusedAsync(Asker by, string method, ProblemException problem, CancellationToken cancel)
    {
        if (problem.Problem.Word == ProblemTypes.NotAllowed)
        {
            await audit.AddAsync(by, "access.refuse", $"live view {method}", cancel, ("needs", PermissionWords.Word(NeedsOf(method).Permission)), ("why", problem.Message)).ConfigureAwait(false);
        }
        return new HubException(problem.Message);
    }

    private static NeedsAttribute NeedsOf(string method) => typeof(LiveHub).GetMethod(method)!.GetCustomAttribute<NeedsAttribute>()!;
}
