using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Desktop;

/// <summary>
/// Shows one screen to one viewer over RFB 3.8 (RFC 6143), and does there what the viewer does. What has changed goes out at once, then
/// no faster than the line carries it; what was sent with losses is sent without when the screen is still.
/// </summary>
/// <param name="control">Whether the viewer may act; without it he only looks.</param>
/// <param name="repairs">Whether what was sent with losses is sent again without, once it is still.</param>
public sealed class RfbServer(IScreen screen, Stream line, bool control, IJpegEncoder? jpeg, TimeProvider time, bool repairs = true) : IAsyncDisposable
{
    /// <summary>Pictures begin no sooner one after the other.</summary>
    private static readonly TimeSpan Frame = TimeSpan.FromMilliseconds(16);

    /// <summary>Between two of them the host has at least this share of the time that one takes for itself.</summary>
    private const double Rest = 0.25;

    /// <summary>So long a screen has to be still before it is sent again without losses.</summary>
    private static readonly TimeSpan Still = TimeSpan.FromMilliseconds(250);

    private readonly Lock gate = new();
    private readonly Nudge signal = new();
    private readonly ScreenEncoder encoder = new(jpeg);
    private readonly RfbWriter writer = new();
    private readonly LinePace pace = new();
    private readonly List<ScreenRect> damage = [];
    private readonly long began = time.GetTimestamp();

    // What the viewer said, under the gate.
    private readonly List<ScreenRect> again = [];
    private readonly Queue<Action<RfbWriter>> answers = new();
    private ViewerTakes takes = ViewerTakes.Least;
    private HashSet<int> knows = [];
    private bool asked;
    private bool continuous;
    private bool newEncodings;
    private (int Status, int Width, int Height)? resized;

    // What the writer alone knows.
    private ScreenCursor? cursor;
    private bool cursorTold = true;
    private (int X, int Y)? spot;
    private bool spotTold = true;
    private bool sizeTold = true;
    private uint mark;
    private TimeSpan? takenAt;
    private TimeSpan nextAt;
    private TimeSpan changedAt;

    private TimeSpan Now => time.GetElapsedTime(began);

