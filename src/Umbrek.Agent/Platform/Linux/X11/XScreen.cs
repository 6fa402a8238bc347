using System.Text;
using Umbrek.Agent.Desktop;
using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>
/// A screen of an X server: its picture by DAMAGE and MIT-SHM, its pointer by XFIXES, its size by RANDR, acts by XTEST on a connection of
/// their own. It sleeps as long as nothing changes.
/// </summary>
public sealed class XScreen : IScreen
{
    /// <summary>More parts than that are taken as the one that covers them.</summary>
    private const int MostParts = 24;

    /// <summary>A server that says no so often in turn is asked no more.</summary>
    private const int MostRefused = 50;

    private const byte NonEmpty = 3;
    private const uint ScreenChange = 1;
    private const int GenericEvent = 35;

    /// <summary>XI_RawMotion: a mouse was moved, wherever its pointer is.</summary>
    private const int RawMotion = 17;

    /// <summary>Whoever owns a selection has changed, has closed its window, or has gone (XFIXES 2).</summary>
    private const uint AnyOwner = 7;

    private readonly XConnection picture;
    private readonly XConnection acts;
    private readonly Nudge changed = new();
    private readonly Lock gate = new();
    private XExtension fixes = null!;
    private XExtension damage = null!;
    private XExtension? composite;
    private XExtension? randr;
    private XExtension? input;
    private XKeyboard? keyboard;
    private XExtension? test;
    private XClipboard? clipboard;
    private XGrab grab = null!;

    /// <summary>There while something else is painted over the windows.</summary>
    private XWindows? beneath;
    private uint cover;
    private uint damageId;
    private uint region;
    private byte held;
    private int refused;

    // What was heard of, and not yet taken.
    private bool isDamaged = true;
    private bool isNew = true;
    private bool cursorChanged = true;
    private bool clipboardChanged;
    private bool keysChanged;
    private bool pointerMoved;
    private bool coverChanged;

    private XScreen(XConnection picture, XConnection acts, string name)
    {
        (this.picture, this.acts, Name) = (picture, acts, name);
        Image = new ScreenImage(1, 1);
    }

    public string Name { get; }
    public ScreenImage Image { get; private set; }
    public IReadOnlyList<RfbScreen> Monitors { get; private set; } = [];

    /// <summary>Whether pictures come through shared memory.</summary>
    public bool IsShared => grab.IsShared;

    /// <param name="control">Whether one acts there, too.</param>
    /// <exception cref="IOException">The server does not let one in, or can't show what it should.</exception>
    public static async Task<XScreen> OpenAsync(string socket, byte[]? cookie, string name, bool control, TimeProvider time, CancellationToken cancel)
    {
        var picture = await XConnection.OpenAsync(socket, cookie, cancel).ConfigureAwait(false);
        XConnection acts;
        try
        {
            acts = await XConnection.OpenAsync(socket, cookie, cancel).ConfigureAwait(false);
        }
        catch
        {
            await picture.DisposeAsync().ConfigureAwait(false);
            throw;
        }
        var screen = new XScreen(picture, acts, name);
        try
        {
            await screen.BeginAsync(control, time).ConfigureAwait(false);
            return screen;
        }
        catch (Exception e)
        {
            await screen.DisposeAsync().ConfigureAwait(false);
            throw e is NotSupportedException or XErrorException ? new IOException(e.Message, e) : e;
        }
    }

    public async Task WaitAsync(CancellationToken cancel)
    {
        while (true)
        {
            lock (gate)
            {
                if (isDamaged || isNew || cursorChanged || clipboardChanged || keysChanged || pointerMoved)
                {
                    return;
                }
            }
            if (picture.Gone.IsCompleted)
            {
                throw new ScreenGoneException("The screen has gone: its X server has ended.");
            }
            await changed.WaitAsync(cancel).ConfigureAwait(false);
        }
    }

