using System.Buffers;
using System.Buffers.Binary;
using System.Text;

namespace Umbrek.Core.Desktop;

/// <summary>Puts together what the side that shows a screen says (RFC 6143, 7.6, and the extensions beside it).</summary>
public sealed class RfbWriter
{
    /// <summary>A rectangle whose own bytes follow.</summary>
    public const int RectHeader = 12;

    private const int UpdateHeader = 4;

    private readonly ArrayBufferWriter<byte> bytes = new(64 * 1024);
    private int countAt = -1;
    private int count;

    public ReadOnlyMemory<byte> Written => bytes.WrittenMemory;

    /// <summary>Forgets what was written; what it lies in is used again.</summary>
    public void Clear()
    {
        bytes.ResetWrittenCount();
        countAt = -1;
    }

    public IBufferWriter<byte> Bytes => bytes;

    /// <summary>The screen, once both sides know how they speak (7.3.2).</summary>
    public void ServerInit(int width, int height, string name)
    {
        var text = Encoding.UTF8.GetBytes(name);
        U16(width);
        U16(height);
        PixelFormat.Usual.Write(bytes.GetSpan(PixelFormat.Length));
        bytes.Advance(PixelFormat.Length);
        U32((uint)text.Length);
        bytes.Write(text);
    }

    /// <summary>Begins an update; rectangles follow, and then <see cref="EndUpdate"/>.</summary>
    public void BeginUpdate()
    {
        U8(RfbMessage.Update);
        U8(0);
        countAt = bytes.WrittenCount;
        count = 0;
        U16(0);
    }

    public void Rect(ScreenRect part, int encoding)
    {
        count++;
        U16(part.X);
        U16(part.Y);
        U16(part.Width);
        U16(part.Height);
        U32((uint)encoding);
    }

    public void EndUpdate()
    {
        // What was handed out before is no longer written to, so this one number is put in its place there.
        var all = System.Runtime.InteropServices.MemoryMarshal.AsMemory(bytes.WrittenMemory);
        BinaryPrimitives.WriteUInt16BigEndian(all.Span[countAt..], (ushort)count);
        countAt = -1;
    }

    /// <summary>Rectangles of the update that was begun last.</summary>
    public int Rects => count;

    /// <summary>Takes back an update that has no rectangle.</summary>
    public void DropEmpty()
    {
        var kept = bytes.WrittenSpan[..^UpdateHeader].ToArray();
        bytes.ResetWrittenCount();
        bytes.Write(kept);
    }

    /// <summary>A part that lies elsewhere on the viewer's screen already (7.7.2).</summary>
    public void CopyRect(ScreenRect to, int fromX, int fromY)
    {
        Rect(to, RfbEncoding.CopyRect);
        U16(fromX);
        U16(fromY);
    }

    /// <summary>The pointer's picture and the bits of it that show (7.8.1).</summary>
    /// <param name="pixels">0xAARRGGBB for each.</param>
    public void Cursor(ScreenCursor cursor, PixelFormat format)
    {
        Rect(new ScreenRect(cursor.HotX, cursor.HotY, cursor.Width, cursor.Height), RfbEncoding.Cursor);
        foreach (var pixel in cursor.Pixels)
        {
            format.Put(pixel & 0xFFFFFF, bytes.GetSpan(4));
            bytes.Advance(format.BytesPerPixel);
        }
        var row = new byte[(cursor.Width + 7) / 8];
        for (var y = 0; y < cursor.Height; y++)
        {
            row.AsSpan().Clear();
            for (var x = 0; x < cursor.Width; x++)
            {
                if (cursor.Pixels[y * cursor.Width + x] >> 24 >= 128)
                {
                    row[x / 8] |= (byte)(0x80 >> (x % 8));
                }
            }
            bytes.Write(row);
        }
    }

    /// <summary>Where the pointer is.</summary>
    public void PointerPosition(int x, int y) => Rect(new ScreenRect(x, y, 0, 0), RfbEncoding.PointerPosition);

    public void DesktopSize(int width, int height) => Rect(new ScreenRect(0, 0, width, height), RfbEncoding.DesktopSize);

    /// <param name="why">0: the screen changed by itself; 1: this viewer asked; 2: another did.</param>
    /// <param name="status">0: it is so; 1: not allowed; 2: not possible; 3: the monitors do not fit.</param>
    public void ExtendedDesktopSize(int width, int height, int why, int status, IReadOnlyList<RfbScreen> screens)
    {
        Rect(new ScreenRect(why, status, width, height), RfbEncoding.ExtendedDesktopSize);
        U8((byte)screens.Count);
        U8(0);
        U16(0);
        foreach (var screen in screens)
        {
            U32(screen.Id);
            U16(screen.Part.X);
            U16(screen.Part.Y);
            U16(screen.Part.Width);
            U16(screen.Part.Height);
            U32(screen.Flags);
        }
    }

    /// <summary>Says that physical keys are understood.</summary>
    public void ExtendedKeys() => Rect(default, RfbEncoding.QemuExtendedKeyEvent);

    public void Fence(FenceFlags flags, ReadOnlySpan<byte> payload)
    {
        U8(RfbMessage.Fence);
        U8(0);
        U16(0);
        U32((uint)flags);
        U8((byte)payload.Length);
        bytes.Write(payload);
    }

    public void EndOfContinuousUpdates() => U8(RfbMessage.EndOfContinuousUpdates);

    public void Bell() => U8(RfbMessage.Bell);

    /// <summary>The clipboard for viewers that know only the plain protocol (7.6.4).</summary>
    public void CutText(string text)
    {
        var latin = Encoding.Latin1.GetBytes(text);
        U8(RfbMessage.ServerCutText);
        U8(0);
        U16(0);
        U32((uint)latin.Length);
        bytes.Write(latin);
    }

    public void Clipboard(ClipboardMessage message)
    {
        var body = message.Write();
        U8(RfbMessage.ServerCutText);
        U8(0);
        U16(0);
        U32((uint)-body.Length);
        bytes.Write(body);
    }

    public void U8(byte value)
    {
        bytes.GetSpan(1)[0] = value;
        bytes.Advance(1);
    }

    public void U16(int value)
    {
        BinaryPrimitives.WriteUInt16BigEndian(bytes.GetSpan(2), (ushort)value);
        bytes.Advance(2);
    }

    public void U32(uint value)
    {
        BinaryPrimitives.WriteUInt32BigEndian(bytes.GetSpan(4), value);
        bytes.Advance(4);
    }
}

/// <summary>What the pointer looks like.</summary>
/// <param name="HotX">Where in it the point lies, from its left.</param>
/// <param name="Pixels">0xAARRGGBB, row by row.</param>
public sealed record ScreenCursor(int HotX, int HotY, int Width, int Height, uint[] Pixels)
{
    public const int MostSide = 256;

    /// <summary>A pointer that does not show.</summary>
    public static ScreenCursor None { get; } = new(0, 0, 0, 0, []);
}
