using System.Collections.Concurrent;
using System.Net.Sockets;
using System.Net.WebSockets;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
using Umbrek.Core.Access;
using Umbrek.Core.Shell;
using Umbrek.Wire;
using Umbrek.Wire.Links;
using Umbrek.Wire.Shell;

namespace Umbrek.Agent.Shell;

/// <param name="Refusal">Why there is none; null where it may be.</param>
/// <param name="Wish">What counts: where the host asks for its key, what was sealed.</param>
/// <param name="Number">Orders are counted as they come: of two for one shell the later counts.</param>
public sealed record ShellAdmission(string? Refusal, ShellWish Wish, Guid TechnicianId, long Number);

/// <summary>
/// The shells of this host: lets technicians in as the host policy says, starts keepers, connects to those that go on, and ends them
/// with their sessions.
/// </summary>
public sealed class ShellTable(StateDirectory state, IHostPlatform platform, ChannelGate gate, TimeProvider time, AgentLog log)
{
    /// <summary>More at once on one host are not begun.</summary>
    public const int Most = 64;

    private const string SessionEnded = "The session has ended. Open another.";

    private static readonly TimeSpan KeeperStart = TimeSpan.FromSeconds(10);
    private readonly ConcurrentDictionary<Guid, int> attended = new();
    private readonly ConcurrentDictionary<Guid, Turn> turns = new();
    private readonly EndedSessions ended = new();
    private long orders;

    /// <summary>Whose turn it is at a shell: one connects to it after the other.</summary>
    private sealed class Turn : IDisposable
    {
        public SemaphoreSlim One { get; } = new(1);

        /// <summary>The number of the latest order that was let through.</summary>
        public long Latest { get; set; }

        public void Dispose() => One.Dispose();
    }

    /// <summary>Forgets shells whose keeper is gone, with the host's restart or otherwise.</summary>
    public void Load()
    {
        OwnerOnly.CreateDirectory(state.Shells);
        foreach (var path in Directory.EnumerateDirectories(state.Shells))
        {
            var shell = new ShellDirectory(path);
            using var right = shell.TryLock();
            if (right is not null)
            {
                shell.Remove();
            }
        }
    }

    /// <summary>Shells that go on.</summary>
    public IReadOnlyList<ShellInfo> List()
    {
        var found = new List<ShellInfo>();
        foreach (var directory in Directories())
        {
            if (directory.Read() is { } kept)
            {
                found.Add(new ShellInfo(
                    directory.ShellId, kept.TechnicianId, kept.Technician, kept.Wish.Display(), kept.Wish.User ?? Environment.UserName, kept.BeganAt,
                    kept.Wish.Terminal is not null, attended.GetValueOrDefault(directory.ShellId) > 0));
            }
        }
        return [.. found.OrderBy(s => s.BeganAt)];
    }

    /// <summary>The session is over, and with it the shells that were last connected to in it.</summary>
    public async Task EndSessionAsync(Guid sessionId)
    {
        ended.Add(sessionId);
        await EndThoseOfAsync(sessionId).ConfigureAwait(false);
    }

    /// <summary>Ends the shells that were last connected to in a session that goes on.</summary>
    public async Task EndThoseOfAsync(Guid sessionId)
    {
        foreach (var directory in Directories().Where(d => d.Session == sessionId))
        {
            await EndAsync(directory).ConfigureAwait(false);
        }
    }

    /// <returns>False when there is none of that id.</returns>
    public bool End(Guid shellId)
    {
        if (Find(shellId) is not { } directory)
        {
            return false;
        }
        // Whoever asks does not wait until it has heeded that.
        _ = EndAsync(directory);
        return true;
    }

    /// <summary>Ends every shell there is.</summary>
    public Task EndAllAsync() => Task.WhenAll(Directories().Select(EndAsync));

    /// <summary>Decides about an order when it comes: what it was sealed with may be over a moment later.</summary>
    public ShellAdmission Admit(ShellOrder? order)
    {
        if (order is not { Wish: not null })
        {
            return new ShellAdmission("The order to open a shell was empty.", new ShellWish(), default, 0);
        }
        var refusal = Admit(order, out var wish);
        return new ShellAdmission(refusal, wish, order.TechnicianId, Interlocked.Increment(ref orders));
    }

