using System.Net.Sockets;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;
using Umbrek.Core.Text;
using Umbrek.Wire.Shell;

namespace Umbrek.Agent.Shell;

/// <summary>
/// Keeps one shell: holds its terminal or pipes, remembers the newest output, and outlives the agent. One technician's side is
/// connected to it at a time; a later one takes the place of an earlier. On Linux it is a process of its own.
/// </summary>
public sealed class ShellKeeper(ShellDirectory directory, IShellRunner runner, TimeProvider time)
{
    /// <summary>How much output is remembered.</summary>
    public const int Remembered = 1024 * 1024;

    /// <summary>Time between telling what runs in it that its technician is gone, and ending it.</summary>
    public static readonly TimeSpan Mercy = TimeSpan.FromSeconds(5);

    private const int MostQueuedInput = 4 * ShellWord.Window;
    private static readonly TimeSpan Quiet = TimeSpan.FromMilliseconds(400);
    private static readonly TimeSpan IdleWarning = TimeSpan.FromMinutes(1);
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(1);

    private readonly Lock gate = new();
    private readonly Pulse pulse = new();
    private readonly ShellOutput output = new(Remembered);
    private readonly Queue<byte[]> input = new();
    private readonly TaskCompletionSource heard = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private KeptShell kept = null!;
    private IShellProcess? process;
    private Attendance? current;
    private DateTimeOffset aloneSince;
    private DateTimeOffset lastKeyAt;
    private DateTimeOffset lastOutputAt;
    private long seen;
    private long taken;
    private long queued;
    private RunEnd? ended;
    private string? endedBecause;
    private bool endsUnheard;
    private string? notice;
    private int notices;

    /// <summary>A technician's side, as far as the keeper sees it.</summary>
    private sealed class Attendance(KeeperStream stream) : IDisposable
    {
        private readonly CancellationTokenSource over = new();

        public KeeperStream Stream { get; } = stream;
        public long Sent { get; set; }
        public long TakenTold { get; set; }
        public bool EndTold { get; set; }
        public int NoticesTold { get; set; }
        public bool Displaced { get; set; }
        public CancellationToken Over => over.Token;

        public void Close() => over.Cancel();

        public void Dispose()
        {
            Stream.Dispose();
            over.Dispose();
        }
    }

    private bool IsTerminal => kept.Wish.Terminal is not null;

    /// <summary>Completes when the shell has ended and somebody has heard of it, or nobody came to hear.</summary>
    public async Task RunAsync(CancellationToken abandon)
    {
        using var right = directory.TryLock();
        if (right is null || directory.Read() is not { } shell)
        {
            return;
        }
        kept = shell;
        aloneSince = lastKeyAt = time.GetUtcNow();
        using var listening = Listen();
        using var done = CancellationTokenSource.CreateLinkedTokenSource(abandon);
        try
        {
            process = runner.Start(kept.Wish, kept.Technician);
        }
        catch (CommandNotStartedException e)
        {
            ended = new RunEnd(RunOutcome.NotStarted, e.ExitStatus, e.Message);
        }
        var accepting = AcceptAsync(listening, done.Token);
        var watching = WatchAsync(done.Token);
        if (process is not null)
        {
            _ = WriteInputAsync(process, done.Token);
            var pumps = Task.WhenAll(process.Outputs.Select(o => PumpAsync(o.Stream, o.From)));
            var end = await process.Ended.WaitAsync(abandon).ConfigureAwait(false);
            await DrainAsync(pumps, abandon).ConfigureAwait(false);
            lock (gate)
            {
                ended = endedBecause is { } why ? end with { Reason = why } : end;
                if (endsUnheard && current is null)
                {
                    heard.TrySetResult();
                }
            }
            pulse.Now();
        }
        await heard.Task.WaitAsync(abandon).ConfigureAwait(false);
        await done.CancelAsync().ConfigureAwait(false);
        listening.Close();
        await Task.WhenAll(accepting, watching).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        process?.Dispose();
        directory.Remove();
    }

