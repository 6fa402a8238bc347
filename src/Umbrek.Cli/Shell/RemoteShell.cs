using System.Net.WebSockets;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Jobs;
using Umbrek.Core.Links;
using Umbrek.Core.Shell;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;
using Umbrek.Wire.Shell;

namespace Umbrek.Cli.Shell;

/// <summary>What comes from the host can't be written out any more: whoever read it is gone.</summary>
public sealed class OutputGoneException(IOException inner) : Exception(inner.Message, inner);

/// <summary>How a session on the host is opened, with its key proven where that is needed.</summary>
/// <param name="Id">The session.</param>
/// <param name="Seal">Seals a wish in it; null where no key was given.</param>
public sealed record ShellSession(Guid Id, Func<ShellWish, Core.Access.SealedOrder>? Seal);

/// <summary>
/// A technician's side of one shell: what comes is written out byte for byte, what is typed is sent. A broken line is taken up again
/// where it was, both ways.
/// </summary>
public sealed class RemoteShell(ApiClient api, ServicePin? pin, Func<CancellationToken, Task<ShellSession>> openSession, ShellWish first, bool usesVault, TimeProvider time) : IDisposable
{
    private const int AcknowledgeEvery = 32 * 1024;

    /// <summary>Channels that may close before there is a shell; the host begins it once all the same.</summary>
    private const int MostUnopened = 1;

    private readonly Lock gate = new();
    private readonly Queue<byte[]> underWay = new();
    private readonly SemaphoreSlim room = new(0);
    private readonly CancellationTokenSource leaving = new();
    private readonly CancellationTokenSource ended = new();
    private readonly Guid beginAs = Guid.CreateVersion7();
    private ShellFrames? connected;
    private ShellSession? session;
    private Guid? shellId = first.ShellId;
    private int unopened;
    private long received = first.Seen;
    private long sent;
    private long taken;
    private bool inputEnded;
    private bool asksToEnd;
    private TerminalSize? size = first.Terminal;
    private string? brokeBecause;

    /// <summary>Output as it comes; what is given is good until this returns.</summary>
    public required Action<ShellStream, ReadOnlyMemory<byte>> Show { get; init; }

    /// <summary>A sentence for the person.</summary>
    public required Action<string> Say { get; init; }

    /// <summary>Called whenever the shell is connected to (again).</summary>
    public Action<RemoteShell, ShellOpened>? Opened { get; init; }

    /// <summary>Whether what happens is recorded; null where it is not.</summary>
    public ChannelRecording? Recording { get; private set; }

    public Guid? ShellId => shellId;

    public bool IsConnected
    {
        get
        {
            lock (gate)
            {
                return connected is not null;
            }
        }
    }

    /// <summary>Cancelled when it is over, one way or another.</summary>
    public CancellationToken Over => ended.Token;

    /// <summary>The host was told to begin it, whether or not that was heard.</summary>
    private bool MayHaveBegun => shellId is not null || unopened > 0;

    /// <summary>Leaves the shell; it goes on.</summary>
    public void Leave() => leaving.Cancel();