    /// <summary>The host's end of a channel for a shell, until either side goes.</summary>
    public async Task ServeAsync(WebSocket socket, ChannelOrder order, ShellAdmission admission, CancellationToken cancel)
    {
        using var frames = new ShellFrames(socket);
        var wish = admission.Wish;
        if (admission.Refusal is { } refusal)
        {
            log.Warning($"a shell for {order.Technician} refused: {refusal}");
            await frames.RefuseAsync(refusal, cancel).ConfigureAwait(false);
            return;
        }
        ShellDirectory? directory;
        var began = false;
        if ((wish.ShellId ?? GoesOn(wish.BeginAs)) is { } goesOn)
        {
            directory = Find(goesOn);
            if (directory?.Read()?.TechnicianId != admission.TechnicianId)
            {
                await frames.RefuseAsync("That shell has ended. Open another.", cancel).ConfigureAwait(false);
                return;
            }
        }
        else
        {
            if (await MayBeginAsync(frames, order, wish, cancel).ConfigureAwait(false) is { } why)
            {
                await frames.RefuseAsync(why, cancel).ConfigureAwait(false);
                return;
            }
            if (ended.Has(order.SessionId))
            {
                await frames.RefuseAsync(SessionEnded, cancel).ConfigureAwait(false);
                return;
            }
            directory = Create(order, admission);
            began = true;
            log.Info($"{order.Technician} has opened a shell{(wish.User is null ? "" : $" as {wish.User}")}: {wish.Display()}");
        }
        using var keeper = await ConnectAsync(directory!, cancel).ConfigureAwait(false);
        if (keeper is null)
        {
            if (began)
            {
                directory!.Remove();
            }
            await frames.RefuseAsync(began ? "The host could not start a keeper for the shell; nothing was run." : "That shell has ended. Open another.", cancel).ConfigureAwait(false);
            return;
        }
        directory.Session = order.SessionId;
        if (ended.Has(order.SessionId))
        {
            // It ended before its end could find the shell.
            await EndAsync(directory).ConfigureAwait(false);
            await frames.RefuseAsync(SessionEnded, cancel).ConfigureAwait(false);
            return;
        }
        var shown = began ? gate.Show(order, Describe(wish), null) : null;
        attended.AddOrUpdate(directory.ShellId, 1, (_, n) => n + 1);
        try
        {
            switch (await TakeTurnAsync(keeper, directory.ShellId, wish, admission.Number, cancel).ConfigureAwait(false))
            {
                case (true, _):
                    await frames.SendAsync(new ShellWord(Displaced: true), cancel).ConfigureAwait(false);
                    break;
                case (_, { } opened):
                    await frames.SendWordAsync(opened.Word, cancel).ConfigureAwait(false);
                    await CarryAsync(frames, keeper, cancel).ConfigureAwait(false);
                    break;
                default:
                    await frames.RefuseAsync("That shell has ended. Open another.", cancel).ConfigureAwait(false);
                    break;
            }
        }
        finally
        {
            attended.AddOrUpdate(directory.ShellId, 0, (_, n) => n - 1);
            if (began)
            {
                _ = TellEndAsync(directory, order.Technician, wish, shown!);
            }
        }
    }

    /// <summary>
    /// Connects to the shell, unless a later order has done so: whoever asks again because the line broke must not lose it to the try before,
    /// which may still be on its way to a keeper that has only just begun.
    /// </summary>
    /// <returns>Whether another has the shell, and the keeper's first word; null when it has ended.</returns>
    private async Task<(bool Displaced, KeeperMessage? Opened)> TakeTurnAsync(KeeperStream keeper, Guid shellId, ShellWish wish, long number, CancellationToken cancel)
    {
        var turn = turns.GetOrAdd(shellId, _ => new Turn());
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(KeeperStart);
        await turn.One.WaitAsync(limit.Token).ConfigureAwait(false);
        try
        {
            if (number < turn.Latest)
            {
                return (true, null);
            }
            turn.Latest = number;
            await keeper.WriteAsync(new ShellWord(Size: wish.Terminal, Seen: wish.Seen), limit.Token).ConfigureAwait(false);
            return (false, await keeper.ReadAsync(limit.Token).ConfigureAwait(false));
        }
        finally
        {
            turn.One.Release();
        }
    }

    private string? Admit(ShellOrder asked, out ShellWish wish)
    {
        wish = asked.Wish;
        return gate.Admit(HostAct.Shell, "shells", asked.Sealed, ref wish, LinkJson.Default.ShellWish) ?? wish.Check();
    }

    /// <summary>Has the people here agree, or tells them, as the policy says.</summary>
    private async Task<string?> MayBeginAsync(ShellFrames frames, ChannelOrder order, ShellWish wish, CancellationToken cancel)
    {
        if (Directories().Count() >= Most)
        {
            return $"The host has {Most} shells open already, the most it takes. End some, then open another.";
        }
        using var gone = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        return await gate.MayBeginAsync(order, HostAct.Shell, Describe(wish), notice => _ = frames.SendAsync(new ShellWord(Notice: notice), gone.Token), gone.Token).ConfigureAwait(false);
    }

