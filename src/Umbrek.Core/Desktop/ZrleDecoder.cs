using System.IO.Compression;

namespace Umbrek.Core.Desktop;

/// <summary>Reads what <see cref="ZrleEncoder"/> writes, or anybody else who keeps to RFC 6143, 7.7.6.</summary>
public sealed class ZrleDecoder : IDisposable
{
    private readonly Feed feed = new();
    private readonly ZLibStream zlib;
    private readonly byte[] palette = new byte[ZrleEncoder.MostPalette * 4];
    private readonly uint[] colours = new uint[ZrleEncoder.MostPalette];
    private readonly uint[] tile = new uint[ZrleEncoder.TileSide * ZrleEncoder.TileSide];
    private readonly byte[] plain = new byte[32 * 1024];
    private int at;
    private int end;

    public ZrleDecoder() => zlib = new ZLibStream(feed, CompressionMode.Decompress);

    /// <summary>Draws one rectangle of what was sent.</summary>
    /// <param name="packed">All of it.</param>
    /// <exception cref="RfbException">It is not what the rectangle takes.</exception>
    public void Read(ReadOnlyMemory<byte> packed, ScreenImage into, ScreenRect part, PixelFormat format)
    {
        feed.Next = packed;
        for (var y = part.Y; y < part.Bottom; y += ZrleEncoder.TileSide)
        {
            for (var x = part.X; x < part.Right; x += ZrleEncoder.TileSide)
            {
                Tile(into, new ScreenRect(x, y, Math.Min(ZrleEncoder.TileSide, part.Right - x), Math.Min(ZrleEncoder.TileSide, part.Bottom - y)), format);
            }
        }
        // What is left in the stream are the marks of its flush, of which nothing comes out.
        if (at < end || Fill())
        {
            throw new RfbException("a rectangle brings more than it is large");
        }
    }

    public void Dispose()
    {
        zlib.Dispose();
        feed.Dispose();
    }

    private void Tile(ScreenImage into, ScreenRect part, PixelFormat format)
    {
        var pixels = tile.AsSpan(0, part.Width * part.Height);
        var kind = Byte();
        switch (kind)
        {
            case 0:
                foreach (ref var pixel in pixels)
                {
                    pixel = Pixel(format);
                }
                break;
            case 1:
                pixels.Fill(Pixel(format));
                break;
            case <= 16:
                ReadPalette(kind, format);
                Packed(pixels, part, kind);
                break;
            case 128:
                for (var i = 0; i < pixels.Length;)
                {
                    var pixel = Pixel(format);
                    i = Run(pixels, i, pixel);
                }
                break;
            case >= 130:
                ReadPalette(kind - 128, format);
                for (var i = 0; i < pixels.Length;)
                {
                    var index = Byte();
                    var pixel = Colour(index & 127, kind - 128);
                    if (index < 128)
                    {
                        pixels[i++] = pixel;
                    }
                    else
                    {
                        i = Run(pixels, i, pixel);
                    }
                }
                break;
            default:
                throw new RfbException($"a tile is of kind {kind}, which there is none of");
        }
        for (var y = 0; y < part.Height; y++)
        {
            pixels.Slice(y * part.Width, part.Width).CopyTo(into.Row(part, part.Y + y));
        }
    }

    private void Packed(Span<uint> pixels, ScreenRect part, int count)
    {
        var bits = count <= 2 ? 1 : count <= 4 ? 2 : 4;
        var mask = (1 << bits) - 1;
        for (var y = 0; y < part.Height; y++)
        {
            var (value, left) = (0, 0);
            foreach (ref var pixel in pixels.Slice(y * part.Width, part.Width))
            {
                if (left == 0)
                {
                    (value, left) = (Byte(), 8);
                }
                left -= bits;
                pixel = Colour(value >> left & mask, count);
            }
        }
    }

    private int Run(Span<uint> pixels, int start, uint pixel)
    {
        var run = 1;
        int more;
        do
        {
            more = Byte();
            run += more;
            if (run > pixels.Length - start)
            {
                throw new RfbException("a run is longer than its tile");
            }
        }
        while (more == 255);
        pixels.Slice(start, run).Fill(pixel);
        return start + run;
    }

    private uint Colour(int index, int count) => index < count ? colours[index] : throw new RfbException("a tile names a colour that it has not brought");

    private void ReadPalette(int count, PixelFormat format)
    {
        for (var i = 0; i < count; i++)
        {
            colours[i] = Pixel(format);
        }
    }

    private uint Pixel(PixelFormat format)
    {
        var size = format.CompactLength;
        if (end - at >= size)
        {
            var pixel = format.GetCompact(plain.AsSpan(at));
            at += size;
            return pixel;
        }
        for (var i = 0; i < size; i++)
        {
            palette[i] = Byte();
        }
        return format.GetCompact(palette);
    }

    private byte Byte() => at < end || Fill() ? plain[at++] : throw new RfbException("a rectangle ends before it is whole");

    private bool Fill()
    {
        try
        {
            (at, end) = (0, zlib.Read(plain, 0, plain.Length));
        }
        catch (InvalidDataException)
        {
            throw new RfbException("a rectangle can't be unpacked");
        }
        return end > 0;
    }

    /// <summary>One piece of a stream after the other; between two of them it is at its end for the moment.</summary>
    private sealed class Feed : Stream
    {
        public ReadOnlyMemory<byte> Next { get; set; }

        public override bool CanRead => true;
        public override bool CanSeek => false;
        public override bool CanWrite => false;
        public override long Length => throw new NotSupportedException();
        public override long Position { get => throw new NotSupportedException(); set => throw new NotSupportedException(); }

        public override int Read(byte[] buffer, int offset, int count) => Read(buffer.AsSpan(offset, count));

        public override int Read(Span<byte> buffer)
        {
            var count = Math.Min(buffer.Length, Next.Length);
            Next.Span[..count].CopyTo(buffer);
            Next = Next[count..];
            return count;
        }

        public override void Flush()
        {
        }

        public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

        public override void SetLength(long value) => throw new NotSupportedException();

        public override void Write(byte[] buffer, int offset, int count) => throw new NotSupportedException();
    }
}
