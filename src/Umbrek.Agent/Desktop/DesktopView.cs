using System.Collections.Concurrent;
using System.Net.Sockets;
using System.Net.WebSockets;
using System.Text.Json;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
using Umbrek.Core.Access;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Desktop;

/// <param name="Refusal">Why there is nothing to see; null where there is.</param>
public sealed record DesktopAdmission(string? Refusal, DesktopWish Wish);

/// <summary>
/// Shows technicians the screens of this host. When a screen goes, because whoever had it logs out or its server ends, the channel stays,
/// and the next one that comes is shown.
/// </summary>
public sealed class DesktopView(IHostPlatform platform, StateDirectory state, ChannelGate gate, TimeProvider time, AgentLog log)
{
    /// <summary>More at once are not served.</summary>
    public const int Most = 32;

    /// <summary>Nobody waits longer for a screen to come.</summary>
    public static readonly TimeSpan ComesWithin = TimeSpan.FromMinutes(5);

    /// <summary>How long a screen that this host was given stays when nobody is there.</summary>
    public static readonly TimeSpan GivenStays = TimeSpan.FromMinutes(30);

    /// <summary>Who is at a screen that is shown is looked at so often.</summary>
    private static readonly TimeSpan LookWho = TimeSpan.FromSeconds(2);

    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(500);
    private const int Piece = 64 * 1024;

    /// <summary>How long the other side has to close when we have.</summary>
    private static readonly TimeSpan Parting = TimeSpan.FromSeconds(5);

    private readonly DesktopGuests guests = new(time);

    /// <summary>Desktops that are controlled, by their sessions.</summary>
    private readonly ConcurrentDictionary<Guid, (DesktopViewer Viewer, Says Says)> controlled = new();

    private IDesktops Desktops => field ??= platform.Desktops(state);
    private int open;

    /// <summary>Decides about an order when it comes.</summary>
    public DesktopAdmission Admit(DesktopOrder? order)
    {
        if (order is not { Wish: not null })
        {
            return new DesktopAdmission("The order to show a desktop was empty.", new DesktopWish());
        }
        // What was sealed is for one act alone: whoever may look on may not act.
        var (act, wish) = (order.Wish.Act(), order.Wish);
        var refusal = gate.Admit(act, act == HostAct.Control ? "its desktop to be controlled" : "its desktop to be watched", order.Sealed, ref wish, LinkJson.Default.DesktopWish);
        return new DesktopAdmission(refusal ?? (wish.Act() == act ? wish.Check() : "What was sealed is not what was asked for."), wish);
    }

    public IReadOnlyList<ScreenInfo> List() => [.. Desktops.List().Take(ScreenInfo.MostTold)];

    /// <summary>Types a secret where somebody controls a desktop.</summary>
    /// <returns>Why it was not typed, or null.</returns>
    public async Task<string?> TypeAsync(SecretTyping typing, CancellationToken cancel)
    {
        if (typing.Text.Length is 0 or > SecretTyping.MostText || typing.Text.Any(char.IsControl))
        {
            return "The secret can't be typed: it is empty, too long, or has characters that no key makes.";
        }
        foreach (var session in typing.SessionIds)
        {
            if (!controlled.TryGetValue(session, out var at))
            {
                continue;
            }
            if (!await at.Viewer.TypeAsync(typing.Text, typing.Enter, cancel).ConfigureAwait(false))
            {
                return "Another technician controls the desktop just now, or it shows no screen: nothing was typed.";
            }
            log.Info($"the secret '{typing.Name}' was typed at a desktop");
            await at.Says.WordAsync(new DesktopWord(Typed: typing.Name), cancel).ConfigureAwait(false);
            return null;
        }
        return "You control no desktop of this host; open it to control it first.";
    }