    /// <summary>Serves until the viewer goes.</summary>
    /// <exception cref="ScreenGoneException">The screen has gone.</exception>
    /// <exception cref="RfbException">The viewer says what can't be.</exception>
    public async Task ServeAsync(CancellationToken cancel)
    {
        await BeginAsync(cancel).ConfigureAwait(false);
        using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var hears = HearAsync(over.Token);
        var tells = TellAsync(over.Token);
        var first = await Task.WhenAny(hears, tells).ConfigureAwait(false);
        await over.CancelAsync().ConfigureAwait(false);
        await Task.WhenAll(hears, tells).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        await screen.ReleaseAsync(cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        await first.ConfigureAwait(false);
    }

    public ValueTask DisposeAsync()
    {
        encoder.Dispose();
        signal.Dispose();
        return ValueTask.CompletedTask;
    }

    private async Task BeginAsync(CancellationToken cancel)
    {
        // Who is let in is decided before anybody comes here, so there is no password (security type 1).
        await line.WriteAsync("RFB 003.008\n"u8.ToArray(), cancel).ConfigureAwait(false);
        await line.FlushAsync(cancel).ConfigureAwait(false);
        var version = new byte[12];
        await line.ReadExactlyAsync(version, cancel).ConfigureAwait(false);
        if (!version.AsSpan(0, 8).SequenceEqual("RFB 003."u8))
        {
            throw new RfbException("the viewer does not speak RFB 3");
        }
        var old = version.AsSpan(8, 3).SequenceEqual("003"u8);
        if (old)
        {
            await line.WriteAsync(new byte[] { 0, 0, 0, 1 }, cancel).ConfigureAwait(false);
        }
        else
        {
            await line.WriteAsync(new byte[] { 1, 1 }, cancel).ConfigureAwait(false);
            await line.FlushAsync(cancel).ConfigureAwait(false);
            var chosen = new byte[1];
            await line.ReadExactlyAsync(chosen, cancel).ConfigureAwait(false);
            if (chosen[0] != 1)
            {
                throw new RfbException("the viewer wants a password to be asked for; there is none");
            }
            // Only 3.8 hears that it is well.
            if (version[10] >= (byte)'8')
            {
                await line.WriteAsync(new byte[4], cancel).ConfigureAwait(false);
            }
        }
        await line.FlushAsync(cancel).ConfigureAwait(false);
        await line.ReadExactlyAsync(new byte[1], cancel).ConfigureAwait(false);
        var news = await screen.TakeAsync(cancel).ConfigureAwait(false);
        cursor = news.Cursor;
        encoder.Forget(screen.Image);
        damage.Add(screen.Image.Bounds);
        writer.ServerInit(screen.Image.Width, screen.Image.Height, screen.Name);
        await SendAsync(cancel).ConfigureAwait(false);
    }

    private async Task HearAsync(CancellationToken cancel)
    {
        var buffer = new byte[64 * 1024];
        var held = 0;
        while (true)
        {
            var got = await line.ReadAsync(buffer.AsMemory(held), cancel).ConfigureAwait(false);
            if (got == 0)
            {
                return;
            }
            held += got;
            var at = 0;
            while (RfbClientReader.Read(buffer.AsSpan(at, held - at), out var used) is { } message)
            {
                at += used;
                await HeedAsync(message, cancel).ConfigureAwait(false);
            }
            buffer.AsSpan(at, held - at).CopyTo(buffer);
            held -= at;
            if (held == buffer.Length)
            {
                Array.Resize(ref buffer, Math.Min(2 * buffer.Length, RfbClientReader.MostText + 1024));
            }
        }
    }

    private async Task HeedAsync(RfbClientMessage message, CancellationToken cancel)
    {
        switch (message)
        {
            case RfbClientMessage.Key key when control:
                await screen.KeyAsync(key.Down, key.KeySym, key.KeyCode, cancel).ConfigureAwait(false);
                return;
            case RfbClientMessage.Mouse mouse when control:
                await screen.MouseAsync(mouse.X, mouse.Y, mouse.Buttons, cancel).ConfigureAwait(false);
                return;
            case RfbClientMessage.CutText cut when control:
                await screen.WriteClipboardAsync(cut.Text.ReplaceLineEndings("\n"), cancel).ConfigureAwait(false);
                return;
            case RfbClientMessage.Clipboard { Message: { Act: ClipboardAct.Provide, Text: { } text } } when control:
                await screen.WriteClipboardAsync(text, cancel).ConfigureAwait(false);
                return;
            case RfbClientMessage.Clipboard { Message: { Act: ClipboardAct.Request or ClipboardAct.Peek, HasText: true } asks } when control:
                var given = await screen.ReadClipboardAsync(cancel).ConfigureAwait(false);
                Answer(w => w.Clipboard(asks.Act == ClipboardAct.Peek ? new ClipboardMessage(ClipboardAct.Notify, given is not null) : new ClipboardMessage(ClipboardAct.Provide, given is not null, given)));
                return;
            case RfbClientMessage.Clipboard { Message: { Act: ClipboardAct.Notify, HasText: true } } when control:
                Answer(w => w.Clipboard(new ClipboardMessage(ClipboardAct.Request, true)));
                return;
            case RfbClientMessage.Resize wanted:
                var status = !control ? 1 : ScreenImage.IsPossible(wanted.Width, wanted.Height) ? await screen.ResizeAsync(wanted.Width, wanted.Height, cancel).ConfigureAwait(false) : 3;
                lock (gate)
                {
                    resized = (status, wanted.Width, wanted.Height);
                }
                break;
            case RfbClientMessage.Format format:
                lock (gate)
                {
                    takes = takes with { Format = format.Wanted };
                    again.Add(new ScreenRect(0, 0, ScreenImage.MostSide, ScreenImage.MostSide));
                }
                break;
            case RfbClientMessage.Encodings encodings:
                lock (gate)
                {
                    var first = knows.Count == 0;
                    knows = [.. encodings.Wanted];
                    takes = Takes(takes.Format);
                    newEncodings |= first;
                }
                break;
            case RfbClientMessage.Request request:
                lock (gate)
                {
                    asked = true;
                    if (!request.Incremental)
                    {
                        again.Add(request.Part);
                    }
                }
                break;
            case RfbClientMessage.Continuous wants:
                lock (gate)
                {
                    continuous = wants.Enable;
                    if (!wants.Enable)
                    {
                        answers.Enqueue(w => w.EndOfContinuousUpdates());
                    }
                }
                break;
            case RfbClientMessage.Fence fence:
                Heed(fence);
                break;
            default:
                // Whoever only looks may press what he likes.
                return;
        }
        signal.Give();
    }

    private void Heed(RfbClientMessage.Fence fence)
    {
        if ((fence.Flags & FenceFlags.Request) != 0)
        {
            // Everything is done in the order in which it comes, so all that a fence may ask for is so.
            var flags = fence.Flags & (FenceFlags.BlockBefore | FenceFlags.BlockAfter | FenceFlags.SyncNext);
            Answer(w => w.Fence(flags, fence.Payload.Span));
        }
        else if (fence.Payload.Length == 4)
        {
            lock (gate)
            {
                pace.CameBack(BitConverter.ToUInt32(fence.Payload.Span), Now);
            }
        }
    }

    private void Answer(Action<RfbWriter> says)
    {
        lock (gate)
        {
            if (answers.Count > 1000)
            {
                throw new RfbException("the viewer asks faster than it listens");
            }
            answers.Enqueue(says);
        }
        signal.Give();
    }

    private ViewerTakes Takes(PixelFormat format)
    {
        var quality = 0;
        for (var level = RfbEncoding.WorstQuality; level <= RfbEncoding.BestQuality && knows.Contains(RfbEncoding.Tight); level++)
        {
            // From 20 on: worse than that nothing can be read any more.
            quality = knows.Contains(level) ? 20 + 8 * (level - RfbEncoding.WorstQuality) : quality;
        }
        return new ViewerTakes(format, knows.Contains(RfbEncoding.Zrle), knows.Contains(RfbEncoding.CopyRect), format.BitsPerPixel >= 16 ? quality : 0);
    }

    private async Task TellAsync(CancellationToken cancel)
    {
        // Known at the beginning; what changes after that is waited for.
        var changes = screen.WaitAsync(cancel);
        while (true)
        {
            var woken = signal.WaitAsync(cancel);
            if (changes.IsCompleted && MayTell())
            {
                var pause = nextAt - Now;
                if (pause > TimeSpan.Zero)
                {
                    await Task.Delay(pause, time, cancel).ConfigureAwait(false);
                }
                takenAt = Now;
                await changes.ConfigureAwait(false);
                Note(await screen.TakeAsync(cancel).ConfigureAwait(false));
                changes = screen.WaitAsync(cancel);
            }
            if (await TellOnceAsync(cancel).ConfigureAwait(false))
            {
                // There may be more.
                signal.Give();
            }
            await WhenAnyAsync(woken, MayTell() ? changes : null, Repairs(), cancel).ConfigureAwait(false);
            if (!woken.IsCompleted)
            {
                // Nobody else waits for it, so it is brought to its end.
                signal.Give();
                await woken.ConfigureAwait(false);
            }
        }
    }

    private async Task WhenAnyAsync(Task woken, Task? changes, TimeSpan? within, CancellationToken cancel)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var delay = within is { } wait ? Task.Delay(wait, time, limit.Token) : null;
        await Task.WhenAny(new[] { woken, changes, delay }.OfType<Task>()).ConfigureAwait(false);
        await limit.CancelAsync().ConfigureAwait(false);
        cancel.ThrowIfCancellationRequested();
    }