    private Socket Listen()
    {
        File.Delete(directory.Socket);
        var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        socket.Bind(new UnixDomainSocketEndPoint(directory.Socket));
        socket.Listen(8);
        return socket;
    }

    private Task PumpAsync(ShellStream stream, Stream from) => Task.Factory.StartNew(
        () =>
        {
            var buffer = new byte[ShellWord.MaxData];
            while (true)
            {
                int got;
                try
                {
                    got = from.Read(buffer);
                }
                catch (Exception e) when (e is IOException or ObjectDisposedException or UnauthorizedAccessException)
                {
                    // Nobody holds a terminal's other side any more: EIO.
                    return;
                }
                if (got == 0)
                {
                    return;
                }
                Keep(stream, buffer.AsSpan(0, got).ToArray());
            }
        },
        CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);

    /// <summary>Waits while whoever is connected is too far behind, or while pipes have no room: what is not read holds up the command.</summary>
    private void Keep(ShellStream stream, byte[] data)
    {
        while (true)
        {
            Task changed;
            lock (gate)
            {
                lastOutputAt = time.GetUtcNow();
                if (MayTake(data.Length))
                {
                    output.Add(stream, data);
                    break;
                }
                changed = pulse.Next;
            }
            changed.Wait();
        }
        pulse.Now();
    }

    private bool MayTake(int bytes) =>
        endedBecause is not null
        || (IsTerminal ? current is null || output.End - seen < ShellWord.Window : output.Room >= bytes);

    /// <summary>Hands on what was typed, on a thread of its own: a program that does not read holds up nothing else.</summary>
    private Task WriteInputAsync(IShellProcess to, CancellationToken done) => Task.Factory.StartNew(
        () =>
        {
            var open = true;
            while (NextInput(done) is { } next)
            {
                try
                {
                    if (next.Length == 0)
                    {
                        to.EndInput();
                        open = IsTerminal;
                    }
                    else if (open)
                    {
                        to.Input.Write(next);
                    }
                }
                catch (Exception e) when (e is IOException or ObjectDisposedException)
                {
                    // It reads no more; what still comes for it goes nowhere, as with any pipe whose reader is gone.
                    open = false;
                }
                // Said behind the key, so that its echo is not held up by the word for it.
                pulse.Now();
            }
        },
        CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);

    /// <summary>Waits for what is typed; no bytes say that no more comes.</summary>
    /// <returns>Null when it is over.</returns>
    private byte[]? NextInput(CancellationToken done)
    {
        while (!done.IsCancellationRequested)
        {
            Task changed;
            lock (gate)
            {
                if (input.TryDequeue(out var next))
                {
                    taken += next.Length;
                    queued -= next.Length;
                    return next;
                }
                changed = pulse.Next;
            }
            try
            {
                changed.Wait(done);
            }
            catch (OperationCanceledException)
            {
                return null;
            }
        }
        return null;
    }

    private async Task AcceptAsync(Socket listening, CancellationToken done)
    {
        while (!done.IsCancellationRequested)
        {
            Socket agent;
            try
            {
                agent = await listening.AcceptAsync(done).ConfigureAwait(false);
            }
            catch (Exception e) when (e is SocketException or ObjectDisposedException or OperationCanceledException)
            {
                return;
            }
            _ = AttendAsync(new Attendance(new KeeperStream(agent)), done);
        }
    }

