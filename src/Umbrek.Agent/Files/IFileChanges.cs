using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

/// <summary>Changes the files of this host. Everything throws an <see cref="IOException"/> whose message says what is in the way.</summary>
public interface IFileChanges
{
    /// <summary>Makes a folder; one that is there already is left as it is.</summary>
    void MakeFolder(FileName path);

    /// <summary>Makes a symbolic link; one that leads there already is left as it is.</summary>
    void MakeLink(FileName path, FileName target);

    /// <summary>Gives another name or folder; nothing is overwritten.</summary>
    void Move(FileName from, FileName to);

    /// <summary>Puts something into the trash.</summary>
    TrashItem Delete(FileName path);

    /// <summary>Removes for good, what is below before what holds it. What can't be removed is said in its place, and stays.</summary>
    IEnumerable<FileFound> Erase(FileName path);

    /// <summary>What is in the trash, in no order.</summary>
    IEnumerable<TrashItem> Trash();

    /// <summary>Brings something back out of the trash.</summary>
    /// <returns>Where it lies again.</returns>
    FileName Restore(string id);

    /// <summary>Removes something out of the trash for good.</summary>
    IEnumerable<FileFound> Empty(string id);

    /// <summary>Sets mode, owner and time; one element for each that it was tried at.</summary>
    IEnumerable<FileFound> Set(FileSetting setting);

    /// <summary>How much is there of a file that was being written.</summary>
    long PartOf(FilePart part);

    /// <summary>Opens what a file comes into until it is whole, with as much as is there of it already.</summary>
    IFileSink Open(FileWrite write);
}

/// <summary>A file that is being written, beside its place. Closed without an end, it stays to be gone on from.</summary>
public interface IFileSink : IDisposable
{
    /// <summary>Where it comes to lie, all links on the way followed.</summary>
    FileName Place { get; }

    /// <summary>How much of it is there.</summary>
    long Length { get; }

    /// <summary>What is behind a place is not wanted.</summary>
    void Cut(long length);

    /// <returns>How many bytes; 0 at the end.</returns>
    int Read(long from, Span<byte> into);

    void Write(long at, ReadOnlyMemory<byte> bytes);

    /// <summary>Leaves a hole up to a place.</summary>
    void Skip(long to);

    /// <summary>It is whole, and takes its place.</summary>
    FileEntry End();

    /// <summary>Nothing comes of it, and nothing of it stays; what another transfer goes on with does.</summary>
    void Drop();
}