    private static string Describe(ShellWish wish) => wish.Command is null ? "a shell" : wish.Display();

    private ShellDirectory Create(ChannelOrder order, ShellAdmission admission)
    {
        var path = Path.Combine(state.Shells, (admission.Wish.BeginAs ?? Guid.CreateVersion7()).ToString("N"));
        OwnerOnly.CreateDirectory(path);
        foreach (var over in turns.Keys.Where(id => Find(id) is null))
        {
            turns.TryRemove(over, out _);
        }
        var directory = new ShellDirectory(path);
        directory.Write(new KeptShell(admission.TechnicianId, order.Technician, admission.Wish with { Seen = 0 }, time.GetUtcNow()));
        directory.Session = order.SessionId;
        try
        {
            platform.StartShellKeeper(path);
        }
        catch (IOException e)
        {
            // Nobody comes to its socket: the technician is told so.
            log.Warning(e.Message);
            directory.Remove();
        }
        return directory;
    }

    private async Task TellEndAsync(ShellDirectory directory, string technician, ShellWish wish, IDisposable shown)
    {
        using var over = shown;
        while (Directory.Exists(directory.Path))
        {
            await Task.Delay(TimeSpan.FromSeconds(1), time).ConfigureAwait(false);
        }
        gate.TellEnd(technician, Describe(wish));
    }

    private static async Task CarryAsync(ShellFrames frames, KeeperStream keeper, CancellationToken cancel)
    {
        using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var up = UpAsync(frames, keeper, over.Token);
        var down = DownAsync(frames, keeper, over.Token);
        await Task.WhenAny(up, down).ConfigureAwait(false);
        if (down.IsCompleted && !up.IsCompleted)
        {
            // The keeper has said all: the other end closes when it has heard it.
            over.CancelAfter(TimeSpan.FromSeconds(5));
            await frames.CloseAsync(over.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
        else
        {
            await over.CancelAsync().ConfigureAwait(false);
        }
        await Task.WhenAll(up, down).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    private static async Task UpAsync(ShellFrames frames, KeeperStream keeper, CancellationToken over)
    {
        while (await frames.ReceiveAsync(over).ConfigureAwait(false) is { } message)
        {
            if (message.Word is { } word)
            {
                await keeper.WriteAsync(word, over).ConfigureAwait(false);
            }
            else
            {
                await keeper.WriteAsync(message.Stream, message.Data, over).ConfigureAwait(false);
            }
        }
    }

    private static async Task DownAsync(ShellFrames frames, KeeperStream keeper, CancellationToken over)
    {
        while (await keeper.ReadAsync(over).ConfigureAwait(false) is { } message)
        {
            await (message.IsWord ? frames.SendWordAsync(message.Word, over) : frames.SendAsync(message.Stream, message.Data, over)).ConfigureAwait(false);
        }
    }

    private async Task EndAsync(ShellDirectory directory)
    {
        using var limit = new CancellationTokenSource(KeeperStart);
        try
        {
            using var keeper = await ConnectAsync(directory, limit.Token).ConfigureAwait(false);
            if (keeper is not null)
            {
                await keeper.WriteAsync(new ShellWord(End: true), limit.Token).ConfigureAwait(false);
                await keeper.ReadAsync(limit.Token).ConfigureAwait(false);
            }
        }
        catch (Exception e) when (e is IOException or SocketException or OperationCanceledException)
        {
            log.Warning($"shell {directory.ShellId} could not be told to end: {e.Message}");
        }
    }

    private IEnumerable<ShellDirectory> Directories() =>
        Directory.Exists(state.Shells) ? Directory.EnumerateDirectories(state.Shells).Where(p => Guid.TryParseExact(Path.GetFileName(p), "N", out _)).Select(p => new ShellDirectory(p)) : [];

    private Guid? GoesOn(Guid? id) => id is { } one && Find(one) is not null ? one : null;

    private ShellDirectory? Find(Guid shellId)
    {
        var directory = new ShellDirectory(Path.Combine(state.Shells, shellId.ToString("N")));
        return Directory.Exists(directory.Path) ? directory : null;
    }

    /// <returns>Null when it has no keeper.</returns>
    private async Task<KeeperStream?> ConnectAsync(ShellDirectory directory, CancellationToken cancel) =>
        await KeeperSocket.ConnectAsync(directory.Socket, () => !Directory.Exists(directory.Path), KeeperStart, time, cancel).ConfigureAwait(false) is { } socket ? new KeeperStream(socket) : null;
}
