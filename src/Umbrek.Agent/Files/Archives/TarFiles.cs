using System.Formats.Tar;
using Umbrek.Core.Files;

namespace Umbrek.Agent.Files.Archives;

/// <summary>Tar in any of its kinds, as POSIX.1-2017 (pax) and its forebears have it.</summary>
public sealed class TarFileReader(Stream from) : IArchiveReader
{
    private readonly TarReader tar = new(from);

    public (long Entries, long Bytes)? Said => null;

    public ArchiveItem? Next()
    {
        if (tar.GetNextEntry() is not { } entry)
        {
            return null;
        }
        var kind = entry.EntryType switch
        {
            TarEntryType.RegularFile or TarEntryType.V7RegularFile or TarEntryType.ContiguousFile or TarEntryType.HardLink => FileKind.File,
            TarEntryType.Directory or TarEntryType.DirectoryList => FileKind.Folder,
            TarEntryType.SymbolicLink => FileKind.Link,
            _ => (FileKind?)null,
        };
        var twin = entry.EntryType == TarEntryType.HardLink ? entry.LinkName : null;
        return new ArchiveItem(entry.Name, kind, kind == FileKind.File ? entry.Length : 0, (int)entry.Mode & 0x1ff, entry.ModificationTime, kind == FileKind.Link ? entry.LinkName : null, twin, () => entry.DataStream ?? Stream.Null);
    }

    public void Dispose()
    {
        tar.Dispose();
        from.Dispose();
    }
}

public sealed class TarFileWriter(Stream to) : IArchiveWriter
{
    private readonly TarWriter tar = new(to, TarEntryFormat.Pax, leaveOpen: true);

    public void AddFolder(string name, FileEntry entry) => tar.WriteEntry(New(TarEntryType.Directory, name + "/", entry));

    public void AddLink(string name, FileEntry entry, string target)
    {
        var link = New(TarEntryType.SymbolicLink, name, entry, target);
        link.LinkName = target;
        tar.WriteEntry(link);
    }

    public void AddFile(string name, FileEntry entry, Stream content)
    {
        var file = New(TarEntryType.RegularFile, name, entry);
        file.DataStream = content;
        tar.WriteEntry(file);
    }

    public void Dispose()
    {
        tar.Dispose();
        // What is packed further is whole when it is closed; what it goes into is another's to close.
        to.Dispose();
    }

    /// <summary>As pax has it; where a line ends in a name, as GNU tar does: not every program reads on behind one in a pax record.</summary>
    private static PosixTarEntry New(TarEntryType type, string name, FileEntry entry, string target = "")
    {
        PosixTarEntry added = name.Contains('\n', StringComparison.Ordinal) || target.Contains('\n', StringComparison.Ordinal) ? new GnuTarEntry(type, name) : new PaxTarEntry(type, name);
        added.Mode = (UnixFileMode)(entry.Mode & 0x1ff);
        added.ModificationTime = entry.ChangedAt < DateTimeOffset.UnixEpoch ? DateTimeOffset.UnixEpoch : entry.ChangedAt;
        (added.UserName, added.GroupName) = (entry.Owner, entry.Group);
        return added;
    }
}