    /// <summary>One technician's side, from its first word to its going.</summary>
    private async Task AttendAsync(Attendance mine, CancellationToken done)
    {
        using var over = CancellationTokenSource.CreateLinkedTokenSource(mine.Over, done);
        try
        {
            if (await mine.Stream.ReadAsync(over.Token).ConfigureAwait(false) is not { IsWord: true } first || first.ReadWord() is not { } word)
            {
                return;
            }
            if (word is { End: true, Seen: null })
            {
                lock (gate)
                {
                    endsUnheard = true;
                }
                await EndAsync("its session ended").ConfigureAwait(false);
                return;
            }
            var opened = Begin(mine, word.Seen ?? 0);
            Take(mine, word with { Seen = null });
            await mine.Stream.WriteAsync(new ShellWord(Opened: opened), over.Token).ConfigureAwait(false);
            var sending = SendAsync(mine, over.Token);
            var hearing = HearAsync(mine, over.Token);
            await Task.WhenAny(sending, hearing).ConfigureAwait(false);
            await over.CancelAsync().ConfigureAwait(false);
            await Task.WhenAll(sending, hearing).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            if (mine.Displaced)
            {
                using var limit = new CancellationTokenSource(Mercy);
                await mine.Stream.WriteAsync(new ShellWord(Displaced: true), limit.Token).ConfigureAwait(false);
            }
        }
        catch (Exception e) when (e is IOException or OperationCanceledException or InvalidDataException or System.Text.Json.JsonException or ObjectDisposedException)
        {
            // The agent went away, or said something that is none of its words; it comes back when it can.
        }
        finally
        {
            lock (gate)
            {
                if (current == mine)
                {
                    current = null;
                    aloneSince = time.GetUtcNow();
                    if (endsUnheard && ended is not null)
                    {
                        heard.TrySetResult();
                    }
                }
            }
            pulse.Now();
            mine.Dispose();
        }
    }

    private ShellOpened Begin(Attendance mine, long seenBefore)
    {
        lock (gate)
        {
            if (current is { } earlier)
            {
                earlier.Displaced = true;
                earlier.Close();
            }
            current = mine;
            var from = Math.Clamp(seenBefore, output.Start, output.End);
            seen = from;
            mine.Sent = from;
            // What was said before and not taken is said again.
            input.Clear();
            queued = 0;
            mine.TakenTold = taken;
            return new ShellOpened(directory.ShellId, process?.Pid ?? 0, process?.User ?? kept.Wish.User ?? "", from, Math.Max(0, output.Start - seenBefore), taken);
        }
    }

    private async Task SendAsync(Attendance mine, CancellationToken over)
    {
        while (true)
        {
            List<ShellPiece> pieces;
            ShellWord? word = null;
            Task changed;
            lock (gate)
            {
                changed = pulse.Next;
                pieces = output.From(mine.Sent, Math.Min(seen + ShellWord.Window - mine.Sent, 4 * ShellWord.MaxData));
                if (taken != mine.TakenTold)
                {
                    word = new ShellWord(Taken: mine.TakenTold = taken);
                }
                else if (notice is not null && notices != mine.NoticesTold)
                {
                    // Counted, as the next warning may be in the same words.
                    mine.NoticesTold = notices;
                    word = new ShellWord(Notice: notice);
                }
                else if (ended is not null && !mine.EndTold && mine.Sent == output.End)
                {
                    mine.EndTold = true;
                    word = new ShellWord(Ended: ended);
                }
            }
            if (pieces.Count == 0 && word is null)
            {
                await changed.WaitAsync(over).ConfigureAwait(false);
                continue;
            }
            foreach (var piece in pieces)
            {
                await mine.Stream.WriteAsync(piece.Stream, piece.Data, over).ConfigureAwait(false);
                mine.Sent = piece.Offset + piece.Data.Length;
            }
            if (word is not null)
            {
                await mine.Stream.WriteAsync(word, over).ConfigureAwait(false);
            }
        }
    }

