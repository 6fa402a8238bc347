using System.Collections.Concurrent;
using System.Net.Sockets;
using System.Text.Json;
using Umbrek.Agent.Access;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Wire;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Jobs;

/// <summary>
/// The runs of this host: takes orders at most once, starts keepers, finds both again after a crash, and says what is
/// to be sent.
/// </summary>
public sealed class RunTable(StateDirectory state, IHostPlatform platform, HostRules rules, SessionTable sessions, ConsentDesk desk, GraceDesk grace, TimeProvider time, AgentLog log) : IDisposable
{
    private const int KeeperAttempts = 3;
    private static readonly TimeSpan KeeperStart = TimeSpan.FromSeconds(5);

    private readonly ConcurrentDictionary<Guid, RunEntry> entries = new();
    private readonly CancellationTokenSource stopping = new();

    /// <summary>Orders that wait for a person here: nothing of them is on disk yet.</summary>
    private readonly ConcurrentDictionary<Guid, AskedOrder> asked = new();

    /// <summary>Runs of which people here were told, and are told the end.</summary>
    private readonly ConcurrentDictionary<Guid, RunOrder> told = new();

    private sealed record AskedOrder(RunOrder Order, CancellationTokenSource Withdrawn)
    {
        public string? Held { get; set; }
    }

    /// <summary>Released whenever there may be something new to send.</summary>
    public SemaphoreSlim News { get; } = new(0);

    public ConcurrentQueue<RunHeld> Holds { get; } = new();

    /// <summary>How orders ended that were not begun, after a person here was asked or told.</summary>
    public ConcurrentQueue<RunEvent> Refusals { get; } = new();

    /// <summary>What people here answered.</summary>
    public ConcurrentQueue<ConsentReport> Answers { get; } = new();

    /// <summary>A person has answered what was asked about something else than a run.</summary>
    public void Answered(ConsentReport report)
    {
        Answers.Enqueue(report);
        News.Release();
    }

    public IReadOnlyList<Guid> Unfinished => [.. entries.Keys, .. asked.Keys];

    public IEnumerable<RunEntry> Entries => entries.Values;

    /// <summary>Takes up what an earlier life of this agent left: runs go on, finished ones are delivered.</summary>
    public void Load()
    {
        state.Create();
        foreach (var path in Directory.EnumerateDirectories(state.Runs))
        {
            var name = Path.GetFileName(path);
            if (!Guid.TryParseExact(name, "N", out var runId))
            {
                // A directory that was being made when the agent died: the order was never accepted.
                Directory.Delete(path, recursive: true);
            }
            else if (File.Exists(Path.Combine(state.Seen, name)))
            {
                Directory.Delete(path, recursive: true);
            }
            else
            {
                Take(runId, new RunDirectory(path), startKeeper: false);
            }
        }
        foreach (var seen in Directory.EnumerateFiles(state.Seen))
        {
            if (time.GetUtcNow() - File.GetLastWriteTimeUtc(seen) > RunOrder.OldestOrder + TimeSpan.FromDays(1))
            {
                File.Delete(seen);
            }
        }
    }

