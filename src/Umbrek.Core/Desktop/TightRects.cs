using System.Buffers;

namespace Umbrek.Core.Desktop;

/// <summary>Packs a part of a picture as JPEG (ITU-T T.81).</summary>
public interface IJpegEncoder
{
    /// <param name="quality">1 to 100.</param>
    /// <param name="halfColour">With colours at half the resolution (4:2:0).</param>
    /// <returns>Good until the next call.</returns>
    ReadOnlySpan<byte> Encode(ScreenImage image, ScreenRect part, int quality, bool halfColour);
}

/// <summary>Unpacks a part of a picture out of JPEG (ITU-T T.81).</summary>
public interface IJpegDecoder
{
    /// <exception cref="RfbException">It is none, or of another size than the part.</exception>
    void Decode(ReadOnlySpan<byte> packed, ScreenImage into, ScreenRect part);
}

/// <summary>The two kinds of rectangles of the Tight encoding that are sent: one colour, and JPEG.</summary>
public static class TightRects
{
    /// <summary>Wider ones there are none.</summary>
    public const int MostWidth = 2048;

    private const byte Fill = 0x80;
    private const byte Jpeg = 0x90;

    /// <summary>A length goes into three bytes of 7, 7 and 8 bits.</summary>
    public const int MostBytes = (1 << 22) - 1;

    public static void WriteFill(uint pixel, PixelFormat format, IBufferWriter<byte> to)
    {
        var span = to.GetSpan(5);
        span[0] = Fill;
        // Where three bytes do, they are red, green and blue, whatever the format's order is.
        if (Compact(format))
        {
            (span[1], span[2], span[3]) = ((byte)(pixel >> 16), (byte)(pixel >> 8), (byte)pixel);
            to.Advance(4);
            return;
        }
        format.Put(pixel, span[1..]);
        to.Advance(1 + format.BytesPerPixel);
    }

    public static void WriteJpeg(ReadOnlySpan<byte> jpeg, IBufferWriter<byte> to)
    {
        var span = to.GetSpan(4 + jpeg.Length);
        span[0] = Jpeg;
        var at = 1;
        span[at++] = (byte)(jpeg.Length & 127 | (jpeg.Length > 127 ? 128 : 0));
        if (jpeg.Length > 127)
        {
            span[at++] = (byte)(jpeg.Length >> 7 & 127 | (jpeg.Length > 16383 ? 128 : 0));
            if (jpeg.Length > 16383)
            {
                span[at++] = (byte)(jpeg.Length >> 14);
            }
        }
        jpeg.CopyTo(span[at..]);
        to.Advance(at + jpeg.Length);
    }

    private static bool Compact(PixelFormat format) => format is { BitsPerPixel: 32, Depth: 24, RedMax: 255, GreenMax: 255, BlueMax: 255 };
}