    private async Task HearAsync(Attendance mine, CancellationToken over)
    {
        while (await mine.Stream.ReadAsync(over).ConfigureAwait(false) is { } message)
        {
            if (!message.IsWord)
            {
                lock (gate)
                {
                    if (message.Stream != ShellStream.Input || (queued += message.Data.Length) > MostQueuedInput)
                    {
                        throw new InvalidDataException("more input came than was asked for");
                    }
                    if (!message.Data.IsEmpty)
                    {
                        input.Enqueue(message.Data.ToArray());
                    }
                    lastKeyAt = time.GetUtcNow();
                    notice = null;
                }
                pulse.Now();
            }
            else if (message.ReadWord() is { } word)
            {
                Take(mine, word);
            }
        }
    }

    private void Take(Attendance mine, ShellWord word)
    {
        if (word.Size is { } size)
        {
            process?.Resize(size.Within());
        }
        if (word.Signal is { } signal && Enum.IsDefined(signal))
        {
            process?.Signal(signal);
        }
        lock (gate)
        {
            if (word.Seen is { } offset && offset > seen && current == mine)
            {
                seen = Math.Min(offset, mine.Sent);
                if (!IsTerminal)
                {
                    output.DropBefore(seen);
                }
            }
            if (word.InputEnds == true)
            {
                input.Enqueue([]);
            }
        }
        pulse.Now();
        if (word.End == true)
        {
            _ = EndAsync("ended by its technician");
        }
    }

    /// <summary>Ends the shell; one that has ended already was heard of.</summary>
    private async Task EndAsync(string why)
    {
        lock (gate)
        {
            if (ended is not null)
            {
                heard.TrySetResult();
                return;
            }
            endedBecause ??= why;
        }
        pulse.Now();
        process!.HangUp(force: false);
        try
        {
            await process.Ended.WaitAsync(Mercy, time).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            process.HangUp(force: true);
        }
    }

    /// <summary>Ends it when nobody comes back, or nobody types.</summary>
    private async Task WatchAsync(CancellationToken done)
    {
        var (keep, idle) = (kept.Wish.Keep, kept.Wish.Idle);
        using var timer = new PeriodicTimer(Look, time);
        while (await timer.WaitForNextTickAsync(done).ConfigureAwait(false))
        {
            var now = time.GetUtcNow();
            string? why = null;
            lock (gate)
            {
                if (current is null && now - aloneSince >= keep)
                {
                    why = $"nobody was connected to it for {Units.Span(keep)}";
                }
                else if (IsTerminal && ended is null && now - lastKeyAt >= idle)
                {
                    why = $"no key was pressed for {Units.Span(idle)}";
                }
                else if (IsTerminal && ended is null && idle > IdleWarning && now - lastKeyAt >= idle - IdleWarning && notice is null)
                {
                    notices++;
                    notice = $"No key was pressed for {Units.Span(idle - IdleWarning)}. It ends in a minute; any key keeps it.";
                }
            }
            pulse.Now();
            if (why is not null)
            {
                await EndAsync(why).ConfigureAwait(false);
            }
        }
    }

    /// <summary>Takes what is still on its way from it; what it leaves running may hold its outputs open for ever.</summary>
    private async Task DrainAsync(Task pumps, CancellationToken abandon)
    {
        lock (gate)
        {
            lastOutputAt = time.GetUtcNow();
        }
        while (!pumps.IsCompleted)
        {
            await Task.WhenAny(pumps, Task.Delay(Quiet / 4, time, abandon)).ConfigureAwait(false);
            lock (gate)
            {
                // Held up by whoever reads is not quiet.
                if (!pumps.IsCompleted && time.GetUtcNow() - lastOutputAt >= Quiet && MayTake(1))
                {
                    return;
                }
            }
        }
    }
}

/// <summary>Wakes whoever waits for a change of something that a lock guards: he takes <see cref="Next"/> under it before he looks.</summary>
internal sealed class Pulse
{
    private TaskCompletionSource next = new(TaskCreationOptions.RunContinuationsAsynchronously);

    public Task Next => Volatile.Read(ref next).Task;

    public void Now() => Interlocked.Exchange(ref next, new(TaskCreationOptions.RunContinuationsAsynchronously)).TrySetResult();
}
