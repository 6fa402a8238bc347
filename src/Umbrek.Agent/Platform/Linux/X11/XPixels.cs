using System.Buffers.Binary;
using System.Numerics;
using System.Runtime.InteropServices;
using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>Turns pixels as a server has them into 0x00RRGGBB, and back.</summary>
internal static class XPixels
{
    /// <summary>Bytes of a row of a picture: rows begin at multiples of four.</summary>
    public static int Stride(XVisual visual, int width) => (width * visual.BitsPerPixel / 8 + 3) & ~3;

    /// <exception cref="NotSupportedException">The server shows pixels in a way that is not known here.</exception>
    public static void Check(XVisual visual)
    {
        if (visual.BitsPerPixel is not (16 or 32) || visual.RedMask == 0 || visual.GreenMask == 0 || visual.BlueMask == 0)
        {
            throw new NotSupportedException($"The screen has {visual.Depth} bits a pixel with a table of colours; 16, 24 and 30 bits of true colours can be shown. Set it to 24.");
        }
    }

    public static void Copy(ReadOnlySpan<byte> from, XVisual visual, ScreenImage into, ScreenRect part)
    {
        var stride = Stride(visual, part.Width);
        for (var y = 0; y < part.Height; y++)
        {
            Row(from.Slice(y * stride, part.Width * visual.BitsPerPixel / 8), visual, into.Row(part, part.Y + y));
        }
    }

    /// <summary>Turns a part of a picture into pixels as a server has them.</summary>
    public static void Pack(ScreenImage from, ScreenRect part, XVisual visual, Span<byte> into)
    {
        var (stride, bytes) = (Stride(visual, part.Width), visual.BitsPerPixel / 8);
        for (var y = 0; y < part.Height; y++)
        {
            var row = into.Slice(y * stride, stride);
            var x = 0;
            foreach (var pixel in from.Row(part, part.Y + y))
            {
                var packed = Of(pixel >> 16 & 255, visual.RedMask) | Of(pixel >> 8 & 255, visual.GreenMask) | Of(pixel & 255, visual.BlueMask);
                if (bytes == 2)
                {
                    BinaryPrimitives.WriteUInt16LittleEndian(row[(2 * x++)..], (ushort)packed);
                }
                else
                {
                    BinaryPrimitives.WriteUInt32LittleEndian(row[(4 * x++)..], packed);
                }
            }
        }
    }

    /// <summary>Lays pixels that show more or less over those that are there; their colours come multiplied by how much they show, which is their fourth byte.</summary>
    public static void Blend(ReadOnlySpan<byte> from, ScreenImage into, ScreenRect part)
    {
        var pixels = MemoryMarshal.Cast<byte, uint>(from);
        for (var y = 0; y < part.Height; y++)
        {
            var row = into.Row(part, part.Y + y);
            for (var x = 0; x < row.Length; x++)
            {
                var over = pixels[y * part.Width + x];
                var rest = 255 - (over >> 24);
                var under = row[x];
                row[x] = rest == 0 ? over & 0xFFFFFF : Mix(16) | Mix(8) | Mix(0);

                uint Mix(int shift) => Math.Min(255, (over >> shift & 255) + ((under >> shift & 255) * rest + 127) / 255) << shift;
            }
        }
    }

    /// <summary>Draws a picture into a window, in pieces that a request can hold.</summary>
    public static void Draw(XConnection connection, uint window, uint context, ScreenImage image, int x, int y)
    {
        const byte pixmapZ = 2;
        const int mostInOneRequest = 240_000;
        var visual = connection.Setup.Visual;
        var stride = Stride(visual, image.Width);
        var rows = Math.Max(1, mostInOneRequest / stride);
        for (var from = 0; from < image.Height; from += rows)
        {
            var part = new ScreenRect(0, from, image.Width, Math.Min(rows, image.Height - from));
            var pixels = new byte[stride * part.Height];
            Pack(image, part, visual, pixels);
            connection.Send(new XRequest(72, pixmapZ).U32(window).U32(context).U16(part.Width).U16(part.Height).U16(x).U16(y + from).U8(0).U8(visual.Depth).U16(0).Data(pixels));
        }
    }

    private static uint Of(uint eight, uint mask)
    {
        var shift = BitOperations.TrailingZeroCount(mask);
        return (uint)(((ulong)eight * (mask >> shift) + 127) / 255) << shift;
    }

    private static void Row(ReadOnlySpan<byte> from, XVisual visual, Span<uint> into)
    {
        if (visual is { BitsPerPixel: 32, RedMask: 0xFF0000, GreenMask: 0xFF00, BlueMask: 0xFF })
        {
            // The fourth byte is whatever happened to be there.
            var pixels = MemoryMarshal.Cast<byte, uint>(from);
            var mask = new Vector<uint>(0xFFFFFF);
            var x = 0;
            for (; x <= pixels.Length - Vector<uint>.Count; x += Vector<uint>.Count)
            {
                (new Vector<uint>(pixels[x..]) & mask).CopyTo(into[x..]);
            }
            for (; x < pixels.Length; x++)
            {
                into[x] = pixels[x] & 0xFFFFFF;
            }
            return;
        }
        for (var x = 0; x < into.Length; x++)
        {
            var pixel = visual.BitsPerPixel == 16 ? XReply.U16(from, 2 * x) : XReply.U32(from, 4 * x);
            into[x] = Eight(pixel, visual.RedMask) << 16 | Eight(pixel, visual.GreenMask) << 8 | Eight(pixel, visual.BlueMask);
        }
    }

    private static uint Eight(uint pixel, uint mask)
    {
        var shift = BitOperations.TrailingZeroCount(mask);
        var most = mask >> shift;
        return (uint)((((ulong)(pixel & mask) >> shift) * 255 + most / 2) / most);
    }
}