    /// <summary>When what was sent with losses is due to be sent again.</summary>
    private TimeSpan? Repairs()
    {
        if (!repairs || !encoder.HasLosses || !MayTell() || !MayRepair())
        {
            return null;
        }
        var due = changedAt + Still - Now;
        return due > TimeSpan.Zero ? due : TimeSpan.Zero;
    }

    private bool MayRepair()
    {
        lock (gate)
        {
            return !knows.Contains(RfbEncoding.Fence) || pace.MayRepair(Now);
        }
    }

    private bool MayTell()
    {
        lock (gate)
        {
            return (asked || continuous) && (!knows.Contains(RfbEncoding.Fence) || pace.MaySend(Now));
        }
    }

    private void Note(ScreenNews news)
    {
        if (news.Resized)
        {
            sizeTold = false;
            encoder.Forget(screen.Image);
            damage.Clear();
            damage.Add(screen.Image.Bounds);
        }
        damage.AddRange(news.Damage);
        if (news.Cursor is not null)
        {
            (cursor, cursorTold) = (news.Cursor, false);
        }
        if (news.PointerAt is not null)
        {
            (spot, spotTold) = (news.PointerAt, false);
        }
        if (news.HasClipboard && control)
        {
            Answer(w =>
            {
                if (Knows(RfbEncoding.ExtendedClipboard))
                {
                    w.Clipboard(new ClipboardMessage(ClipboardAct.Notify, true));
                }
            });
            if (!Knows(RfbEncoding.ExtendedClipboard))
            {
                _ = TellPlainClipboardAsync();
            }
        }
    }

    /// <summary>A viewer of the plain protocol gets the text itself, as far as it is Latin-1.</summary>
    private async Task TellPlainClipboardAsync()
    {
        try
        {
            if (await screen.ReadClipboardAsync(CancellationToken.None).ConfigureAwait(false) is { Length: > 0 and <= 256 * 1024 } text)
            {
                Answer(w => w.CutText(text));
            }
        }
        catch (Exception e) when (e is ScreenGoneException or RfbException)
        {
            // The loop learns it by itself.
        }
    }

    private bool Knows(int encoding)
    {
        lock (gate)
        {
            return knows.Contains(encoding);
        }
    }