    /// <summary>The host's end of the channel, until the technician goes.</summary>
    public async Task ServeAsync(WebSocket socket, ChannelOrder order, DesktopAdmission admission, CancellationToken cancel)
    {
        using var lines = new SemaphoreSlim(1, 1);
        var says = new Says(socket, lines);
        var wish = admission.Wish;
        var what = wish.Control ? "control of the desktop" : "a look at the desktop";
        var refusal = admission.Refusal;
        if (Interlocked.Increment(ref open) > Most)
        {
            refusal ??= $"{Most} technicians are at desktops of this host already, the most it lets in.";
        }
        try
        {
            var told = Task.CompletedTask;
            refusal ??= await gate.MayBeginAsync(order, wish.Act(), what, n => told = says.WordAsync(new DesktopWord(Notice: n), cancel), cancel).ConfigureAwait(false);
            await told.ConfigureAwait(false);
            if (refusal is not null)
            {
                log.Warning($"{what} for {order.Technician} refused: {refusal}");
                await says.WordAsync(new DesktopWord(Refusal: refusal), cancel).ConfigureAwait(false);
                await says.CloseAsync(cancel).ConfigureAwait(false);
                return;
            }
            log.Info($"{what} for {order.Technician}");
            using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            using (gate.Show(order, what, person => _ = EndAsync(says, $"{person}, who is at this host, has ended it.", over)))
            {
                var hands = new Hands();
                // Small pictures are not somebody who sits there.
                using var seat = wish.Small is null ? guests.Come(new DesktopGuest(order.Technician, wish.Control), word => says.WordAsync(word, over.Token), hands.Turn) : null;
                hands.Acted = seat is null ? null : seat.HasActed;
                hands.Wish = seat is null ? null : seat.Wish;
                try
                {
                    await ShowAsync(socket, says, order, wish, hands, over.Token).ConfigureAwait(false);
                }
                catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
                {
                    // Somebody here has ended it.
                }
                finally
                {
                    gate.TellEnd(order.Technician, what);
                }
            }
            await says.CloseAsync(cancel).ConfigureAwait(false);
        }
        finally
        {
            Interlocked.Decrement(ref open);
        }
    }

    /// <summary>Says why before anything is torn off: a message that is broken off takes the channel with it, and nobody would know.</summary>
    private static async Task EndAsync(Says says, string why, CancellationTokenSource over)
    {
        try
        {
            await says.WordAsync(new DesktopWord(Refusal: why), over.Token).ConfigureAwait(false);
            await over.CancelAsync().ConfigureAwait(false);
        }
        catch (Exception e) when (e is WebSocketException or OperationCanceledException or ObjectDisposedException)
        {
            // It has ended by itself.
        }
    }

