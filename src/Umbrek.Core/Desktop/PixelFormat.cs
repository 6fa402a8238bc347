using System.Buffers.Binary;

namespace Umbrek.Core.Desktop;

/// <summary>How a pixel is written (RFC 6143, 7.4). Only true colours are.</summary>
public readonly record struct PixelFormat(byte BitsPerPixel, byte Depth, bool BigEndian, ushort RedMax, ushort GreenMax, ushort BlueMax, byte RedShift, byte GreenShift, byte BlueShift)
{
    /// <summary>Bytes of one on the wire.</summary>
    public const int Length = 16;

    /// <summary>As pictures are kept here: 0x00RRGGBB, lowest byte first.</summary>
    public static PixelFormat Usual { get; } = new(32, 24, false, 255, 255, 255, 16, 8, 0);

    public bool IsUsual => this == Usual;

    public int BytesPerPixel => BitsPerPixel / 8;

    /// <summary>Whether a pixel of three bytes holds all of it: where ZRLE and Tight leave the fourth away (RFC 6143, 7.7.5).</summary>
    public bool FitsThree => BitsPerPixel == 32 && Depth <= 24 && (FitsLow || FitsHigh);

    private bool FitsLow => Top(RedMax, RedShift) <= 24 && Top(GreenMax, GreenShift) <= 24 && Top(BlueMax, BlueShift) <= 24;
    private bool FitsHigh => RedShift >= 8 && GreenShift >= 8 && BlueShift >= 8;

    private bool Fits(ushort max, byte shift) => max > 0 && ((max + 1) & max) == 0 && Top(max, shift) <= BitsPerPixel;

    private static int Top(ushort max, byte shift) => shift + 16 - ushort.LeadingZeroCount(max);

    /// <summary>How long a pixel is where <see cref="FitsThree"/> counts.</summary>
    public int CompactLength => FitsThree ? 3 : BytesPerPixel;

    /// <exception cref="RfbException">It is no format that a picture can be written in.</exception>
    public static PixelFormat Read(ReadOnlySpan<byte> data)
    {
        if (data[3] == 0)
        {
            throw new RfbException("the viewer asks for a table of colours; only true colours are sent. Set it to true colours");
        }
        var format = new PixelFormat(
            data[0], data[1], data[2] != 0, BinaryPrimitives.ReadUInt16BigEndian(data[4..]), BinaryPrimitives.ReadUInt16BigEndian(data[6..]), BinaryPrimitives.ReadUInt16BigEndian(data[8..]), data[10], data[11], data[12]);
        return format.BitsPerPixel is 8 or 16 or 32 && format.Fits(format.RedMax, format.RedShift) && format.Fits(format.GreenMax, format.GreenShift) && format.Fits(format.BlueMax, format.BlueShift)
            ? format
            : throw new RfbException($"the viewer asks for pixels of {data[0]} bits that can't be");
    }

    public void Write(Span<byte> to)
    {
        to[..Length].Clear();
        (to[0], to[1], to[2], to[3]) = (BitsPerPixel, Depth, (byte)(BigEndian ? 1 : 0), 1);
        BinaryPrimitives.WriteUInt16BigEndian(to[4..], RedMax);
        BinaryPrimitives.WriteUInt16BigEndian(to[6..], GreenMax);
        BinaryPrimitives.WriteUInt16BigEndian(to[8..], BlueMax);
        (to[10], to[11], to[12]) = (RedShift, GreenShift, BlueShift);
    }

    /// <summary>One pixel, in <see cref="BytesPerPixel"/> bytes.</summary>
    public void Put(uint pixel, Span<byte> to)
    {
        var value = Value(pixel);
        switch (BitsPerPixel)
        {
            case 8: to[0] = (byte)value; break;
            case 16 when BigEndian: BinaryPrimitives.WriteUInt16BigEndian(to, (ushort)value); break;
            case 16: BinaryPrimitives.WriteUInt16LittleEndian(to, (ushort)value); break;
            case 32 when BigEndian: BinaryPrimitives.WriteUInt32BigEndian(to, value); break;
            default: BinaryPrimitives.WriteUInt32LittleEndian(to, value); break;
        }
    }

    /// <summary>One pixel, in <see cref="CompactLength"/> bytes.</summary>
    public void PutCompact(uint pixel, Span<byte> to)
    {
        if (!FitsThree)
        {
            Put(pixel, to);
            return;
        }
        var value = FitsLow ? Value(pixel) : Value(pixel) >> 8;
        (to[0], to[1], to[2]) = BigEndian ? ((byte)(value >> 16), (byte)(value >> 8), (byte)value) : ((byte)value, (byte)(value >> 8), (byte)(value >> 16));
    }

    public uint Get(ReadOnlySpan<byte> from) => Pixel(BitsPerPixel switch
    {
        8 => from[0],
        16 => BigEndian ? BinaryPrimitives.ReadUInt16BigEndian(from) : BinaryPrimitives.ReadUInt16LittleEndian(from),
        _ => BigEndian ? BinaryPrimitives.ReadUInt32BigEndian(from) : BinaryPrimitives.ReadUInt32LittleEndian(from),
    });

    public uint GetCompact(ReadOnlySpan<byte> from)
    {
        if (!FitsThree)
        {
            return Get(from);
        }
        var value = BigEndian ? (uint)(from[0] << 16 | from[1] << 8 | from[2]) : (uint)(from[2] << 16 | from[1] << 8 | from[0]);
        return Pixel(FitsLow ? value : value << 8);
    }

    private uint Value(uint pixel) =>
        IsUsual ? pixel : Scale((pixel >> 16) & 255, RedMax) << RedShift | Scale((pixel >> 8) & 255, GreenMax) << GreenShift | Scale(pixel & 255, BlueMax) << BlueShift;

    private uint Pixel(uint value) =>
        IsUsual ? value & 0xFFFFFF : Back(value >> RedShift & RedMax, RedMax) << 16 | Back(value >> GreenShift & GreenMax, GreenMax) << 8 | Back(value >> BlueShift & BlueMax, BlueMax);

    private static uint Scale(uint eight, uint max) => (eight * max + 127) / 255;

    private static uint Back(uint part, uint max) => (part * 255 + max / 2) / max;
}
