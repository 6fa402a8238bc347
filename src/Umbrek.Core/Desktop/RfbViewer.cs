using System.Buffers.Binary;
using System.Text;

namespace Umbrek.Core.Desktop;

/// <summary>What the other side showed or said.</summary>
public enum RfbHeard
{
    /// <summary>The picture, the pointer or the size.</summary>
    Picture,
    Clipboard,
    Bell,
    Other,
}

/// <summary>
/// Looks at a screen over RFB 3.8 (RFC 6143): the viewer's side, without a picture of its own to draw on. It takes Raw, CopyRect, ZRLE,
/// and the two kinds of Tight that are sent here.
/// </summary>
/// <param name="jpeg">Unpacks JPEG; without one, rectangles of it are passed over: who wants every pixel asks for what loses none.</param>
public sealed class RfbViewer(Stream stream, IJpegDecoder? jpeg = null) : IDisposable
{
    private const int MostName = 4096;
    private const int MostRects = ushort.MaxValue;
    private const int MostPacked = 128 * 1024 * 1024;

    private readonly ZrleDecoder zrle = new();
    private byte[] buffer = new byte[64 * 1024];

    public string Name { get; private set; } = "";

    /// <summary>What the screen shows, as far as it was sent.</summary>
    public ScreenImage Image { get; private set; } = new(1, 1);

    public ScreenCursor? Cursor { get; private set; }

    /// <summary>Where the pointer is, once that was told.</summary>
    public (int X, int Y)? PointerAt { get; private set; }

    public IReadOnlyList<RfbScreen> Screens { get; private set; } = [];

    /// <summary>The other side's clipboard, once it has sent it.</summary>
    public string? Clipboard { get; private set; }

    /// <summary>Rectangles that came, by encoding.</summary>
    public Dictionary<int, int> Rects { get; } = [];

    /// <summary>How the last wish for another size was answered: 0 is well.</summary>
    public int? ResizeStatus { get; private set; }

    /// <summary>Agrees how to speak, and learns how large the screen is.</summary>
    /// <exception cref="RfbException">The other side refuses, or speaks something else.</exception>
    public async Task BeginAsync(bool shared, CancellationToken cancel)
    {
        var version = await ReadAsync(12, cancel).ConfigureAwait(false);
        if (!version.Span[..4].SequenceEqual("RFB "u8))
        {
            throw new RfbException("the other side does not speak RFB");
        }
        await stream.WriteAsync("RFB 003.008\n"u8.ToArray(), cancel).ConfigureAwait(false);
        var kinds = (await ReadAsync(1, cancel).ConfigureAwait(false)).Span[0];
        if (kinds == 0)
        {
            throw new RfbException($"the other side refuses: {await ReadTextAsync(cancel).ConfigureAwait(false)}");
        }
        if (!(await ReadAsync(kinds, cancel).ConfigureAwait(false)).Span.Contains((byte)1))
        {
            throw new RfbException("the other side asks for a password of its own");
        }
        await stream.WriteAsync(new byte[] { 1 }, cancel).ConfigureAwait(false);
        if (BinaryPrimitives.ReadUInt32BigEndian((await ReadAsync(4, cancel).ConfigureAwait(false)).Span) != 0)
        {
            throw new RfbException($"the other side refuses: {await ReadTextAsync(cancel).ConfigureAwait(false)}");
        }
        await stream.WriteAsync(new[] { (byte)(shared ? 1 : 0) }, cancel).ConfigureAwait(false);
        var init = await ReadAsync(24, cancel).ConfigureAwait(false);
        SetSize(BinaryPrimitives.ReadUInt16BigEndian(init.Span), BinaryPrimitives.ReadUInt16BigEndian(init.Span[2..]));
        var length = BinaryPrimitives.ReadInt32BigEndian(init.Span[20..]);
        if (length is < 0 or > MostName)
        {
            throw new RfbException("the screen's name is too long");
        }
        Name = Encoding.UTF8.GetString((await ReadAsync(length, cancel).ConfigureAwait(false)).Span);
        await SendAsync(SetFormat(), cancel).ConfigureAwait(false);
    }

