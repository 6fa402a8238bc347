using System.Net.Sockets;
using Umbrek.Core.Jobs;

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
public sealed class Keeper(RunDirectory run, ICommandRunner runner, TimeProvider time) : IDisposable
{
    /// <summary>Time between asking a cancelled command to end and ending it.</summary>
    public static readonly TimeSpan Mercy = TimeSpan.FromSeconds(5);

    /// <summary>How long output is still read, without any coming, after the command has ended but left its pipes to a child.</summary>
    private static readonly TimeSpan Quiet = TimeSpan.FromMilliseconds(400);
    private static readonly TimeSpan RetryFullDisk = TimeSpan.FromSeconds(1);

    private readonly Lock gate = new();
    private readonly List<Socket> listeners = [];
    private readonly CancellationTokenSource cancelled = new();
    private bool ended;
    private long lastOutputAt;

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
            await InsistAsync(() => journal.AppendEnded(new RunEnd(RunOutcome.Interrupted, null, "The host or the run's keeper went down while the command ran; how it ended is not known.")), abandon).ConfigureAwait(false);
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
        await InsistAsync(() => Umbrek.Agent.Hosting.StateDirectory.WriteWhole(run.StartingFile, []), abandon).ConfigureAwait(false);
        IRunningCommand started;
        try
        {
            started = runner.Start(command);
        }
        catch (CommandNotStartedException e)
        {
            await InsistAsync(() => journal.AppendEnded(new RunEnd(RunOutcome.NotStarted, e.ExitStatus, e.Message)), abandon).ConfigureAwait(false);
            return;
        }
        using (started)
        {
            await InsistAsync(() => journal.AppendStarted(new RunStart(started.Pid, started.User)), abandon).ConfigureAwait(false);
            var pumps = Task.WhenAll(
                PumpAsync(journal, started.Stdout, RunEventKind.Stdout, abandon),
                PumpAsync(journal, started.Stderr, RunEventKind.Stderr, abandon));
            var end = await WatchAsync(started, command, abandon).ConfigureAwait(false);
            await DrainAsync(pumps, abandon).ConfigureAwait(false);
            await InsistAsync(() => journal.AppendEnded(end), abandon, last: true).ConfigureAwait(false);
        }
    }

    /// <summary>Waits for the command's end, and brings it about on cancelling and at its time limit.</summary>
    private async Task<RunEnd> WatchAsync(IRunningCommand started, CommandSpec command, CancellationToken abandon)
    {
        using var limit = command.TimeoutSeconds is { } seconds
            ? new CancellationTokenSource(TimeSpan.FromSeconds(Math.Min(seconds, 4_000_000)), time)
            : new CancellationTokenSource();
        using var either = CancellationTokenSource.CreateLinkedTokenSource(limit.Token, cancelled.Token, abandon);
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
                : new RunEnd(RunOutcome.TimedOut, end.ExitStatus, $"It was still running after {command.TimeoutSeconds:0.###} s and was ended.");
        }
    }

    private Task PumpAsync(JournalWriter journal, Stream source, RunEventKind kind, CancellationToken abandon) => Task.Factory.StartNew(
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
                // Nothing is read on while the disk is full, so the command waits on its pipe and nothing is lost.
                InsistAsync(() => journal.Append(kind, buffer.AsMemory(0, got)), abandon).GetAwaiter().GetResult();
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
