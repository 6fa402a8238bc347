using System.Buffers;
using System.Buffers.Binary;
using System.IO.Compression;

namespace Umbrek.Core.Desktop;

/// <summary>ZRLE (RFC 6143, 7.7.6): tiles of 64 x 64 of few colours, in one zlib stream for the whole connection.</summary>
public sealed class ZrleEncoder : IDisposable
{
    internal const int TileSide = 64;
    internal const int MostPalette = 127;

    private readonly MemoryStream packed = new();
    private readonly ZLibStream zlib;
    private readonly uint[] tile = new uint[TileSide * TileSide];
    private readonly Palette palette = new(MostPalette);
    private byte[] plain = new byte[64 * 1024];
    private int length;

    public ZrleEncoder() => zlib = new ZLibStream(packed, CompressionLevel.Fastest, leaveOpen: true);

    /// <summary>Writes a part of a picture: its length and the packed tiles. The rectangle's header is the caller's.</summary>
    public void Write(ScreenImage image, ScreenRect part, PixelFormat format, IBufferWriter<byte> to)
    {
        length = 0;
        for (var y = part.Y; y < part.Bottom; y += TileSide)
        {
            for (var x = part.X; x < part.Right; x += TileSide)
            {
                Tile(image, new ScreenRect(x, y, Math.Min(TileSide, part.Right - x), Math.Min(TileSide, part.Bottom - y)), format);
            }
        }
        zlib.Write(plain, 0, length);
        zlib.Flush();
        var size = (int)packed.Length;
        var into = to.GetSpan(4 + size);
        BinaryPrimitives.WriteUInt32BigEndian(into, (uint)size);
        packed.GetBuffer().AsSpan(0, size).CopyTo(into[4..]);
        to.Advance(4 + size);
        packed.SetLength(0);
    }

    public void Dispose()
    {
        zlib.Dispose();
        packed.Dispose();
    }

    private void Tile(ScreenImage image, ScreenRect part, PixelFormat format)
    {
        var pixels = tile.AsSpan(0, part.Width * part.Height);
        for (var y = 0; y < part.Height; y++)
        {
            image.Row(part, part.Y + y).CopyTo(pixels[(y * part.Width)..]);
        }
        var size = format.CompactLength;
        // Room for the worst: each pixel by itself.
        Room(1 + MostPalette * size + pixels.Length * (size + 1));

        var (runs, singles) = CountRuns(pixels);
        var colours = palette.Colours;
        var plainCost = pixels.Length * size;
        var runCost = runs * (size + 1) + singles * (size + 1);
        if (colours == 1)
        {
            Put(1);
            Pixel(pixels[0], format);
            return;
        }
        var packedCost = int.MaxValue;
        var paletteRunCost = int.MaxValue;
        if (colours is > 1 and <= MostPalette)
        {
            paletteRunCost = colours * size + runs * 2 + singles;
            if (colours <= 16)
            {
                packedCost = colours * size + part.Height * ((part.Width * BitsFor(colours) + 7) / 8);
            }
        }
        if (packedCost <= paletteRunCost && packedCost <= runCost && packedCost <= plainCost)
        {
            Packed(pixels, part, format);
        }
        else if (paletteRunCost <= runCost && paletteRunCost <= plainCost)
        {
            PaletteRuns(pixels, format);
        }
        else if (runCost < plainCost)
        {
            PlainRuns(pixels, format);
        }
        else
        {
            Put(0);
            foreach (var pixel in pixels)
            {
                Pixel(pixel, format);
            }
        }
    }

    /// <summary>Runs of two and more, and single pixels; the palette is filled on the way.</summary>
    private (int Runs, int Singles) CountRuns(ReadOnlySpan<uint> pixels)
    {
        palette.Clear();
        var (runs, singles) = (0, 0);
        for (var i = 0; i < pixels.Length;)
        {
            var pixel = pixels[i];
            var end = RunEnd(pixels, i);
            palette.Add(pixel);
            if (end - i == 1)
            {
                singles++;
            }
            else
            {
                runs++;
            }
            i = end;
        }
        return (runs, singles);
    }