    /// <summary>Names what it takes.</summary>
    public Task TakeAsync(IReadOnlyList<int> encodings, CancellationToken cancel)
    {
        var message = new byte[4 + 4 * encodings.Count];
        message[0] = RfbMessage.SetEncodings;
        BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(2), (ushort)encodings.Count);
        for (var i = 0; i < encodings.Count; i++)
        {
            BinaryPrimitives.WriteInt32BigEndian(message.AsSpan(4 + 4 * i), encodings[i]);
        }
        return SendAsync(message, cancel);
    }

    /// <summary>Asks for the picture.</summary>
    /// <param name="incremental">Only what changed since; it is answered once something did.</param>
    public Task AskAsync(bool incremental, CancellationToken cancel)
    {
        var message = new byte[10];
        (message[0], message[1]) = (RfbMessage.UpdateRequest, (byte)(incremental ? 1 : 0));
        BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(6), (ushort)Image.Width);
        BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(8), (ushort)Image.Height);
        return SendAsync(message, cancel);
    }

    public Task KeyAsync(bool down, uint keySym, CancellationToken cancel)
    {
        var message = new byte[8];
        (message[0], message[1]) = (RfbMessage.Key, (byte)(down ? 1 : 0));
        BinaryPrimitives.WriteUInt32BigEndian(message.AsSpan(4), keySym);
        return SendAsync(message, cancel);
    }

    public Task MouseAsync(int x, int y, byte buttons, CancellationToken cancel)
    {
        var message = new byte[6];
        (message[0], message[1]) = (RfbMessage.Mouse, buttons);
        BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(2), (ushort)x);
        BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(4), (ushort)y);
        return SendAsync(message, cancel);
    }

    /// <summary>Gives the other side a text for its clipboard.</summary>
    public Task ClipboardAsync(ClipboardMessage clipboard, CancellationToken cancel)
    {
        var body = clipboard.Write();
        var message = new byte[8 + body.Length];
        message[0] = RfbMessage.ClientCutText;
        BinaryPrimitives.WriteInt32BigEndian(message.AsSpan(4), -body.Length);
        body.CopyTo(message, 8);
        return SendAsync(message, cancel);
    }

    public Task ResizeAsync(int width, int height, CancellationToken cancel)
    {
        var message = new byte[8 + RfbScreen.Length];
        message[0] = RfbMessage.SetDesktopSize;
        BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(2), (ushort)width);
        BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(4), (ushort)height);
        message[6] = 1;
        BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(16), (ushort)width);
        BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(18), (ushort)height);
        ResizeStatus = null;
        return SendAsync(message, cancel);
    }

    /// <summary>Waits for what the other side says next, and draws it.</summary>
    /// <exception cref="EndOfStreamException">It has gone.</exception>
    /// <exception cref="RfbException">It says what can't be.</exception>
    public async Task<RfbHeard> HearAsync(CancellationToken cancel)
    {
        switch ((await ReadAsync(1, cancel).ConfigureAwait(false)).Span[0])
        {
            case RfbMessage.Update:
                await UpdateAsync(cancel).ConfigureAwait(false);
                return RfbHeard.Picture;
            case RfbMessage.Bell:
                return RfbHeard.Bell;
            case RfbMessage.ServerCutText:
                return await CutTextAsync(cancel).ConfigureAwait(false);
            case RfbMessage.Fence:
                await FenceAsync(cancel).ConfigureAwait(false);
                return RfbHeard.Other;
            case RfbMessage.EndOfContinuousUpdates:
                return RfbHeard.Other;
            case var kind:
                throw new RfbException($"the other side says something of kind {kind}, which there is none of");
        }
    }

    public void Dispose() => zrle.Dispose();

    private async Task UpdateAsync(CancellationToken cancel)
    {
        var count = BinaryPrimitives.ReadUInt16BigEndian((await ReadAsync(3, cancel).ConfigureAwait(false)).Span[1..]);
        for (var i = 0; i < Math.Min((int)count, MostRects); i++)
        {
            var header = (await ReadAsync(RfbWriter.RectHeader, cancel).ConfigureAwait(false)).Span;
            var part = new ScreenRect(U16(header), U16(header[2..]), U16(header[4..]), U16(header[6..]));
            var encoding = BinaryPrimitives.ReadInt32BigEndian(header[8..]);
            Rects[encoding] = Rects.GetValueOrDefault(encoding) + 1;
            if (encoding == RfbEncoding.LastRect)
            {
                return;
            }
            await RectAsync(part, encoding, cancel).ConfigureAwait(false);
        }
    }

    private async Task RectAsync(ScreenRect part, int encoding, CancellationToken cancel)
    {
        switch (encoding)
        {
            case RfbEncoding.Raw:
                Inside(part);
                for (var y = part.Y; y < part.Bottom; y++)
                {
                    var row = await ReadAsync(part.Width * 4, cancel).ConfigureAwait(false);
                    var into = Image.Row(part, y);
                    for (var x = 0; x < into.Length; x++)
                    {
                        into[x] = BinaryPrimitives.ReadUInt32LittleEndian(row.Span[(4 * x)..]) & 0xFFFFFF;
                    }
                }
                break;
            case RfbEncoding.CopyRect:
                Inside(part);
                var from = (await ReadAsync(4, cancel).ConfigureAwait(false)).Span;
                var (x0, y0) = (U16(from), U16(from[2..]));
                Inside(part with { X = x0, Y = y0 });
                Image.Move(x0, y0, part);
                break;
            case RfbEncoding.Zrle:
                Inside(part);
                var length = BinaryPrimitives.ReadInt32BigEndian((await ReadAsync(4, cancel).ConfigureAwait(false)).Span);
                if (length is < 0 or > MostPacked)
                {
                    throw new RfbException($"a rectangle of {length} bytes");
                }
                zrle.Read(await ReadAsync(length, cancel).ConfigureAwait(false), Image, part, PixelFormat.Usual);
                break;
            case RfbEncoding.Tight:
                Inside(part);
                await TightAsync(part, cancel).ConfigureAwait(false);
                break;
            case RfbEncoding.Cursor:
                await CursorAsync(part, cancel).ConfigureAwait(false);
                break;
            case RfbEncoding.DesktopSize:
                SetSize(part.Width, part.Height);
                break;
            case RfbEncoding.ExtendedDesktopSize:
                await ScreensAsync(part, cancel).ConfigureAwait(false);
                break;
            case RfbEncoding.PointerPosition:
                PointerAt = (part.X, part.Y);
                break;
            case RfbEncoding.QemuExtendedKeyEvent:
                break;
            default:
                throw new RfbException($"a rectangle is of encoding {encoding}, which was not asked for");
        }
    }

    private async Task TightAsync(ScreenRect part, CancellationToken cancel)
    {
        var control = (await ReadAsync(1, cancel).ConfigureAwait(false)).Span[0];
        switch (control >> 4)
        {
            case 8:
                var colour = (await ReadAsync(3, cancel).ConfigureAwait(false)).Span;
                Image.Fill(part, (uint)(colour[0] << 16 | colour[1] << 8 | colour[2]));
                return;
            case 9:
                var (length, shift) = (0, 0);
                while (true)
                {
                    var next = (await ReadAsync(1, cancel).ConfigureAwait(false)).Span[0];
                    length |= (shift == 14 ? next : next & 127) << shift;
                    if (shift == 14 || next < 128)
                    {
                        break;
                    }
                    shift += 7;
                }
                var packed = await ReadAsync(length, cancel).ConfigureAwait(false);
                jpeg?.Decode(packed.Span, Image, part);
                return;
            default:
                throw new RfbException($"a rectangle is packed in the way {control:x2}, which was not asked for");
        }
    }

    private async Task CursorAsync(ScreenRect hot, CancellationToken cancel)
    {
        if (hot.Width > ScreenCursor.MostSide || hot.Height > ScreenCursor.MostSide)
        {
            throw new RfbException($"a pointer of {hot.Width} x {hot.Height}");
        }
        var row = (hot.Width + 7) / 8;
        var all = await ReadAsync(hot.Width * hot.Height * 4 + row * hot.Height, cancel).ConfigureAwait(false);
        var pixels = new uint[hot.Width * hot.Height];
        var mask = all.Span[(4 * pixels.Length)..];
        for (var i = 0; i < pixels.Length; i++)
        {
            var (x, y) = (i % hot.Width, i / hot.Width);
            var shows = (mask[y * row + x / 8] & (0x80 >> (x % 8))) != 0;
            pixels[i] = BinaryPrimitives.ReadUInt32LittleEndian(all.Span[(4 * i)..]) & 0xFFFFFF | (shows ? 0xFF000000 : 0);
        }
        Cursor = new ScreenCursor(hot.X, hot.Y, hot.Width, hot.Height, pixels);
    }

    private async Task ScreensAsync(ScreenRect said, CancellationToken cancel)
    {
        var count = (await ReadAsync(4, cancel).ConfigureAwait(false)).Span[0];
        var all = await ReadAsync(RfbScreen.Length * count, cancel).ConfigureAwait(false);
        var screens = new RfbScreen[count];
        for (var i = 0; i < screens.Length; i++)
        {
            screens[i] = RfbScreen.Read(all.Span[(RfbScreen.Length * i)..]);
        }
        if (said.X == 1)
        {
            ResizeStatus = said.Y;
        }
        if (said.X != 1 || said.Y == 0)
        {
            Screens = screens;
            SetSize(said.Width, said.Height);
        }
    }

    private async Task<RfbHeard> CutTextAsync(CancellationToken cancel)
    {
        var length = BinaryPrimitives.ReadInt32BigEndian((await ReadAsync(7, cancel).ConfigureAwait(false)).Span[3..]);
        if (Math.Abs((long)length) > RfbClientReader.MostText)
        {
            throw new RfbException($"a clipboard of {Math.Abs((long)length)} bytes");
        }
        var body = await ReadAsync(Math.Abs(length), cancel).ConfigureAwait(false);
        if (length >= 0)
        {
            Clipboard = Encoding.Latin1.GetString(body.Span);
            return RfbHeard.Clipboard;
        }
        switch (ClipboardMessage.Read(body.Span))
        {
            case { Act: ClipboardAct.Notify, HasText: true }:
                await ClipboardAsync(new ClipboardMessage(ClipboardAct.Request, true), cancel).ConfigureAwait(false);
                return RfbHeard.Other;
            case { Act: ClipboardAct.Provide, Text: { } text }:
                Clipboard = text;
                return RfbHeard.Clipboard;
            default:
                return RfbHeard.Other;
        }
    }

    private async Task FenceAsync(CancellationToken cancel)
    {
        var head = await ReadAsync(8, cancel).ConfigureAwait(false);
        var flags = (FenceFlags)BinaryPrimitives.ReadUInt32BigEndian(head.Span[3..]);
        var payload = (await ReadAsync(head.Span[7], cancel).ConfigureAwait(false)).ToArray();
        if ((flags & FenceFlags.Request) == 0)
        {
            return;
        }
        var answer = new byte[9 + payload.Length];
        answer[0] = RfbMessage.Fence;
        BinaryPrimitives.WriteUInt32BigEndian(answer.AsSpan(4), (uint)(flags & (FenceFlags.BlockBefore | FenceFlags.BlockAfter | FenceFlags.SyncNext)));
        answer[8] = (byte)payload.Length;
        payload.CopyTo(answer, 9);
        await SendAsync(answer, cancel).ConfigureAwait(false);
    }

    private static byte[] SetFormat()
    {
        var message = new byte[4 + PixelFormat.Length];
        message[0] = RfbMessage.SetPixelFormat;
        PixelFormat.Usual.Write(message.AsSpan(4));
        return message;
    }

    private void SetSize(int width, int height)
    {
        if (!ScreenImage.IsPossible(width, height))
        {
            throw new RfbException($"a screen of {width} x {height}");
        }
        if (Image.Width != width || Image.Height != height)
        {
            Image = new ScreenImage(width, height);
        }
    }

    private void Inside(ScreenRect part)
    {
        if (!Image.Bounds.Covers(part))
        {
            throw new RfbException($"a rectangle of {part.Width} x {part.Height} at {part.X},{part.Y} lies outside of the screen of {Image.Width} x {Image.Height}");
        }
    }

    private async Task<string> ReadTextAsync(CancellationToken cancel)
    {
        var length = BinaryPrimitives.ReadUInt32BigEndian((await ReadAsync(4, cancel).ConfigureAwait(false)).Span);
        return Encoding.UTF8.GetString((await ReadAsync((int)Math.Min(length, MostName), cancel).ConfigureAwait(false)).Span);
    }

    private async Task SendAsync(byte[] message, CancellationToken cancel)
    {
        await stream.WriteAsync(message, cancel).ConfigureAwait(false);
        await stream.FlushAsync(cancel).ConfigureAwait(false);
    }

    /// <returns>Good until the next call.</returns>
    private async Task<ReadOnlyMemory<byte>> ReadAsync(int length, CancellationToken cancel)
    {
        if (buffer.Length < length)
        {
            buffer = new byte[length];
        }
        await stream.ReadExactlyAsync(buffer.AsMemory(0, length), cancel).ConfigureAwait(false);
        return buffer.AsMemory(0, length);
    }

    private static int U16(ReadOnlySpan<byte> data) => BinaryPrimitives.ReadUInt16BigEndian(data);
}
