using System.Buffers.Binary;
using System.IO.Compression;
using System.IO.Hashing;

namespace Umbrek.Core.Desktop;

/// <summary>Writes a picture as PNG (ISO/IEC 15948): eight bits a colour, rows packed as they differ from the one above.</summary>
public static class PngWriter
{
    private const byte TrueColour = 2;

    /// <summary>Filter type 2: each byte less the one above it.</summary>
    private const byte Up = 2;

    public static void Write(ScreenImage image, Stream to)
    {
        to.Write([0x89, (byte)'P', (byte)'N', (byte)'G', 13, 10, 26, 10]);
        var header = new byte[13];
        BinaryPrimitives.WriteInt32BigEndian(header, image.Width);
        BinaryPrimitives.WriteInt32BigEndian(header.AsSpan(4), image.Height);
        (header[8], header[9]) = (8, TrueColour);
        Chunk(to, "IHDR"u8, header);
        using var packed = new MemoryStream();
        using (var zlib = new ZLibStream(packed, CompressionLevel.Optimal, leaveOpen: true))
        {
            var (row, above) = (new byte[3 * image.Width], new byte[3 * image.Width]);
            var line = new byte[1 + row.Length];
            line[0] = Up;
            for (var y = 0; y < image.Height; y++)
            {
                var at = 0;
                foreach (var pixel in image.Row(y))
                {
                    (row[at], row[at + 1], row[at + 2]) = ((byte)(pixel >> 16), (byte)(pixel >> 8), (byte)pixel);
                    at += 3;
                }
                for (var i = 0; i < row.Length; i++)
                {
                    line[1 + i] = (byte)(row[i] - above[i]);
                }
                zlib.Write(line);
                (row, above) = (above, row);
            }
        }
        Chunk(to, "IDAT"u8, packed.GetBuffer().AsSpan(0, (int)packed.Length));
        Chunk(to, "IEND"u8, []);
    }

    private static void Chunk(Stream to, ReadOnlySpan<byte> kind, ReadOnlySpan<byte> data)
    {
        Span<byte> word = stackalloc byte[4];
        BinaryPrimitives.WriteInt32BigEndian(word, data.Length);
        to.Write(word);
        to.Write(kind);
        to.Write(data);
        var sum = new Crc32();
        sum.Append(kind);
        sum.Append(data);
        BinaryPrimitives.WriteUInt32BigEndian(word, sum.GetCurrentHashAsUInt32());
        to.Write(word);
    }
}