    private async Task ShowAsync(WebSocket socket, Says says, ChannelOrder order, DesktopWish wish, Hands hands, CancellationToken cancel)
    {
        using var gone = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        // Whoever is heard is heard out: a reading that is broken off takes with it what was said last.
        using var heard = new CancellationTokenSource();
        var powers = gate.Powers(order, Desktops);
        await using var holds = new DeskHolds(powers, wish.Control, time);
        var may = new Means(wish, order.Desktop?.MayShell == true, powers);
        async Task HeedAsync(DesktopAsk ask)
        {
            if (ask.Hands is { } wished)
            {
                hands.Wish?.Invoke(wished);
            }
            if (ask is not { TakeInput: null, Hide: null, Lock: null })
            {
                await says.WordAsync(new DesktopWord(Hold: await holds.HeedAsync(ask, gone.Token).ConfigureAwait(false)), gone.Token).ConfigureAwait(false);
            }
        }
        using var viewer = new DesktopViewer(socket, hands, HeedAsync);
        if (wish.Control)
        {
            controlled[order.SessionId] = (viewer, says);
        }
        var hears = viewer.HearAsync(heard.Token);
        _ = hears.ContinueWith(_ => gone.CancelAsync(), TaskScheduler.Default);
        try
        {
            string? why = null;
            string? person = null;
            // Whoever has named one gets that again, and nobody else's.
            while (true)
            {
                var (shown, problem) = await NextAsync(may, n => says.WordAsync(new DesktopWord(Notice: n), gone.Token), why is null ? TimeSpan.Zero : ComesWithin, gone.Token).ConfigureAwait(false);
                if (shown is null)
                {
                    await says.WordAsync(new DesktopWord(Refusal: problem), gone.Token).ConfigureAwait(false);
                    return;
                }
                using (shown)
                {
                    // Whoever agreed has gone: another is asked anew.
                    if (why is not null && shown.Screen.Person != person && await gate.MayBeginAsync(order, wish.Act(), wish.Control ? "control of the desktop" : "a look at the desktop", n => _ = says.WordAsync(new DesktopWord(Notice: n), gone.Token), gone.Token).ConfigureAwait(false) is { } refusal)
                    {
                        await says.WordAsync(new DesktopWord(Refusal: refusal), gone.Token).ConfigureAwait(false);
                        return;
                    }
                    person = shown.Screen.Person;
                    await says.WordAsync(new DesktopWord(Opened: new ScreenOpened(shown.Screen.Name, shown.Screen.Person, wish.Control, shown.Screen.IsGiven)), gone.Token).ConfigureAwait(false);
                    if (holds.Now is { IsTaken: true } or { IsHidden: true } or { Locks: true })
                    {
                        await says.WordAsync(new DesktopWord(Hold: holds.Now), gone.Token).ConfigureAwait(false);
                    }
                    using var hand = wish.Control ? gate.HandsOnly() : null;
                    viewer.Show(shown.Line);
                    using var over = CancellationTokenSource.CreateLinkedTokenSource(gone.Token);
                    var down = DownAsync(shown.Line, says, gone.Token);
                    var comes = ComesAsync(shown, says, over.Token);
                    if (await Task.WhenAny(down, comes).ConfigureAwait(false) == comes && comes.IsCompletedSuccessfully)
                    {
                        // What is on its way arrives: a message that is broken off would take the channel with it.
                        viewer.Show(null);
                        shown.Dispose();
                        // Whoever is asked needs a keyboard for the answer, and has to see the question.
                        await holds.HeedAsync(new DesktopAsk(TakeInput: false, Hide: false), gone.Token).ConfigureAwait(false);
                    }
                    await down.ConfigureAwait(false);
                    viewer.Show(null);
                    await over.CancelAsync().ConfigureAwait(false);
                    await ((Task)comes).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                    var ended = await shown.Why.WaitAsync(gone.Token).ConfigureAwait(false);
                    why = comes.IsCompletedSuccessfully ? $"{await comes.ConfigureAwait(false)} has logged in there." : ended;
                }
                await says.WordAsync(new DesktopWord(Gone: why), gone.Token).ConfigureAwait(false);
                // What ends again and again is not begun again without a pause.
                await Task.Delay(Look, time, gone.Token).ConfigureAwait(false);
            }
        }
        catch (OperationCanceledException) when (gone.IsCancellationRequested && !cancel.IsCancellationRequested)
        {
            // The technician has gone.
        }
        finally
        {
            controlled.TryRemove(new KeyValuePair<Guid, (DesktopViewer, Says)>(order.SessionId, (viewer, says)));
            viewer.Show(null);
            await gone.CancelAsync().ConfigureAwait(false);
            heard.CancelAfter(Parting);
            await says.CloseAsync(heard.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            await hears.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    /// <summary>Tells the technician who logs in at the screen that is shown, and out of it.</summary>
    /// <returns>Who has come that was neither asked nor told, and has to be first, as the host policy says.</returns>
    private async Task<string> ComesAsync(ShownScreen shown, Says says, CancellationToken cancel)
    {
        var (known, there) = (shown.Screen.Person, shown.Screen.Person);
        while (true)
        {
            await Task.Delay(LookWho, time, cancel).ConfigureAwait(false);
            ScreenInfo? now;
            try
            {
                now = Desktops.List().FirstOrDefault(s => s.Name == shown.Screen.Name);
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException or SocketException)
            {
                // A host short of something for a moment is looked at again: nobody is to be passed over.
                log.Warning($"who is at the screen {shown.Screen.Name} could not be seen: {e.Message}");
                continue;
            }
            // One that has gone says so by itself.
            if (now is null || now.Person == there)
            {
                continue;
            }
            there = now.Person;
            if (there is not null && there != known && ConsentDesk.Concerns(gate.Policy))
            {
                return there;
            }
            known = there ?? known;
            await says.WordAsync(new DesktopWord(Person: new ScreenPerson(there)), cancel).ConfigureAwait(false);
        }
    }

    /// <summary>The screen that was asked for, or the one where somebody is, or any; it is waited for so long.</summary>
    /// <param name="notice">Tells the technician what is done for it.</param>
    private async Task<(ShownScreen? Shown, string? Problem)> NextAsync(Means may, Func<string, Task> notice, TimeSpan within, CancellationToken cancel)
    {
        var (wish, name) = (may.Wish, may.Wish.Screen);
        var began = time.GetTimestamp();
        while (true)
        {
            var problem = name is null ? Desktops.NoneBecause : $"There is no screen {name} on this host.";
            var all = Desktops.List();
            if (all.Count == 0 && name is null)
            {
                (all, problem) = await GiveAsync(may, notice, cancel).ConfigureAwait(false);
            }
            foreach (var screen in all.Where(s => name is null || s.Name == name).OrderBy(s => s.Problem is not null).ThenBy(s => s.Person is null).ThenBy(s => s.IsGiven))
            {
                if ((screen.Problem ?? (screen.IsGiven && wish.Control ? NoShellBecause(may) : null)) is { } why)
                {
                    problem = why;
                    continue;
                }
                try
                {
                    return (await Desktops.ShowAsync(screen, wish, cancel).ConfigureAwait(false), null);
                }
                catch (IOException e)
                {
                    problem = e.Message;
                }
            }
            if (time.GetElapsedTime(began) >= within)
            {
                return (null, name is not null && all.Count > 0 && all.All(s => s.Name != name) ? $"{problem} There is {string.Join(", ", all.Select(s => s.Name))}." : problem);
            }
            await Task.Delay(Look, time, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>What a technician wishes of a desktop, and may have for it.</summary>
    private sealed record Means(DesktopWish Wish, bool MayShell, IDeskPowers Powers);

    /// <summary>Gives this host a screen where it has none, if it may have one.</summary>
    /// <returns>The screens that there are then, and why there is none.</returns>
    private async Task<(IReadOnlyList<ScreenInfo> All, string Problem)> GiveAsync(Means may, Func<string, Task> notice, CancellationToken cancel)
    {
        var why = gate.Policy.GiveScreen == false ? NotByPolicy
            : Desktops.NotGivenBecause ?? (may.Wish.Control ? NoShellBecause(may) : "It is given one when somebody comes to control it.");
        if (why is not null)
        {
            return ([], $"{Desktops.NoneBecause} {why}");
        }
        await notice($"This host has no screen. It is given one, which goes when nobody has been there for {Units.Span(GivenStays)}.").ConfigureAwait(false);
        try
        {
            await may.Powers.GiveScreenAsync(cancel).ConfigureAwait(false);
        }
        catch (IOException e)
        {
            return ([], $"{Desktops.NoneBecause} {e.Message}");
        }
        return (Desktops.List(), Desktops.NoneBecause);
    }

    private const string NotByPolicy = "Its host policy does not have it given one.";

    /// <summary>Acting at a screen that was given, before or now, is as good as a shell: there is a terminal of the agent's own user.</summary>
    /// <returns>Why it may not be, or null.</returns>
    private string? NoShellBecause(Means may)
    {
        var policy = gate.Policy;
        const string given = "A screen that a host without one is given has a terminal,";
        return policy.GiveScreen == false ? NotByPolicy
            : !may.MayShell ? $"{given} so it takes the permission shell beside control, which you don't have there."
            : !policy.Allows(HostAct.Shell) ? $"{given} and this host does not allow shells."
            : policy.AsksKey(HostAct.Shell) && !policy.AsksKey(HostAct.Control) ? $"{given} and this host asks for its access key for shells and not for control: have its policy ask for it for both."
            : null;
    }

    private static async Task DownAsync(Stream line, Says says, CancellationToken cancel)
    {
        var buffer = new byte[Piece];
        while (true)
        {
            int got;
            try
            {
                got = await line.ReadAsync(buffer, cancel).ConfigureAwait(false);
            }
            catch (Exception e) when (e is IOException or ObjectDisposedException)
            {
                return;
            }
            if (got == 0)
            {
                return;
            }
            await says.BytesAsync(buffer.AsMemory(0, got), cancel).ConfigureAwait(false);
        }
    }

    /// <summary>What is said to the technician: words and bytes, one after the other.</summary>
    private sealed class Says(WebSocket socket, SemaphoreSlim turn)
    {
        public Task WordAsync(DesktopWord word, CancellationToken cancel) => SendAsync(JsonSerializer.SerializeToUtf8Bytes(word, LinkJson.Default.DesktopWord), WebSocketMessageType.Text, cancel);

        public Task BytesAsync(ReadOnlyMemory<byte> bytes, CancellationToken cancel) => SendAsync(bytes, WebSocketMessageType.Binary, cancel);

        public async Task CloseAsync(CancellationToken cancel)
        {
            if (socket.State is WebSocketState.Open or WebSocketState.CloseReceived)
            {
                await socket.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, cancel).ConfigureAwait(false);
            }
        }

        private async Task SendAsync(ReadOnlyMemory<byte> bytes, WebSocketMessageType type, CancellationToken cancel)
        {
            await turn.WaitAsync(cancel).ConfigureAwait(false);
            try
            {
                await socket.SendAsync(bytes, type, true, cancel).ConfigureAwait(false);
            }
            finally
            {
                turn.Release();
            }
        }
    }
}
