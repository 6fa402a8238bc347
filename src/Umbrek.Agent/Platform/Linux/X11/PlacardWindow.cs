using System.Text;
using System.Threading.Channels;
using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>
/// A placard as a window of an X server. A question is a window like others, above them, so that it can be moved and read at leisure; what
/// only tells something takes no keyboard, is no window of the window manager's, and comes back to the top when it is covered.
/// </summary>
public sealed class PlacardWindow : IAsyncDisposable
{
    private const int Margin = 12;

    private const uint BackPixel = 0x2;
    private const uint OverrideRedirect = 0x200;
    private const uint EventMask = 0x800;
    private const uint KeyPressMask = 0x1;
    private const uint ButtonMask = 0xC;
    private const uint LeaveMask = 0x20;
    private const uint MotionMask = 0x40;
    private const uint ExposureMask = 0x8000;
    private const uint VisibilityMask = 0x10000;
    private const uint StructureMask = 0x20000;

    private const uint Escape = 0xFF1B;
    private const uint Return = 0xFF0D;
    private const uint Enter = 0xFF8D;
    private const uint Space = 0x20;
    private const uint Tab = 0xFF09;
    private const uint Left = 0xFF51;
    private const uint Right = 0xFF53;

    private readonly XConnection connection;
    private readonly Placard placard;
    private readonly PlacardFace face;
    private readonly TimeProvider time;
    private readonly Channel<byte[]> events = Channel.CreateBounded<byte[]>(new BoundedChannelOptions(256) { FullMode = BoundedChannelFullMode.DropOldest });
    private readonly uint window;
    private readonly uint context;
    private Dictionary<int, uint> keys = [];
    private XInput? input;
    private uint protocols;
    private uint delete;
    private int focus;
    private int under = -1;

    private PlacardWindow(XConnection connection, Placard placard, TimeProvider time)
    {
        (this.connection, this.placard, this.time) = (connection, placard, time);
        face = new PlacardFace(placard, connection.Setup.Width);
        focus = IsQuestion ? Math.Max(0, placard.Buttons.ToList().FindIndex(b => b.IsSafe)) : -1;
        (window, context) = (connection.NewId(), connection.NewId());
        connection.Event = e => events.Writer.TryWrite(e);
    }

    /// <summary>Only what is pressed by a hand counts: a program, such as what a technician controls the screen with, could press for a person.</summary>
    public bool OnlyByHand { get; set; }

    /// <summary>How many keyboards and mice were taken from people; null where that was not wanted.</summary>
    public int? Taken { get; private set; }

    private bool IsQuestion => placard.Kind == PlacardKind.Question;

    /// <param name="place">Of several in the same corner: the first is 0.</param>
    /// <param name="takeInput">Whether keyboards and mice of the host are to be taken away while it is there.</param>
    /// <exception cref="IOException">The server does not let one in, or can't show it.</exception>
    public static async Task<PlacardWindow> OpenAsync(string socket, byte[]? cookie, Placard placard, int place, bool takeInput, TimeProvider time, CancellationToken cancel)
    {
        var connection = await XConnection.OpenAsync(socket, cookie, cancel).ConfigureAwait(false);
        try
        {
            XPixels.Check(connection.Setup.Visual);
            var shown = new PlacardWindow(connection, placard, time);
            await shown.BeginAsync(place, takeInput).ConfigureAwait(false);
            return shown;
        }
        catch (Exception e)
        {
            await connection.DisposeAsync().ConfigureAwait(false);
            throw e is NotSupportedException or XErrorException ? new IOException(e.Message, e) : e;
        }
    }

    /// <summary>Waits until a button is pressed.</summary>
    /// <returns>Its id; null when its time is over.</returns>
    /// <exception cref="IOException">The screen has gone.</exception>
    public async Task<string?> PressedAsync(CancellationToken cancel)
    {
        using var second = new PeriodicTimer(TimeSpan.FromSeconds(1), time);
        var ticks = placard.Until is not null ? second.WaitForNextTickAsync(cancel).AsTask() : null;
        while (true)
        {
            var comes = events.Reader.WaitToReadAsync(cancel).AsTask();
            await Task.WhenAny(new[] { comes, ticks, connection.Gone }.OfType<Task>()).ConfigureAwait(false);
            if (connection.Gone.IsCompleted)
            {
                throw new IOException("The screen has gone.");
            }
            cancel.ThrowIfCancellationRequested();
            while (events.Reader.TryRead(out var message))
            {
                if (Heed(message) is { } pressed)
                {
                    return pressed;
                }
            }
            if (ticks?.IsCompleted == true)
            {
                if (time.GetUtcNow() >= placard.Until)
                {
                    return null;
                }
                Draw();
                ticks = second.WaitForNextTickAsync(cancel).AsTask();
            }
        }
    }

