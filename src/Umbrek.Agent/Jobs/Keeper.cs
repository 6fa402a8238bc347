using System.Net.Sockets;
using System.Text;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;

namespace Umbrek.Agent.Jobs;

/// <summary>One-byte words between a keeper and the agent, over the keeper's socket.</summary>
public static class KeeperWords
{
    /// <summary>Keeper: the journal has grown.</summary>
    public const byte Grown = (byte)'+';

    /// <summary>Keeper: the journal can't be written (disk full); the command is held back.</summary>
    public const byte Held = (byte)'!';

    /// <summary>Agent: look whether the run was cancelled.</summary>
    public const byte Cancel = (byte)'c';
}

/// <summary>
/// Keeps one run: starts its command at most once, writes output and end to the journal, and outlives the agent. It ends
/// when the run has ended. On Linux it is a process of its own.
/// </summary>
/// <param name="life">Tells one life of the system from the next, so that a restart that was ordered is known as done.</param>
public sealed class Keeper(RunDirectory run, ICommandRunner runner, TimeProvider time, string? life = null) : IDisposable
{
    /// <summary>Time between asking a cancelled command to end and ending it.</summary>
    public static readonly TimeSpan Mercy = TimeSpan.FromSeconds(5);

    /// <summary>How long output is still read, without any coming, after the command has ended but left its pipes to a child.</summary>
    private static readonly TimeSpan Quiet = TimeSpan.FromMilliseconds(400);
    private static readonly TimeSpan RetryFullDisk = TimeSpan.FromSeconds(1);

    /// <summary>How long a system that has taken the order to restart may take to go down.</summary>
    public static readonly TimeSpan GoingDown = TimeSpan.FromMinutes(10);

    /// <summary>A system that goes down ends every process before the last ones: whether it does shows within so long.</summary>
    public static readonly TimeSpan LastMoments = TimeSpan.FromSeconds(10);

    private readonly Lock gate = new();
    private readonly List<Socket> listeners = [];
    private readonly CancellationTokenSource cancelled = new();
    private bool ended;
    private bool hasStarted;
    private volatile bool standsInLine;
    private long lastOutputAt;
    private long keptBytes;
    private long droppedBytes;

    public async Task RunAsync(CancellationToken abandon)
    {
        using var right = await TakeRightAsync(abandon).ConfigureAwait(false);
        if (right is null)
        {
            return;
        }
        using var journal = new JournalWriter(run, time);
        if (journal.Last == RunEventKind.Ended)
        {
            return;
        }
        using var listening = Listen();
        var accepting = AcceptAsync(listening, abandon);
        if (File.Exists(run.StartingFile))
        {
            var isDown = run.ReadOrder().Command.Action?.Power is { TakesDown: true };
            var before = File.ReadAllText(run.StartingFile);
            if (isDown && before == life)
            {
                // The host may be on its way down, and this keeper the next that goes.
                await Task.Delay(LastMoments, time, abandon).ConfigureAwait(false);
            }
            await InsistAsync(() => Conclude(journal, isDown && life is not null && before.Length > 0 && before != life), abandon).ConfigureAwait(false);
        }
        else
        {
            await KeepAsync(journal, abandon).ConfigureAwait(false);
        }
        listening.Close();
        await accepting.ConfigureAwait(false);
        lock (gate)
        {
            listeners.ForEach(l => l.Dispose());
        }
    }

    /// <summary>How a run ended whose keeper went down in the middle: one that was to take the host down has done it when the host is up again.</summary>
    private void Conclude(JournalWriter journal, bool wentDownAsOrdered)
    {
        if (!wentDownAsOrdered)
        {
            journal.AppendEnded(new RunEnd(RunOutcome.Interrupted, null, "The host or the run's keeper went down while the command ran; how it ended is not known."));
            return;
        }
        var took = time.GetUtcNow() - File.GetLastWriteTimeUtc(run.StartingFile);
        journal.Append(RunEventKind.Stdout, Encoding.UTF8.GetBytes(took > TimeSpan.Zero ? $"It is back after {Units.Span(took)}.\n" : "It is back.\n"));
        journal.AppendEnded(new RunEnd(RunOutcome.Exited, 0, null));
    }