    /// <returns>Whether something was said.</returns>
    private async Task<bool> TellOnceAsync(CancellationToken cancel)
    {
        ViewerTakes how;
        (int Status, int Width, int Height)? wish;
        bool may, first;
        int quality, share;
        var begunAt = takenAt ?? Now;
        takenAt = null;
        lock (gate)
        {
            while (answers.TryDequeue(out var says))
            {
                says(writer);
            }
            (how, wish, first) = (takes, resized, newEncodings);
            newEncodings = false;
            foreach (var part in again)
            {
                encoder.Forget(part);
                damage.Add(part.Intersect(screen.Image.Bounds));
            }
            cursorTold &= again.Count == 0;
            again.Clear();
            may = (asked || continuous) && (!knows.Contains(RfbEncoding.Fence) || pace.MaySend(Now));
            (quality, share) = (pace.Quality, pace.Share);
        }
        if (first)
        {
            // Before the first picture is made: the viewer may answer meanwhile.
            Welcome();
            await SendAsync(cancel).ConfigureAwait(false);
            (cursorTold, sizeTold) = (false, !Knows(RfbEncoding.ExtendedDesktopSize));
        }
        var isPicture = may && Picture(how, wish, quality, share);
        if (isPicture)
        {
            lock (gate)
            {
                asked = false;
                resized = wish == resized ? null : resized;
                if (knows.Contains(RfbEncoding.Fence))
                {
                    writer.Fence(FenceFlags.Request | FenceFlags.BlockBefore, BitConverter.GetBytes(++mark));
                    pace.Sent(mark, writer.Written.Length, Now);
                }
            }
            var (soonest, rested) = (begunAt + Frame, Now + (Now - begunAt) * Rest);
            nextAt = soonest > rested ? soonest : rested;
        }
        var said = writer.Written.Length > 0;
        await SendAsync(cancel).ConfigureAwait(false);
        return said;
    }

    /// <summary>Tells what is understood beside the plain protocol, to a viewer that has named it.</summary>
    private void Welcome()
    {
        if (Knows(RfbEncoding.Fence))
        {
            writer.Fence(FenceFlags.Request, []);
        }
        if (Knows(RfbEncoding.ContinuousUpdates))
        {
            writer.EndOfContinuousUpdates();
        }
        if (Knows(RfbEncoding.ExtendedClipboard) && control)
        {
            writer.Clipboard(new ClipboardMessage(ClipboardAct.Caps, true));
        }
        if (Knows(RfbEncoding.QemuExtendedKeyEvent) && control)
        {
            lock (gate)
            {
                answers.Enqueue(w =>
                {
                    w.BeginUpdate();
                    w.ExtendedKeys();
                    w.EndUpdate();
                });
            }
        }
    }

    /// <summary>Writes an update.</summary>
    /// <returns>False when there is nothing to tell; then nothing is written.</returns>
    private bool Picture(ViewerTakes how, (int Status, int Width, int Height)? wish, int quality, int share)
    {
        var size = (!sizeTold || wish is not null) && (Knows(RfbEncoding.ExtendedDesktopSize) || Knows(RfbEncoding.DesktopSize));
        var pointer = !cursorTold && cursor is not null && Knows(RfbEncoding.Cursor);
        var isDue = repairs && encoder.HasLosses && damage.Count == 0 && Now - changedAt >= Still && MayRepair();
        var moved = !spotTold && spot is not null && Knows(RfbEncoding.PointerPosition);
        if (damage.Count == 0 && !size && !pointer && !moved && !isDue)
        {
            return false;
        }
        writer.BeginUpdate();
        if (size)
        {
            if (Knows(RfbEncoding.ExtendedDesktopSize))
            {
                writer.ExtendedDesktopSize(screen.Image.Width, screen.Image.Height, wish is null ? 0 : 1, wish?.Status ?? 0, screen.Monitors);
            }
            else
            {
                writer.DesktopSize(screen.Image.Width, screen.Image.Height);
            }
            sizeTold = true;
        }
        if (pointer)
        {
            writer.Cursor(cursor!, how.Format);
            cursorTold = true;
        }
        if (moved)
        {
            writer.PointerPosition(spot!.Value.X, spot.Value.Y);
            spotTold = true;
        }
        var rects = writer.Rects;
        if (!size || wish is null)
        {
            encoder.Encode(screen.Image, damage, how, quality, share, writer);
        }
        if (writer.Rects > rects)
        {
            changedAt = Now;
        }
        else if (isDue)
        {
            encoder.Repair(screen.Image, how, share, writer);
        }
        writer.EndUpdate();
        if (writer.Rects == 0)
        {
            writer.DropEmpty();
            return false;
        }
        return true;
    }

    private async Task SendAsync(CancellationToken cancel)
    {
        if (writer.Written.Length > 0)
        {
            await line.WriteAsync(writer.Written, cancel).ConfigureAwait(false);
            await line.FlushAsync(cancel).ConfigureAwait(false);
            writer.Clear();
        }
    }
}