    /// <returns>How it ended; null when it was left, or somebody connected to it from another place.</returns>
    /// <exception cref="ClientException">There is no shell, or no way back to it.</exception>
    public async Task<RunEnd?> RunAsync(CancellationToken cancel)
    {
        using var either = CancellationTokenSource.CreateLinkedTokenSource(cancel, leaving.Token);
        DateTimeOffset? brokeAt = null;
        try
        {
            for (var attempt = 0; ; attempt++)
            {
                string why;
                try
                {
                    session ??= await openSession(either.Token).ConfigureAwait(false);
                    var (over, end) = await ConnectAsync(() => (attempt, brokeAt) = (0, null), either.Token).ConfigureAwait(false);
                    if (over)
                    {
                        return end;
                    }
                    why = brokeBecause ?? "The line broke";
                }
                catch (ApiException e) when (MayHaveBegun && brokeAt is not null && e.Problem.Word is ProblemTypes.Conflict or ProblemTypes.NotFound)
                {
                    // The session is over, with the service that held it: another one leads to the same shell. One that somebody has ended took the shell with it.
                    why = e.Message;
                    try
                    {
                        session = session is null || await EndedSession.IsByNobodyAsync(api, session.Id, e, either.Token).ConfigureAwait(false) ? null : session;
                    }
                    catch (UnreachableException away)
                    {
                        why = away.Message;
                    }
                }
                catch (Exception e) when (MayHaveBegun && e is UnreachableException or WebSocketException or IOException or ApiException { Problem.Word: ProblemTypes.HostAway })
                {
                    why = e.Message;
                }
                catch (WebSocketException e) when (!either.IsCancellationRequested)
                {
                    throw new ClientException($"The line broke before there was a shell ({e.Message.TrimEnd('.')}). Try again.");
                }
                brokeAt ??= time.GetUtcNow();
                if (attempt == 0)
                {
                    Say($"{why.TrimEnd('.')}; the shell goes on. Connecting again …");
                }
                if (time.GetUtcNow() - brokeAt > first.Keep)
                {
                    throw new ClientException($"The shell can't be reached any more: {why}");
                }
                await Task.Delay(Backoff.Delay(attempt, Random.Shared.NextDouble()), time, either.Token).ConfigureAwait(false);
            }
        }
        catch (OperationCanceledException) when (leaving.IsCancellationRequested)
        {
            return null;
        }
        catch (Exception e) when (e is ClientException or ApiException)
        {
            // Nobody comes back to it.
            await EndSessionAsync(cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            throw;
        }
        finally
        {
            await ended.CancelAsync().ConfigureAwait(false);
        }
    }

    /// <summary>Sends input; waits while the host is far behind.</summary>
    public async Task TypeAsync(ReadOnlyMemory<byte> data, CancellationToken cancel)
    {
        var copy = data.ToArray();
        ShellFrames? to;
        while (true)
        {
            lock (gate)
            {
                if (sent - taken + copy.Length <= ShellWord.Window)
                {
                    underWay.Enqueue(copy);
                    sent += copy.Length;
                    to = connected;
                    break;
                }
            }
            await room.WaitAsync(cancel).ConfigureAwait(false);
        }
        await TryAsync(to, f => f.SendAsync(ShellStream.Input, copy, cancel)).ConfigureAwait(false);
    }

    public Task EndInputAsync(CancellationToken cancel)
    {
        ShellFrames? to;
        lock (gate)
        {
            inputEnded = true;
            to = connected;
        }
        return TryAsync(to, f => f.SendAsync(new ShellWord(InputEnds: true), cancel));
    }

    public Task ResizeAsync(TerminalSize to, CancellationToken cancel)
    {
        size = to;
        return SayToHostAsync(new ShellWord(Size: to), cancel);
    }

    public Task SignalAsync(ShellSignal signal, CancellationToken cancel) => SayToHostAsync(new ShellWord(Signal: signal), cancel);

    /// <summary>Ends the shell with all that runs in it.</summary>
    public Task EndAsync(CancellationToken cancel)
    {
        asksToEnd = true;
        return SayToHostAsync(new ShellWord(End: true), cancel);
    }

    /// <summary>The session is not needed any more.</summary>
    public async Task EndSessionAsync(CancellationToken cancel)
    {
        if (session is { } opened)
        {
            await api.ActAsync(HttpMethod.Post, $"sessions/{opened.Id}/end", cancel).ConfigureAwait(false);
        }
    }

    public void Dispose()
    {
        room.Dispose();
        leaving.Dispose();
        ended.Dispose();
    }

    private Task SayToHostAsync(ShellWord word, CancellationToken cancel)
    {
        ShellFrames? to;
        lock (gate)
        {
            to = connected;
        }
        return TryAsync(to, f => f.SendAsync(word, cancel));
    }

    /// <summary>What a broken line swallows is sent again on the next one.</summary>
    private static async Task TryAsync(ShellFrames? to, Func<ShellFrames, Task> send)
    {
        if (to is null)
        {
            return;
        }
        try
        {
            await send(to).ConfigureAwait(false);
        }
        catch (Exception e) when (e is WebSocketException or IOException or ObjectDisposedException or InvalidOperationException)
        {
            // Whoever receives sees that it is broken.
        }
    }

    /// <summary>One connection, from its opening to its end.</summary>
    /// <returns>Whether there is nothing to come back to, and how the shell ended.</returns>
    private async Task<(bool Over, RunEnd? End)> ConnectAsync(Action isUp, CancellationToken cancel)
    {
        var wish = first with { ShellId = shellId, BeginAs = shellId is null ? beginAs : null, Seen = received, Terminal = size };
        var (socket, ticket) = await ChannelSocket.OpenAsync(api, pin, session!.Id, new NewChannel(ChannelKinds.Shell, wish, session.Seal?.Invoke(wish), usesVault && session.Seal is null), cancel).ConfigureAwait(false);
        Recording = ticket.Recording;
        unopened++;
        using (socket)
        {
            using var frames = new ShellFrames(socket);
            try
            {
                while (await frames.ReceiveAsync(cancel).ConfigureAwait(false) is { } message)
                {
                    if (message.Word is not { } word)
                    {
                        await TakeAsync(frames, message, cancel).ConfigureAwait(false);
                    }
                    else if (word.Opened is { } opened)
                    {
                        isUp();
                        await BeginAsync(frames, opened, cancel).ConfigureAwait(false);
                    }
                    else if (word.Ended is { } end)
                    {
                        await TryAsync(frames, f => f.SendAsync(new ShellWord(End: true), cancel)).ConfigureAwait(false);
                        await frames.CloseAsync(cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                        return (true, end);
                    }
                    else if (word.Displaced == true)
                    {
                        Say("You have connected to this shell from another place; it goes on there.");
                        return (true, null);
                    }
                    else
                    {
                        Hear(word);
                    }
                }
            }
            finally
            {
                lock (gate)
                {
                    connected = null;
                }
                brokeBecause = frames.ClosedBecause;
            }
            return shellId is null && unopened > MostUnopened ? throw new ClientException(frames.ClosedBecause ?? "The channel to the host broke before there was a shell. Try again.") : (false, null);
        }
    }

    private async Task BeginAsync(ShellFrames frames, ShellOpened opened, CancellationToken cancel)
    {
        if (opened.Missed > 0)
        {
            Say($"{Core.Text.Units.Bytes(opened.Missed)} of output came meanwhile that the host did not keep.");
        }
        lock (gate)
        {
            shellId = opened.ShellId;
            received = opened.Offset;
            Forget(opened.Taken);
        }
        Opened?.Invoke(this, opened);
        // What is typed meanwhile comes behind what is sent again: until all of that is on its way, nobody else sends.
        var (again, endInput) = (0, false);
        while (true)
        {
            byte[] piece;
            lock (gate)
            {
                if (again == underWay.Count)
                {
                    (connected, endInput) = (frames, inputEnded);
                    break;
                }
                piece = underWay.ElementAt(again++);
            }
            await frames.SendAsync(ShellStream.Input, piece, cancel).ConfigureAwait(false);
        }
        if (endInput)
        {
            await frames.SendAsync(new ShellWord(InputEnds: true), cancel).ConfigureAwait(false);
        }
        if (asksToEnd)
        {
            await frames.SendAsync(new ShellWord(End: true), cancel).ConfigureAwait(false);
        }
    }

    private async Task TakeAsync(ShellFrames frames, ShellMessage message, CancellationToken cancel)
    {
        try
        {
            Show(message.Stream, message.Data);
        }
        catch (IOException e)
        {
            throw new OutputGoneException(e);
        }
        var before = received;
        received += message.Data.Length;
        if (before / AcknowledgeEvery != received / AcknowledgeEvery)
        {
            await TryAsync(frames, f => f.SendAsync(new ShellWord(Seen: received), cancel)).ConfigureAwait(false);
        }
    }

    private void Hear(ShellWord word)
    {
        if (word.Problem is { } problem)
        {
            throw new ClientException(problem);
        }
        if (word.Taken is { } upTo)
        {
            lock (gate)
            {
                Forget(upTo);
            }
        }
        if (word.Notice is { } notice)
        {
            Say(notice);
        }
    }

    /// <summary>The host has so many bytes of input; a piece that it has in part stays as the rest of it.</summary>
    private void Forget(long upTo)
    {
        while (taken < upTo && underWay.TryPeek(out var piece))
        {
            if (taken + piece.Length > upTo)
            {
                var rest = piece[(int)(upTo - taken)..];
                var others = underWay.Skip(1).ToArray();
                underWay.Clear();
                underWay.Enqueue(rest);
                foreach (var other in others)
                {
                    underWay.Enqueue(other);
                }
                taken = upTo;
                break;
            }
            underWay.Dequeue();
            taken += piece.Length;
        }
        room.Release();
    }
}
