using Umbrek.Core.Files;

namespace Umbrek.Agent.Files;

/// <summary>The files of this host. Everything throws an <see cref="IOException"/> whose message says what is in the way.</summary>
public interface IHostFiles
{
    /// <summary>What is there under a path; a link is followed.</summary>
    FileEntry Look(FileName path);

    /// <summary>What has a name, be it a link; null for nothing.</summary>
    FileEntry? Find(FileName path);

    /// <summary>What a folder holds, in no order.</summary>
    IEnumerable<FileEntry> List(FileName path);

    /// <summary>Everything below a folder by its path from there, each folder before what it holds; links are not followed. What can't be looked at is said in its place.</summary>
    IEnumerable<FileFound> Walk(FileName path);

    /// <summary>From here on the thread that calls gives way to whatever else this host does, with processor and disk.</summary>
    void GiveWay();

    /// <summary>Where a path leads, all links on the way followed; the path itself where there is nothing.</summary>
    FileName PlaceOf(FileName path);

    /// <summary>So many bytes are free where a folder lies.</summary>
    long Room(FileName folder);

    /// <summary>A file to be read. Nothing else can be: a pipe would wait, a device has no end.</summary>
    IFileSource Open(FileName path);
}

/// <param name="Name">The path from the folder that was walked.</param>
/// <param name="Entry">Null where there is a problem.</param>
public readonly record struct FileFound(FileName Name, FileEntry? Entry, string? Problem);

/// <summary>A file that is open to be read.</summary>
public interface IFileSource : IDisposable
{
    /// <summary>Where it lies, whatever links led there.</summary>
    FileName Place { get; }

    /// <summary>What it was when it was opened.</summary>
    FileEntry Entry { get; }

    /// <summary>What it is now.</summary>
    FileEntry Again();

    /// <summary>Where the next bytes are that need not be zero, from a place on; <see cref="long.MaxValue"/> where there are no more.</summary>
    long NextData(long from);

    /// <summary>Where the hole begins that follows the bytes at a place, or the end.</summary>
    long NextHole(long from);

    /// <returns>How many bytes; 0 at the end.</returns>
    int Read(long from, Span<byte> into);
}