    public async Task<ScreenNews> TakeAsync(CancellationToken cancel)
    {
        bool all, part, pointer, clip, keys, moved, covered;
        lock (gate)
        {
            (all, part, pointer, clip, keys, moved, covered) = (isNew, isDamaged, cursorChanged, clipboardChanged, keysChanged, pointerMoved, coverChanged);
            isNew = isDamaged = cursorChanged = clipboardChanged = keysChanged = pointerMoved = coverChanged = false;
        }
        try
        {
            if (keys && keyboard is not null)
            {
                await keyboard.LoadAsync().ConfigureAwait(false);
            }
            if (covered)
            {
                await FindCoverAsync().ConfigureAwait(false);
            }
            var resized = all && await MeasureAsync().ConfigureAwait(false);
            var parts = all || part ? await TakePartsAsync(resized || covered).ConfigureAwait(false) : [];
            var cursor = pointer ? await CursorAsync().ConfigureAwait(false) : null;
            refused = 0;
            return new ScreenNews(parts, resized, cursor, clip, moved ? await PointerAsync().ConfigureAwait(false) : null);
        }
        catch (XErrorException e)
        {
            if (++refused > MostRefused)
            {
                throw new ScreenGoneException($"The screen can't be read any more: {e.Message}.");
            }
            // Between its change of size and our hearing of it nothing fits; all is taken anew with the next look.
            lock (gate)
            {
                isNew = isDamaged = true;
                cursorChanged |= pointer;
                coverChanged |= covered || beneath is not null;
            }
            changed.Give();
            return new ScreenNews([]);
        }
    }

    public Task KeyAsync(bool down, uint keySym, uint keyCode, CancellationToken cancel)
    {
        keyboard?.Key(down, keySym, keyCode);
        return Task.CompletedTask;
    }

    public Task MouseAsync(int x, int y, byte buttons, CancellationToken cancel)
    {
        if (test is not null)
        {
            acts.Send(XTest.Fake(test, XTest.Motion, 0, Math.Min(x, Image.Width - 1), Math.Min(y, Image.Height - 1)));
            for (var button = 0; button < 8; button++)
            {
                var bit = 1 << button;
                if (((buttons ^ held) & bit) != 0)
                {
                    acts.Send(XTest.Fake(test, (buttons & bit) != 0 ? XTest.ButtonPress : XTest.ButtonRelease, (byte)(button + 1)));
                }
            }
            held = buttons;
        }
        return Task.CompletedTask;
    }

    public Task<string?> ReadClipboardAsync(CancellationToken cancel) => clipboard?.ReadAsync(cancel) ?? Task.FromResult<string?>(null);

    public Task WriteClipboardAsync(string text, CancellationToken cancel)
    {
        clipboard?.Write(text);
        return Task.CompletedTask;
    }

    public async Task<int> ResizeAsync(int width, int height, CancellationToken cancel)
    {
        try
        {
            return randr is null ? XSizes.NotPossible : await XSizes.SetAsync(acts, randr, width, height).ConfigureAwait(false);
        }
        catch (XErrorException)
        {
            return XSizes.NotPossible;
        }
    }

    public Task ReleaseAsync(CancellationToken cancel)
    {
        if (!acts.Gone.IsCompleted)
        {
            keyboard?.LetGo();
            MouseUp();
        }
        return Task.CompletedTask;
    }

    public async ValueTask DisposeAsync()
    {
        if (!acts.Gone.IsCompleted && acts.Setup is not null)
        {
            keyboard?.GiveBack();
            try
            {
                // The server closes a connection when it has done what came over it, so this is heard before it goes.
                await acts.CheckAsync(new XRequest(127)).ConfigureAwait(false);
            }
            catch (Exception e) when (e is ScreenGoneException or XErrorException)
            {
                // It went before.
            }
        }
        await acts.DisposeAsync().ConfigureAwait(false);
        await picture.DisposeAsync().ConfigureAwait(false);
        grab?.Dispose();
        clipboard?.Dispose();
        changed.Dispose();
    }

    private void MouseUp()
    {
        for (var button = 0; button < 8; button++)
        {
            if ((held & 1 << button) != 0)
            {
                acts.Send(XTest.Fake(test!, XTest.ButtonRelease, (byte)(button + 1)));
            }
        }
        held = 0;
    }

