using System.IO.Compression;
using Umbrek.Core.Files;

namespace Umbrek.Agent.Files.Archives;

/// <summary>One thing in an archive.</summary>
/// <param name="Name">As it is written there; whether it is a name at all shows later.</param>
/// <param name="Kind">Null for something that is neither file, folder nor link.</param>
/// <param name="Bytes">How long a file is said to be.</param>
/// <param name="Target">Of a link: where it leads.</param>
/// <param name="Twin">Of a second name of a file that is in the archive before it: the first one.</param>
/// <param name="Open">A file's content.</param>
public sealed record ArchiveItem(string Name, FileKind? Kind, long Bytes, int? Mode, DateTimeOffset? ChangedAt, string? Target, string? Twin, Func<Stream>? Open);

/// <summary>Reads an archive from its beginning to its end. Everything throws an <see cref="InvalidDataException"/> where it is none.</summary>
public interface IArchiveReader : IDisposable
{
    /// <summary>So many files are in it and so long they are together, where that is said before; nulls where it shows at the end.</summary>
    (long Entries, long Bytes)? Said { get; }

    /// <summary>The next one, whose content is read before the one behind it; null at the end.</summary>
    ArchiveItem? Next();
}

/// <summary>Writes an archive; it is whole when it has been disposed of.</summary>
public interface IArchiveWriter : IDisposable
{
    void AddFolder(string name, FileEntry entry);

    void AddLink(string name, FileEntry entry, string target);

    /// <param name="content">Exactly as long as the entry says.</param>
    void AddFile(string name, FileEntry entry, Stream content);
}

/// <summary>The formats: another one is a file beside this and a line here.</summary>
public static class Archive
{
    public static IArchiveReader Read(ArchiveFormat format, Stream from) => format switch
    {
        ArchiveFormat.Zip => new ZipReader(from),
        ArchiveFormat.Tar => new TarFileReader(from),
        _ => new TarFileReader(new GZipStream(from, CompressionMode.Decompress)),
    };

    public static IArchiveWriter Write(ArchiveFormat format, Stream to) => format switch
    {
        ArchiveFormat.Zip => new ZipWriter(to),
        ArchiveFormat.Tar => new TarFileWriter(to),
        _ => new TarFileWriter(new GZipStream(to, CompressionLevel.Fastest)),
    };
}