    /// <summary>
    /// Accepts an order: on disk before anything starts. An order that was seen before is passed over.
    /// </summary>
    /// <returns>Null, or the event that tells the service that the order was refused.</returns>
    /// <param name="serviceNow">The service's time: a host's own clock may be wrong by years.</param>
    public RunEvent? Accept(RunOrder order, DateTimeOffset serviceNow)
    {
        var name = order.RunId.ToString("N");
        if (entries.ContainsKey(order.RunId) || File.Exists(Path.Combine(state.Seen, name)))
        {
            News.Release();
            return null;
        }
        if (asked.TryGetValue(order.RunId, out var waiting))
        {
            Hold(waiting, waiting.Held);
            return null;
        }
        if (order.Command.Check() is { } problem)
        {
            return Refuse(order, problem);
        }
        var side = rules.Side();
        if (order.Command.Act is { } act)
        {
            if (!side.InForce.Allows(act))
            {
                return Refuse(order, $"This host does not allow {act switch { HostAct.Power => "to restart it, shut it down, or end or lock its people's sessions", HostAct.WriteFiles => "its files to be changed", _ => "commands" }}: {side.Problem ?? "its host policy leaves them out."} Nothing was run.");
            }
            if (side.InForce.AsksKey(act))
            {
                if (sessions.Take(order.Sealed, act) is { } unproven)
                {
                    return Refuse(order, unproven);
                }
                // What counts is what was sealed, not what came beside it.
                if (ReadSealed(order.Sealed!) is not { } command || command.Act != act)
                {
                    return Refuse(order, "The sealed order is no command. Nothing was run.");
                }
                order = order with { Command = command, Sealed = null };
            }
        }
        if (serviceNow - order.OrderedAt > RunOrder.OldestOrder)
        {
            return Refuse(order, $"The order is older than {RunOrder.OldestOrder.TotalDays:0} days; the host can't tell any more whether it ran before. Order it anew.");
        }
        if (entries.Count + asked.Count >= LinkProtocol.MaxUnfinishedRuns)
        {
            return Refuse(order, $"The host has {entries.Count + asked.Count} unfinished runs already, the most it takes. Order again when some have ended.");
        }
        if (order.Command.Act is not null && (ConsentDesk.Concerns(side.InForce) || GraceDesk.Concerns(order)))
        {
            var concerned = asked[order.RunId] = new AskedOrder(order, CancellationTokenSource.CreateLinkedTokenSource(stopping.Token));
            _ = AskAsync(concerned, side.InForce);
            return null;
        }
        return Begin(order);
    }

    /// <summary>Has the people here agree, or tells them, and begins.</summary>
    private async Task AskAsync(AskedOrder waiting, HostPolicy policy)
    {
        var order = waiting.Order;
        RunEvent? refusal;
        try
        {
            var problem = await desk.AskAsync(
                policy, new ConsentQuestion(order.OrderedBy, order.Command.Act!.Value, order.Command.Display(), default),
                until => Hold(waiting, $"A person at the host is asked first; without an answer it is refused at {until:HH:mm} UTC."),
                answer => Answers.Enqueue(new ConsentReport(order.RunId, order.OrderedBy, answer.Person, answer.Agreed)),
                waiting.Withdrawn.Token).ConfigureAwait(false);
            if (problem is null)
            {
                Hold(waiting, policy.Notice == NoticeRule.Before ? "The people at the host are told first; it begins in a moment." : null);
                await desk.TellBeginAsync(policy, order.OrderedBy, order.Command.Display(), waiting.Withdrawn.Token).ConfigureAwait(false);
                await grace.WaitAsync(
                    policy, order, why => Hold(waiting, why),
                    (person, by) => Answers.Enqueue(new ConsentReport(order.RunId, order.OrderedBy, person, true, by.TotalMinutes)),
                    waiting.Withdrawn.Token).ConfigureAwait(false);
                if (policy.Notice != NoticeRule.None)
                {
                    told[order.RunId] = order;
                }
                refusal = Begin(order);
            }
            else
            {
                refusal = Refuse(order, $"{problem} Nothing was run.");
            }
        }
        catch (OperationCanceledException) when (!stopping.IsCancellationRequested)
        {
            refusal = new RunEvent { RunId = order.RunId, Sequence = 0, At = time.GetUtcNow(), Kind = RunEventKind.Ended, End = new RunEnd(RunOutcome.Cancelled, null, "Cancelled before it began.") };
        }
        catch (OperationCanceledException)
        {
            // The agent stops; the service sends the order again.
            return;
        }
        asked.TryRemove(order.RunId, out _);
        waiting.Withdrawn.Dispose();
        if (refusal is not null)
        {
            told.TryRemove(order.RunId, out _);
            Refusals.Enqueue(refusal);
        }
        News.Release();
    }

    private void Hold(AskedOrder waiting, string? why)
    {
        if (why is not null || waiting.Held is not null)
        {
            waiting.Held = why;
            Holds.Enqueue(new RunHeld(waiting.Order.RunId, why));
            News.Release();
        }
    }

    /// <returns>Null, or the event that tells the service that the order was refused.</returns>
    private RunEvent? Begin(RunOrder order)
    {
        var final = Path.Combine(state.Runs, order.RunId.ToString("N"));
        try
        {
            var making = final + ".new";
            if (Directory.Exists(making))
            {
                Directory.Delete(making, recursive: true);
            }
            OwnerOnly.CreateDirectory(making);
            Directory.Move(making, final);
            var run = new RunDirectory(final);
            StateDirectory.WriteWhole(run.OrderFile, order, LinkJson.Default.RunOrder);
            using (var journal = new JournalWriter(run, time))
            {
                journal.AppendAccepted();
                journal.Flush();
            }
            Take(order.RunId, run, startKeeper: true);
            return null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            try
            {
                Directory.Delete(final, recursive: true);
            }
            catch (IOException)
            {
                // Nothing in it counts as accepted; the next start of the agent removes it.
            }
            return Refuse(order, $"The host can't keep a journal under {state.Runs}: {e.Message}. Nothing was run. Free space there and order again.");
        }
    }

    /// <summary>Cancels a run: the mark is on disk before the keeper is told.</summary>
    public void Cancel(Guid runId)
    {
        if (asked.TryGetValue(runId, out var waiting))
        {
            waiting.Withdrawn.Cancel();
        }
        else if (entries.TryGetValue(runId, out var entry))
        {
            try
            {
                File.WriteAllBytes(entry.Directory.CancelFile, []);
            }
            catch (IOException e)
            {
                log.Warning($"run {runId} can't be marked as cancelled: {e.Message}");
            }
            _ = TellKeeperAsync(entry.Directory);
        }
    }

    /// <summary>The service keeps the run up to there; a run kept to its end is forgotten, but for its id.</summary>
    public void Kept(RunKept kept)
    {
        if (!entries.TryGetValue(kept.RunId, out var entry))
        {
            return;
        }
        entry.Kept(kept.Sequence);
        News.Release();
    }

    /// <summary>The next events of one run; drops the run when it is finished.</summary>
    public List<RunEvent> NextBatch(RunEntry entry)
    {
        var batch = entry.NextBatch();
        if (entry.Finished && entries.TryRemove(entry.Directory.RunId, out _))
        {
            entry.Dispose();
            try
            {
                StateDirectory.WriteWhole(Path.Combine(state.Seen, entry.Directory.RunId.ToString("N")), []);
                Directory.Delete(entry.Directory.Path, recursive: true);
            }
            catch (IOException e)
            {
                log.Warning($"the files of finished run {entry.Directory.RunId} stay for now: {e.Message}");
            }
        }
        return batch;
    }

    public void Rewind()
    {
        foreach (var entry in entries.Values)
        {
            entry.Rewind();
        }
        News.Release();
    }

    public void Dispose()
    {
        stopping.Cancel();
        foreach (var entry in entries.Values)
        {
            entry.Dispose();
        }
    }

    private void Take(Guid runId, RunDirectory run, bool startKeeper)
    {
        var entry = new RunEntry(run);
        entries[runId] = entry;
        News.Release();
        _ = WatchAsync(entry, startKeeper);
    }

    /// <summary>Follows a run's keeper; starts one where none lives and the run has not ended.</summary>
    private async Task WatchAsync(RunEntry entry, bool startKeeper)
    {
        var run = entry.Directory;
        try
        {
            for (var attempt = 0; ; attempt++)
            {
                if (startKeeper)
                {
                    platform.StartKeeper(run.Path);
                }
                if (await ConnectAsync(run, startKeeper ? KeeperStart : TimeSpan.FromMilliseconds(100)).ConfigureAwait(false) is { } keeper)
                {
                    using (keeper)
                    {
                        await FollowAsync(entry, keeper).ConfigureAwait(false);
                    }
                }
                News.Release();
                // One that is finished has no journal any more: the service has all of it, and its directory is gone.
                if (entry.Finished || HasEnded(run))
                {
                    if (told.TryRemove(run.RunId, out var order))
                    {
                        desk.TellEnd(order.OrderedBy, order.Command.Display());
                    }
                    return;
                }
                startKeeper = true;
                if (attempt >= KeeperAttempts)
                {
                    GiveUp(run);
                    return;
                }
            }
        }
        catch (OperationCanceledException)
        {
            // The agent stops; the keeper does not.
        }
        catch (Exception e) when (e is IOException or InvalidDataException or SocketException or UnauthorizedAccessException)
        {
            log.Warning($"run {run.RunId} can't be followed: {e.Message}");
        }
    }

    private async Task FollowAsync(RunEntry entry, Socket keeper)
    {
        var words = new byte[4096];
        var held = false;
        while (true)
        {
            int got;
            try
            {
                got = await keeper.ReceiveAsync(words, stopping.Token).ConfigureAwait(false);
            }
            catch (SocketException)
            {
                return;
            }
            if (got == 0)
            {
                return;
            }
            var nowHeld = words[got - 1] == KeeperWords.Held;
            if (nowHeld != held)
            {
                held = nowHeld;
                Holds.Enqueue(new RunHeld(entry.Directory.RunId, held ? $"The disk under {state.Runs} is full: the command waits until there is space to keep its output." : null));
            }
            News.Release();
        }
    }

    private Task<Socket?> ConnectAsync(RunDirectory run, TimeSpan within) => KeeperSocket.ConnectAsync(run.Socket, () => HasEnded(run), within, time, stopping.Token);

    private static async Task TellKeeperAsync(RunDirectory run)
    {
        // A keeper looks for the mark whenever somebody connects.
        using var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        try
        {
            await socket.ConnectAsync(new UnixDomainSocketEndPoint(run.Socket)).ConfigureAwait(false);
            await socket.SendAsync(new[] { KeeperWords.Cancel }).ConfigureAwait(false);
        }
        catch (SocketException)
        {
            // It has not started listening, and will look by itself, or has ended.
        }
    }

    private static bool HasEnded(RunDirectory run)
    {
        using var reader = new JournalReader(run);
        RunEventKind? last = null;
        while (reader.Read() is { } e)
        {
            last = e.Kind;
        }
        return last == RunEventKind.Ended;
    }

    private void GiveUp(RunDirectory run)
    {
        using var right = run.TryLock();
        if (right is null)
        {
            log.Warning($"run {run.RunId} has a keeper that does not answer; it is looked for again when the agent restarts");
            return;
        }
        using var journal = new JournalWriter(run, time);
        if (journal.Last != RunEventKind.Ended)
        {
            journal.AppendEnded(File.Exists(run.StartingFile)
                ? new RunEnd(RunOutcome.Interrupted, null, "The run's keeper ended without a word; how the command ended is not known.")
                : new RunEnd(RunOutcome.NotStarted, 126, "The host could not start a keeper for the run; nothing was run."));
        }
        News.Release();
    }

    private static CommandSpec? ReadSealed(SealedOrder sealedOrder)
    {
        try
        {
            return JsonSerializer.Deserialize(sealedOrder.Text, LinkJson.Default.CommandSpec) is { } command && command.Check() is null ? command : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private RunEvent Refuse(RunOrder order, string reason)
    {
        log.Warning($"run {order.RunId} refused: {reason}");
        return new RunEvent { RunId = order.RunId, Sequence = 0, At = time.GetUtcNow(), Kind = RunEventKind.Ended, End = new RunEnd(RunOutcome.Refused, null, reason) };
    }
}