    public ValueTask DisposeAsync() => connection.DisposeAsync();

    private async Task BeginAsync(int place, bool takeInput)
    {
        var setup = connection.Setup;
        var (x, y) = placard.Kind switch
        {
            PlacardKind.Question => ((setup.Width - face.Width) / 2, Math.Max(0, (setup.Height - face.Height) / 3)),
            PlacardKind.Strip => ((setup.Width - face.Width) / 2, place * (face.Height + 4)),
            _ => (setup.Width - face.Width - Margin, setup.Height - (place + 1) * (face.Height + Margin)),
        };
        input = await XInput.OpenAsync(connection).ConfigureAwait(false);
        var mask = ExposureMask | StructureMask | LeaveMask | (IsQuestion ? 0 : VisibilityMask) | (input is null ? KeyPressMask | ButtonMask | MotionMask : 0);
        await connection.CheckAsync(new XRequest(1).U32(window).U32(setup.Root).U16(Math.Max(0, x)).U16(Math.Max(0, y)).U16(face.Width).U16(face.Height).U16(0).U16(1).U32(0)
            .U32(BackPixel | OverrideRedirect | EventMask).U32(0).U32(IsQuestion ? 0u : 1u).U32(mask)).ConfigureAwait(false);
        await connection.CheckAsync(new XRequest(55).U32(context).U32(window).U32(0)).ConfigureAwait(false);
        // The press too: where another takes that, as a window manager does at the root, the release is his.
        input?.Select(window, XInput.KeyPress, XInput.ButtonPress, XInput.ButtonRelease, XInput.Motion);
        await NameAsync().ConfigureAwait(false);
        await LearnKeysAsync().ConfigureAwait(false);
        await connection.CheckAsync(new XRequest(8).U32(window)).ConfigureAwait(false);
        Draw();
        if (takeInput)
        {
            Taken = input is null ? 0 : await input.TakeAwayAsync(window).ConfigureAwait(false);
        }
    }

    /// <summary>What a window manager and a screen reader learn of it: ICCCM 4.1 and the Extended Window Manager Hints.</summary>
    private async Task NameAsync()
    {
        const uint atomType = 4;
        const uint stringType = 31;
        const uint windowName = 39;
        const uint normalHints = 40;
        const uint hintsType = 41;
        const uint windowClass = 67;
        var title = $"Umbrek: {placard.Title}";
        Set(windowName, stringType, 8, Encoding.Latin1.GetBytes(title));
        Set(windowClass, stringType, 8, "umbrek\0Umbrek\0"u8);
        Set(await connection.AtomAsync("_NET_WM_NAME").ConfigureAwait(false), await connection.AtomAsync("UTF8_STRING").ConfigureAwait(false), 8, Encoding.UTF8.GetBytes(title));
        (protocols, delete) = (await connection.AtomAsync("WM_PROTOCOLS").ConfigureAwait(false), await connection.AtomAsync("WM_DELETE_WINDOW").ConfigureAwait(false));
        Set(protocols, atomType, 32, Words(delete));
        var kind = IsQuestion ? "_NET_WM_WINDOW_TYPE_DIALOG" : "_NET_WM_WINDOW_TYPE_NOTIFICATION";
        Set(await connection.AtomAsync("_NET_WM_WINDOW_TYPE").ConfigureAwait(false), atomType, 32, Words(await connection.AtomAsync(kind).ConfigureAwait(false)));
        Set(await connection.AtomAsync("_NET_WM_STATE").ConfigureAwait(false), atomType, 32, Words(await connection.AtomAsync("_NET_WM_STATE_ABOVE").ConfigureAwait(false), await connection.AtomAsync("_NET_WM_STATE_STICKY").ConfigureAwait(false)));
        // WM_NORMAL_HINTS: where and how large it is said to be, and that it has no other size (PPosition, PMinSize, PMaxSize).
        var hints = new uint[18];
        hints[0] = 4 | 16 | 32;
        (hints[5], hints[6], hints[7], hints[8]) = ((uint)face.Width, (uint)face.Height, (uint)face.Width, (uint)face.Height);
        Set(normalHints, hintsType, 32, Words(hints));
    }