    /// <summary>Waits for a system that was told to go down; its end is this keeper's as well.</summary>
    /// <returns>How it ended, when it did not go down.</returns>
    private async Task<RunEnd> WaitForDownAsync(PowerWish wish, RunEnd end, CancellationToken abandon)
    {
        var taken = end is { Outcome: RunOutcome.Exited, ExitStatus: 0 };
        if (!wish.TakesDown || (taken ? wish.Act == PowerAct.ShutDown : end.Outcome != RunOutcome.Signalled))
        {
            return end;
        }
        using var either = CancellationTokenSource.CreateLinkedTokenSource(cancelled.Token, abandon);
        await Task.Delay(taken ? GoingDown : LastMoments, time, either.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        abandon.ThrowIfCancellationRequested();
        return !taken ? end
            : cancelled.IsCancellationRequested ? new RunEnd(RunOutcome.Cancelled, 0, "The system has taken the order to restart, and it can't be taken back.")
            : new RunEnd(RunOutcome.Exited, 1, $"The system has taken the order to restart, and has not gone down within {GoingDown.TotalMinutes:0} minutes.");
    }

    /// <summary>The agent holds the right for an instant when it looks whether a keeper lives, so one refusal is no proof of another keeper.</summary>
    private async Task<IDisposable?> TakeRightAsync(CancellationToken abandon)
    {
        for (var attempt = 0; attempt < 20; attempt++)
        {
            if (run.TryLock() is { } right)
            {
                return right;
            }
            await Task.Delay(TimeSpan.FromMilliseconds(50), time, abandon).ConfigureAwait(false);
        }
        return null;
    }

    private async Task KeepAsync(JournalWriter journal, CancellationToken abandon)
    {
        var command = run.ReadOrder().Command;
        if (File.Exists(run.CancelFile))
        {
            await InsistAsync(() => journal.AppendEnded(new RunEnd(RunOutcome.Cancelled, null, "Cancelled before it started.")), abandon).ConfigureAwait(false);
            return;
        }
        await InsistAsync(() => Umbrek.Agent.Hosting.StateDirectory.WriteWhole(run.StartingFile, Encoding.UTF8.GetBytes(life ?? "")), abandon).ConfigureAwait(false);
        var end = command.Steps is { } steps
            ? await new StepWalk(command, steps, time, (step, whole) => DoAsync(journal, step, command.OutputLimit, whole, abandon), mark => InsistAsync(() => journal.AppendStep(mark), abandon), line => SayAsync(journal, line, abandon), cancelled.Token, abandon).RunAsync().ConfigureAwait(false)
            : await DoAsync(journal, command, command.OutputLimit, default, abandon).ConfigureAwait(false);
        if (command.Action?.Power is { } power && end.Outcome != RunOutcome.NotStarted)
        {
            end = await WaitForDownAsync(power, end, abandon).ConfigureAwait(false);
        }
        await InsistAsync(() => journal.AppendEnded(WithCut(end, command.OutputLimit)), abandon, last: true).ConfigureAwait(false);
    }

    /// <summary>Runs one command to its end, with what it puts out in the journal.</summary>
    /// <param name="whole">Ends it as its time limit does: the time of the runbook that it is a step of.</param>
    private async Task<RunEnd> DoAsync(JournalWriter journal, CommandSpec command, long outputLimit, CancellationToken whole, CancellationToken abandon)
    {
        IRunningCommand started;
        try
        {
            started = runner.Start(command);
        }
        catch (CommandNotStartedException e)
        {
            return new RunEnd(RunOutcome.NotStarted, e.ExitStatus, e.Message);
        }
        using (started)
        {
            if (!hasStarted)
            {
                hasStarted = true;
                await InsistAsync(() => journal.AppendStarted(new RunStart(started.Pid, started.User)), abandon).ConfigureAwait(false);
            }
            var pumps = Task.WhenAll(
                PumpAsync(journal, started.Stdout, RunEventKind.Stdout, outputLimit, abandon),
                PumpAsync(journal, started.Stderr, RunEventKind.Stderr, outputLimit, abandon));
            var end = await WatchAsync(started, command, whole, abandon).ConfigureAwait(false);
            await DrainAsync(pumps, abandon).ConfigureAwait(false);
            return end;
        }
    }

    /// <summary>Puts a line of the keeper's own between what steps put out.</summary>
    private Task SayAsync(JournalWriter journal, string line, CancellationToken abandon)
    {
        var text = Encoding.UTF8.GetBytes($"{(standsInLine ? "\n" : "")}{line}\n");
        standsInLine = false;
        return InsistAsync(() => journal.Append(RunEventKind.Stdout, text), abandon);
    }

    private RunEnd WithCut(RunEnd end, long limit) => Volatile.Read(ref droppedBytes) is > 0 and var dropped
        ? end with { Reason = string.Join(' ', new[] { end.Reason, $"Its output was cut after {Units.Bytes(limit)}; {Units.Bytes(dropped)} more came and were not kept." }.OfType<string>()) }
        : end;

    /// <returns>How many of the bytes are to be kept.</returns>
    private int Admit(int got, long limit)
    {
        lock (gate)
        {
            var fits = (int)Math.Clamp(limit - keptBytes, 0, got);
            keptBytes += fits;
            droppedBytes += got - fits;
            return fits;
        }
    }

    /// <summary>Waits for the command's end, and brings it about on cancelling and at its time limit.</summary>
    private async Task<RunEnd> WatchAsync(IRunningCommand started, CommandSpec command, CancellationToken whole, CancellationToken abandon)
    {
        using var limit = command.TimeoutSeconds is { } seconds
            ? new CancellationTokenSource(TimeSpan.FromSeconds(Math.Min(seconds, 4_000_000)), time)
            : new CancellationTokenSource();
        using var either = CancellationTokenSource.CreateLinkedTokenSource(limit.Token, cancelled.Token, whole, abandon);
        try
        {
            return await started.Ended.WaitAsync(either.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (!abandon.IsCancellationRequested)
        {
            var byPerson = cancelled.IsCancellationRequested;
            started.Terminate(force: false);
            RunEnd end;
            try
            {
                end = await started.Ended.WaitAsync(Mercy, time, abandon).ConfigureAwait(false);
            }
            catch (TimeoutException)
            {
                started.Terminate(force: true);
                end = await started.Ended.WaitAsync(abandon).ConfigureAwait(false);
            }
            // What left the first process behind goes too.
            started.Terminate(force: true);
            return byPerson
                ? new RunEnd(RunOutcome.Cancelled, end.ExitStatus, null)
                : new RunEnd(RunOutcome.TimedOut, end.ExitStatus, whole.IsCancellationRequested ? null : $"It was still running after {command.TimeoutSeconds:0.###} s and was ended.");
        }
    }

    private Task PumpAsync(JournalWriter journal, Stream source, RunEventKind kind, long limit, CancellationToken abandon) => Task.Factory.StartNew(
        () =>
        {
            var buffer = new byte[RunEvent.MaxDataBytes];
            while (true)
            {
                int got;
                try
                {
                    got = source.Read(buffer);
                }
                catch (Exception e) when (e is IOException or ObjectDisposedException)
                {
                    return;
                }
                if (got == 0)
                {
                    return;
                }
                Volatile.Write(ref lastOutputAt, time.GetTimestamp());
                if (Admit(got, limit) is > 0 and var fits)
                {
                    // Nothing is read on while the disk is full, so the command waits on its pipe and nothing is lost.
                    standsInLine = kind == RunEventKind.Stdout ? buffer[fits - 1] != (byte)'\n' : standsInLine;
                    InsistAsync(() => journal.Append(kind, buffer.AsMemory(0, fits)), abandon).GetAwaiter().GetResult();
                }
            }
        },
        abandon, TaskCreationOptions.LongRunning, TaskScheduler.Default);

    private async Task DrainAsync(Task pumps, CancellationToken abandon)
    {
        Volatile.Write(ref lastOutputAt, time.GetTimestamp());
        var deadline = time.GetTimestamp();
        while (!pumps.IsCompleted && time.GetElapsedTime(deadline) < 10 * Quiet && time.GetElapsedTime(Volatile.Read(ref lastOutputAt)) < Quiet)
        {
            await Task.WhenAny(pumps, Task.Delay(Quiet / 4, time, abandon)).ConfigureAwait(false);
        }
    }

    /// <summary>Writes to the journal, again and again while the disk is full, and tells the agent either way.</summary>
    private async Task InsistAsync(Action write, CancellationToken abandon, bool last = false)
    {
        while (true)
        {
            try
            {
                lock (gate)
                {
                    if (ended)
                    {
                        return;
                    }
                    write();
                    ended = last;
                }
                Tell(KeeperWords.Grown);
                return;
            }
            catch (IOException)
            {
                Tell(KeeperWords.Held);
                await Task.Delay(RetryFullDisk, time, abandon).ConfigureAwait(false);
            }
        }
    }

    public void Dispose() => cancelled.Dispose();

    private Socket Listen()
    {
        File.Delete(run.Socket);
        var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        socket.Bind(new UnixDomainSocketEndPoint(run.Socket));
        socket.Listen(4);
        return socket;
    }

    private async Task AcceptAsync(Socket listening, CancellationToken abandon)
    {
        try
        {
            while (true)
            {
                var agent = await listening.AcceptAsync(abandon).ConfigureAwait(false);
                lock (gate)
                {
                    listeners.Add(agent);
                }
                Tell(KeeperWords.Grown);
                _ = HearAsync(agent, abandon);
            }
        }
        catch (Exception e) when (e is SocketException or ObjectDisposedException or OperationCanceledException)
        {
            // The run has ended.
        }
    }

    private async Task HearAsync(Socket agent, CancellationToken abandon)
    {
        var words = new byte[16];
        try
        {
            do
            {
                if (File.Exists(run.CancelFile))
                {
                    await cancelled.CancelAsync().ConfigureAwait(false);
                }
            }
            while (await agent.ReceiveAsync(words, abandon).ConfigureAwait(false) > 0);
        }
        catch (Exception e) when (e is SocketException or ObjectDisposedException or OperationCanceledException)
        {
            // The agent went away; it comes back when it can.
        }
        lock (gate)
        {
            listeners.Remove(agent);
        }
        agent.Dispose();
    }

    private void Tell(byte word)
    {
        lock (gate)
        {
            foreach (var agent in listeners)
            {
                try
                {
                    agent.Blocking = false;
                    agent.Send([word]);
                }
                catch (SocketException)
                {
                    // Full: the agent has words of ours to read yet. Gone: HearAsync sees it.
                }
                catch (ObjectDisposedException)
                {
                }
            }
        }
    }
}