    private async Task BeginAsync(bool control, TimeProvider time)
    {
        XPixels.Check(picture.Setup.Visual);
        damage = await NeedAsync(picture, "DAMAGE").ConfigureAwait(false);
        fixes = await NeedAsync(picture, "XFIXES").ConfigureAwait(false);
        await picture.AskAsync(new XRequest(damage, 0).U32(1).U32(1)).ConfigureAwait(false);
        await picture.AskAsync(new XRequest(fixes, 0).U32(5).U32(0)).ConfigureAwait(false);
        grab = await XGrab.OpenAsync(picture).ConfigureAwait(false);
        randr = await picture.FindAsync("RANDR").ConfigureAwait(false);
        picture.Event = Heard;
        picture.Gone.GetAwaiter().OnCompleted(changed.Give);
        if (control)
        {
            test = await NeedAsync(acts, "XTEST").ConfigureAwait(false);
            keyboard = new XKeyboard(acts, test);
            await keyboard.LoadAsync().ConfigureAwait(false);
            clipboard = await XClipboard.OpenAsync(picture, fixes, time).ConfigureAwait(false);
            clipboard.Changed = () => Note(() => clipboardChanged = true);
        }
        else
        {
            await FollowPointerAsync().ConfigureAwait(false);
        }
        region = picture.NewId();
        await picture.CheckAsync(new XRequest(fixes, 5).U32(region)).ConfigureAwait(false);
        damageId = picture.NewId();
        await picture.CheckAsync(new XRequest(damage, 1).U32(damageId).U32(picture.Setup.Root).U8(NonEmpty).Skip(3)).ConfigureAwait(false);
        picture.Send(new XRequest(fixes, 3).U32(picture.Setup.Root).U32(1));
        if (randr is not null)
        {
            await picture.AskAsync(new XRequest(randr, 0).U32(1).U32(5)).ConfigureAwait(false);
            picture.Send(new XRequest(randr, 4).U32(picture.Setup.Root).U16((int)ScreenChange).U16(0));
        }
        composite = await picture.FindAsync("Composite").ConfigureAwait(false);
        if (composite is not null)
        {
            cover = await picture.AtomAsync(ScreenCover.Name).ConfigureAwait(false);
            picture.Send(new XRequest(fixes, 2).U32(picture.Setup.Root).U32(cover).U32(AnyOwner));
            coverChanged = true;
        }
    }

    /// <summary>Learns whether something is painted over the windows, and what is to be shown then.</summary>
    private async Task FindCoverAsync()
    {
        const uint window = 33;
        beneath?.Close();
        beneath = null;
        var owner = XReply.U32(await picture.AskAsync(new XRequest(23).U32(cover)).ConfigureAwait(false), 8);
        if (owner == 0)
        {
            return;
        }
        var overlay = await picture.AskAsync(new XRequest(20).U32(owner).U32(cover).U32(window).U32(0).U32(1)).ConfigureAwait(false);
        beneath = await XWindows.OpenAsync(picture, composite!, damage, fixes, owner, overlay.Length >= 36 ? XReply.U32(overlay, 32) : 0).ConfigureAwait(false);
    }

    /// <summary>Who does not move the pointer himself is told where it goes, by XInput 2; an older server has none of that.</summary>
    private async Task FollowPointerAsync()
    {
        input = await picture.FindAsync("XInputExtension").ConfigureAwait(false);
        if (input is null)
        {
            return;
        }
        await picture.AskAsync(new XRequest(input, 47).U16(2).U16(2)).ConfigureAwait(false);
        // XISelectEvents on the root window, for all master devices (1).
        picture.Send(new XRequest(input, 46).U32(picture.Setup.Root).U16(1).U16(0).U16(1).U16(1).U32(1u << RawMotion));
        pointerMoved = true;
    }

    private async Task<(int X, int Y)?> PointerAsync()
    {
        var reply = await picture.AskAsync(new XRequest(38).U32(picture.Setup.Root)).ConfigureAwait(false);
        // Another of several screens of one server may have it.
        return reply[1] == 0 ? null : (Math.Clamp(XReply.S16(reply, 16), 0, Image.Width - 1), Math.Clamp(XReply.S16(reply, 18), 0, Image.Height - 1));
    }

    private static async Task<XExtension> NeedAsync(XConnection connection, string name) =>
        await connection.FindAsync(name).ConfigureAwait(false) ?? throw new NotSupportedException($"The X server lacks {name}, without which its screen can't be shown.");

    private void Heard(byte[] message)
    {
        var code = message[0] & 0x7F;
        if (beneath?.Heard(message) == true || code == damage.FirstEvent)
        {
            Note(() => isDamaged = true);
        }
        else if (code == fixes.FirstEvent && composite is not null && XReply.U32(message, 12) == cover)
        {
            Note(() => coverChanged = isDamaged = true);
        }
        else if (code == fixes.FirstEvent + 1)
        {
            Note(() => cursorChanged = true);
        }
        else if (randr is not null && code == randr.FirstEvent)
        {
            Note(() => isNew = isDamaged = true);
        }
        else if (code == GenericEvent && input is not null && message[1] == input.Opcode && XReply.U16(message, 8) == RawMotion)
        {
            Note(() => pointerMoved = true);
        }
        else if (code == 34)
        {
            // MappingNotify: another keyboard, another layout, or a key that was lent a character.
            Note(() => keysChanged |= message[4] == 1);
        }
        else
        {
            clipboard?.Take(message);
        }
    }

