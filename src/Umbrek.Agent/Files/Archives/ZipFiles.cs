using System.Buffers.Binary;
using System.IO.Compression;
using System.Text;
using Umbrek.Core.Files;

namespace Umbrek.Agent.Files.Archives;

/// <summary>ZIP (APPNOTE 6.3). Modes and links are kept as Unix programs do, in the upper half of the external attributes.</summary>
public sealed class ZipReader : IArchiveReader
{
    private const int TypeMask = 0xf000;
    private const int LinkType = 0xa000;
    private const int MostLinkBytes = 4096;

    /// <summary>All of it is read into memory.</summary>
    private const long MostDirectoryBytes = 256 << 20;

    private readonly ZipArchive zip;
    private int at;

    public ZipReader(Stream from)
    {
        var (entries, bytes) = ReadEnd(from);
        if (entries > UnpackLimit.MostEntries || bytes > MostDirectoryBytes)
        {
            throw new InvalidDataException($"It says that it holds {entries} files, more than the {UnpackLimit.MostEntries} that are unpacked at once.");
        }
        from.Position = 0;
        zip = new ZipArchive(from, ZipArchiveMode.Read, leaveOpen: true);
    }

    public (long Entries, long Bytes)? Said
    {
        get
        {
            var bytes = 0L;
            foreach (var entry in zip.Entries)
            {
                bytes = entry.Length < 0 || bytes > long.MaxValue - entry.Length ? long.MaxValue : bytes + entry.Length;
            }
            return (zip.Entries.Count, bytes);
        }
    }

    public ArchiveItem? Next()
    {
        if (at >= zip.Entries.Count)
        {
            return null;
        }
        var entry = zip.Entries[at++];
        var unix = entry.ExternalAttributes >> 16 & 0xffff;
        var mode = unix == 0 ? (int?)null : unix & 0x1ff;
        if (entry.IsEncrypted)
        {
            return new ArchiveItem(entry.FullName, null, entry.Length, mode, entry.LastWriteTime, null, null, null);
        }
        if (entry.FullName.EndsWith('/'))
        {
            return new ArchiveItem(entry.FullName, FileKind.Folder, 0, mode, entry.LastWriteTime, null, null, null);
        }
        return (unix & TypeMask) == LinkType
            ? new ArchiveItem(entry.FullName, FileKind.Link, 0, null, entry.LastWriteTime, ReadTarget(entry), null, null)
            : new ArchiveItem(entry.FullName, FileKind.File, entry.Length, mode, entry.LastWriteTime, null, null, () => new CheckedStream(entry.Open(), entry.Crc32));
    }

    public void Dispose() => zip.Dispose();

    private static string ReadTarget(ZipArchiveEntry entry)
    {
        if (entry.Length > MostLinkBytes)
        {
            throw new InvalidDataException($"The link '{entry.FullName}' in it is longer than any may be.");
        }
        using var from = new StreamReader(entry.Open(), Encoding.UTF8);
        return from.ReadToEnd();
    }

    /// <summary>The end of the central directory (4.3.16), and of a large one (4.3.14): how many entries it says, and how long the directory is.</summary>
    private static (long Entries, long Bytes) ReadEnd(Stream from)
    {
        const int end = 22;
        const int mostComment = 0xffff;
        const int locator = 20;
        var tail = new byte[(int)Math.Min(from.Length, end + mostComment + locator)];
        from.Position = from.Length - tail.Length;
        from.ReadExactly(tail);
        for (var i = tail.Length - end; i >= 0; i--)
        {
            if (BinaryPrimitives.ReadUInt32LittleEndian(tail.AsSpan(i)) == 0x06054b50)
            {
                var (entries, bytes) = (BinaryPrimitives.ReadUInt16LittleEndian(tail.AsSpan(i + 10)), BinaryPrimitives.ReadUInt32LittleEndian(tail.AsSpan(i + 12)));
                if ((entries != ushort.MaxValue && bytes != uint.MaxValue) || i < locator || BinaryPrimitives.ReadUInt32LittleEndian(tail.AsSpan(i - locator)) != 0x07064b50)
                {
                    return (entries, bytes);
                }
                var large = new byte[56];
                var place = BinaryPrimitives.ReadInt64LittleEndian(tail.AsSpan(i - locator + 8));
                if (place < 0 || place > from.Length - large.Length)
                {
                    break;
                }
                from.Position = place;
                from.ReadExactly(large);
                return (BinaryPrimitives.ReadInt64LittleEndian(large.AsSpan(32)), BinaryPrimitives.ReadInt64LittleEndian(large.AsSpan(40)));
            }
        }
        throw new InvalidDataException("It is no ZIP archive, or its end is missing.");
    }

    /// <summary>A content that is compared with its CRC-32 (4.4.7) at its end.</summary>
    private sealed class CheckedStream(Stream inner, uint expected) : ReadingStream
    {
        private static readonly uint[] Table = MakeTable();
        private uint sum = uint.MaxValue;

        public override int Read(Span<byte> buffer)
        {
            var got = inner.Read(buffer);
            foreach (var b in buffer[..got])
            {
                sum = Table[(sum ^ b) & 0xff] ^ sum >> 8;
            }
            return got > 0 || buffer.IsEmpty || ~sum == expected ? got : throw new InvalidDataException("is damaged in the archive");
        }

        protected override void Dispose(bool disposing)
        {
            if (disposing)
            {
                inner.Dispose();
            }
            base.Dispose(disposing);
        }

        private static uint[] MakeTable()
        {
            var table = new uint[256];
            for (var i = 0u; i < table.Length; i++)
            {
                var value = i;
                for (var bit = 0; bit < 8; bit++)
                {
                    value = (value & 1) != 0 ? 0xedb88320 ^ value >> 1 : value >> 1;
                }
                table[i] = value;
            }
            return table;
        }
    }
}

public sealed class ZipWriter(Stream to) : IArchiveWriter
{
    private const int LinkType = 0xa000;
    private const int FileType = 0x8000;
    private const int FolderType = 0x4000;
    private const int FolderAttribute = 0x10;

    private readonly ZipArchive zip = new(to, ZipArchiveMode.Create, leaveOpen: true);

    public void AddFolder(string name, FileEntry entry) => Add($"{name}/", entry, FolderType | entry.Mode & 0x1ff, CompressionLevel.NoCompression).ExternalAttributes |= FolderAttribute;

    public void AddLink(string name, FileEntry entry, string target)
    {
        using var into = Add(name, entry, LinkType | 0x1ff, CompressionLevel.NoCompression).Open();
        into.Write(Encoding.UTF8.GetBytes(target));
    }

    public void AddFile(string name, FileEntry entry, Stream content)
    {
        using var into = Add(name, entry, FileType | entry.Mode & 0x1ff, CompressionLevel.Fastest).Open();
        content.CopyTo(into, 256 * 1024);
    }

    public void Dispose() => zip.Dispose();

    private ZipArchiveEntry Add(string name, FileEntry entry, int unix, CompressionLevel level)
    {
        var added = zip.CreateEntry(name, level);
        // What ZIP can't say of times is left at its bounds.
        added.LastWriteTime = entry.ChangedAt.Year is >= 1980 and <= 2107 ? entry.ChangedAt.UtcDateTime : new DateTime(1980, 1, 1, 0, 0, 0, DateTimeKind.Utc);
        added.ExternalAttributes = unix << 16;
        return added;
    }
}