    private void Set(uint property, uint type, byte format, ReadOnlySpan<byte> data) =>
        connection.Send(new XRequest(18).U32(window).U32(property).U32(type).U8(format).Skip(3).U32((uint)(data.Length / (format / 8))).Data(data));

    private static byte[] Words(params uint[] words) => [.. words.SelectMany(BitConverter.GetBytes)];

    private async Task LearnKeysAsync()
    {
        var (first, count) = (connection.Setup.MinKeyCode, connection.Setup.MaxKeyCode - connection.Setup.MinKeyCode + 1);
        var reply = await connection.AskAsync(new XRequest(101).U8(first).U8((byte)count).U16(0)).ConfigureAwait(false);
        keys = Enumerable.Range(0, count).ToDictionary(i => first + i, i => XReply.U32(reply, 32 + 4 * i * reply[1]));
    }

    /// <returns>The id of the button that it presses; null when it presses none.</returns>
    private string? Heed(byte[] message)
    {
        const int visible = 0;
        switch (message[0] & 0x7F)
        {
            case 12:
                Draw();
                return null;
            case 15 when message[8] != visible:
                // Covered: to the top again. Whoever wants it away ends what it tells of.
                connection.Send(new XRequest(12).U32(window).U16(0x40).U16(0).U32(0));
                return null;
            case 8:
                Point(-1);
                return null;
            case 33 when XReply.U32(message, 8) == protocols && XReply.U32(message, 12) == delete:
                return placard.Buttons.FirstOrDefault(b => b.IsSafe)?.Id;
            case 35 when input is not null && message[1] == input.Opcode:
                // xXIDeviceEvent: kind at 8, key or button at 16, place in 16.16 at 40 and 44, the device that it comes from at 52.
                return Act(XReply.U16(message, 8), (int)XReply.U32(message, 16), (int)XReply.U32(message, 40) >> 16, (int)XReply.U32(message, 44) >> 16, !input.IsSynthetic(XReply.U16(message, 52)));
            case 2 or 5 or 6 when input is null:
                // Whose hand it was is not known here.
                return Act(message[0] & 0x7F, message[1], XReply.S16(message, 24), XReply.S16(message, 26), byHand: (message[0] & 0x80) == 0 && !OnlyByHand);
            default:
                return null;
        }
    }

    private string? Act(int kind, int detail, int x, int y, bool byHand)
    {
        if (OnlyByHand && !byHand)
        {
            return null;
        }
        switch (kind)
        {
            case XInput.Motion:
                Point(face.ButtonAt(x, y));
                return null;
            case XInput.ButtonRelease when detail == 1 && face.ButtonAt(x, y) is >= 0 and var button:
                return placard.Buttons[button].Id;
            case XInput.KeyPress when IsQuestion:
                return Press(keys.GetValueOrDefault(detail));
            default:
                return null;
        }
    }

    private string? Press(uint key)
    {
        var count = placard.Buttons.Count;
        switch (key)
        {
            case Escape:
                return placard.Buttons.FirstOrDefault(b => b.IsSafe)?.Id;
            case Return or Enter or Space when count > 0:
                return placard.Buttons[focus].Id;
            case Tab or Right when count > 0:
                focus = (focus + 1) % count;
                Draw();
                return null;
            case Left when count > 0:
                focus = (focus + count - 1) % count;
                Draw();
                return null;
            default:
                return null;
        }
    }

    private void Point(int button)
    {
        if (button != under)
        {
            under = button;
            Draw();
        }
    }

    private void Draw() => XPixels.Draw(connection, window, context, face.Draw(focus, under, time.GetUtcNow()), 0, 0);
}