    private void Note(Action what)
    {
        lock (gate)
        {
            what();
        }
        changed.Give();
    }

    /// <summary>Learns how large the screen is, and makes room for it.</summary>
    /// <returns>Whether that has changed, or the monitors lie differently.</returns>
    private async Task<bool> MeasureAsync()
    {
        var geometry = await picture.AskAsync(new XRequest(14).U32(picture.Setup.Root)).ConfigureAwait(false);
        var (width, height) = (XReply.U16(geometry, 16), XReply.U16(geometry, 18));
        if (!ScreenImage.IsPossible(width, height))
        {
            throw new ScreenGoneException($"The screen is {width} x {height} pixels large, more than is shown.");
        }
        var monitors = await XMonitors.FindAsync(picture).ConfigureAwait(false);
        if (Image.Width == width && Image.Height == height && Monitors.SequenceEqual(monitors))
        {
            return false;
        }
        Monitors = monitors;
        if (Image.Width != width || Image.Height != height)
        {
            Image = new ScreenImage(width, height);
            await grab.MakeRoomAsync(width, height).ConfigureAwait(false);
        }
        return true;
    }

    private async Task<List<ScreenRect>> TakePartsAsync(bool all)
    {
        // First it is said that what has changed so far is known, then it is looked at: what changes meanwhile is told anew.
        picture.Send(new XRequest(damage, 3).U32(damageId).U32(0).U32(region));
        var fetched = await picture.AskAsync(new XRequest(fixes, 19).U32(region)).ConfigureAwait(false);
        if (beneath is { } windows)
        {
            var told = await windows.ChangedAsync().ConfigureAwait(false);
            var seen = all ? [Image.Bounds] : Few([.. told.Select(p => p.Intersect(Image.Bounds)).Where(p => !p.IsEmpty)]);
            foreach (var part in seen)
            {
                await windows.PaintAsync(grab, Image, part).ConfigureAwait(false);
            }
            return seen;
        }
        var parts = all ? [Image.Bounds] : Parts(fetched);
        foreach (var part in parts)
        {
            await grab.TakeAsync(picture.Setup.Root, part.X, part.Y, Image, part).ConfigureAwait(false);
        }
        return parts;
    }

    private List<ScreenRect> Parts(byte[] region)
    {
        var count = (region.Length - 32) / 8;
        if (count > MostParts)
        {
            var around = ReadRect(region, 8).Intersect(Image.Bounds);
            return around.IsEmpty ? [] : [around];
        }
        var parts = new List<ScreenRect>(count);
        for (var i = 0; i < count; i++)
        {
            var part = ReadRect(region, 32 + 8 * i).Intersect(Image.Bounds);
            if (!part.IsEmpty)
            {
                parts.Add(part);
            }
        }
        return parts;
    }

    private static List<ScreenRect> Few(List<ScreenRect> parts) => parts.Count <= MostParts ? parts : [parts.Aggregate((a, b) => a.Join(b))];

    private static ScreenRect ReadRect(byte[] data, int at) => new(XReply.S16(data, at), XReply.S16(data, at + 2), XReply.U16(data, at + 4), XReply.U16(data, at + 6));

    private async Task<ScreenCursor?> CursorAsync()
    {
        var reply = await picture.AskAsync(new XRequest(fixes, 4)).ConfigureAwait(false);
        var (width, height) = (XReply.U16(reply, 12), XReply.U16(reply, 14));
        if (width is 0 or > ScreenCursor.MostSide || height is 0 or > ScreenCursor.MostSide)
        {
            return ScreenCursor.None;
        }
        var pixels = new uint[width * height];
        for (var i = 0; i < pixels.Length; i++)
        {
            pixels[i] = Straight(XReply.U32(reply, 32 + 4 * i));
        }
        return new ScreenCursor(XReply.U16(reply, 16), XReply.U16(reply, 18), width, height, pixels);
    }

    /// <summary>Colours come multiplied by how much they show.</summary>
    private static uint Straight(uint pixel)
    {
        var shows = pixel >> 24;
        return shows is 0 or 255 ? pixel : shows << 24 | Part(16) | Part(8) | Part(0);

        uint Part(int shift) => Math.Min(255, (pixel >> shift & 255) * 255 / shows) << shift;
    }
}