    private static int RunEnd(ReadOnlySpan<uint> pixels, int start)
    {
        var more = pixels[(start + 1)..].IndexOfAnyExcept(pixels[start]);
        return more < 0 ? pixels.Length : start + 1 + more;
    }

    private static int BitsFor(int colours) => colours <= 2 ? 1 : colours <= 4 ? 2 : 4;

    private void Packed(ReadOnlySpan<uint> pixels, ScreenRect part, PixelFormat format)
    {
        Put((byte)palette.Colours);
        WritePalette(format);
        var bits = BitsFor(palette.Colours);
        for (var y = 0; y < part.Height; y++)
        {
            var (value, filled) = (0, 0);
            foreach (var pixel in pixels.Slice(y * part.Width, part.Width))
            {
                value = value << bits | palette.IndexOf(pixel);
                filled += bits;
                if (filled == 8)
                {
                    Put((byte)value);
                    (value, filled) = (0, 0);
                }
            }
            if (filled > 0)
            {
                Put((byte)(value << (8 - filled)));
            }
        }
    }

    private void PaletteRuns(ReadOnlySpan<uint> pixels, PixelFormat format)
    {
        Put((byte)(128 + palette.Colours));
        WritePalette(format);
        for (var i = 0; i < pixels.Length;)
        {
            var end = RunEnd(pixels, i);
            var index = palette.IndexOf(pixels[i]);
            if (end - i == 1)
            {
                Put((byte)index);
            }
            else
            {
                Put((byte)(index | 128));
                RunLength(end - i);
            }
            i = end;
        }
    }

    private void PlainRuns(ReadOnlySpan<uint> pixels, PixelFormat format)
    {
        Put(128);
        for (var i = 0; i < pixels.Length;)
        {
            var end = RunEnd(pixels, i);
            Pixel(pixels[i], format);
            RunLength(end - i);
            i = end;
        }
    }

    private void WritePalette(PixelFormat format)
    {
        for (var i = 0; i < palette.Colours; i++)
        {
            Pixel(palette[i], format);
        }
    }

    private void RunLength(int run)
    {
        run--;
        while (run >= 255)
        {
            Put(255);
            run -= 255;
        }
        Put((byte)run);
    }

    private void Pixel(uint pixel, PixelFormat format)
    {
        format.PutCompact(pixel, plain.AsSpan(length));
        length += format.CompactLength;
    }

    private void Put(byte value) => plain[length++] = value;

    private void Room(int more)
    {
        if (plain.Length - length < more + 8)
        {
            Array.Resize(ref plain, Math.Max(plain.Length * 2, length + more + 8));
        }
    }
}

/// <summary>The colours of a tile, up to a number of them.</summary>
internal sealed class Palette(int most)
{
    private const int Slots = 512;
    private readonly uint[] colours = new uint[most];
    private readonly uint[] keys = new uint[Slots];
    private readonly short[] indices = new short[Slots];

    /// <summary>How many there are; one more than the most where there are too many.</summary>
    public int Colours { get; private set; }

    public uint this[int index] => colours[index];

    public void Clear()
    {
        Colours = 0;
        indices.AsSpan().Fill(-1);
    }

    public void Add(uint colour)
    {
        if (Colours > most)
        {
            return;
        }
        var slot = Find(colour);
        if (indices[slot] >= 0)
        {
            return;
        }
        if (Colours == most)
        {
            Colours++;
            return;
        }
        (keys[slot], indices[slot]) = (colour, (short)Colours);
        colours[Colours++] = colour;
    }

    public int IndexOf(uint colour) => indices[Find(colour)];

    private int Find(uint colour)
    {
        var slot = (int)((colour * 0x9E3779B1u) >> 23);
        while (indices[slot] >= 0 && keys[slot] != colour)
        {
            slot = (slot + 1) & (Slots - 1);
        }
        return slot;
    }
}
