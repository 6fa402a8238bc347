using Microsoft.Win32.SafeHandles;
using Umbrek.Agent.Files;
using Umbrek.Core.Files;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Files of a Linux host. Below a folder that is open, everything is named by that folder and not by its path: what is renamed meanwhile leads nowhere else.</summary>
/// <param name="roots">Folders that technicians are let into; null for everywhere.</param>
public sealed class LinuxFiles(IReadOnlyList<string>? roots = null) : IHostFiles
{
    /// <summary>Folders within each other that are walked: each is a descriptor.</summary>
    private const int Deepest = 256;

    private readonly LinuxPlaces places = new(roots);
    private readonly LinuxEntries entries = new();

    public FileEntry Look(FileName path)
    {
        using var handle = places.IsTop(path) ? Root() : places.Open(path, NativeFiles.NameOnly);
        var (stat, error) = NativeFiles.LookAt(handle);
        return error == 0 ? entries.ToEntry(path.Last(), stat) : throw places.Trouble(path, error);
    }

    public FileEntry? Find(FileName path)
    {
        // What a root lies in is not looked into.
        if (!path.Last().IsPlainName() || places.Roots?.Contains(path.Text.TrimEnd('/')) == true)
        {
            return Look(path);
        }
        var (folder, error) = places.TryOpen(path.Folder(), NativeFiles.NameOnly | NativeFiles.DirectoryOnly);
        using (folder)
        {
            return folder is not null ? entries.Find(folder, path.Last().ToBytes())
                : error == NativeFiles.NotThere ? null
                : throw places.Trouble(path, error);
        }
    }

    public long Room(FileName folder) => new DriveInfo(folder.Text).AvailableFreeSpace;

    public IEnumerable<FileEntry> List(FileName path)
    {
        if (places.IsTop(path))
        {
            foreach (var root in Tops())
            {
                yield return root;
            }
            yield break;
        }
        using var folder = places.Open(path, NativeFiles.DirectoryOnly);
        foreach (var name in LinuxEntries.Names(folder))
        {
            // One that has gone since is not there.
            if (entries.Find(folder, name) is { } entry)
            {
                yield return entry;
            }
        }
    }

    public IEnumerable<FileFound> Walk(FileName path)
    {
        if (places.IsTop(path))
        {
            foreach (var root in Tops())
            {
                yield return new FileFound(root.Name, root, null);
                foreach (var found in Walk(path.In(root.Name)))
                {
                    var below = root.Name.In(found.Name);
                    yield return found with { Name = below, Entry = found.Entry is { } entry ? entry with { Name = below } : null };
                }
            }
            yield break;
        }
        using var folder = places.Open(path, NativeFiles.DirectoryOnly);
        foreach (var found in Walk(folder, null, 0, NativeFiles.IsMadeUp(folder)))
        {
            yield return found;
        }
    }

    public FileName PlaceOf(FileName path) => places.PlaceOf(path);

    public void GiveWay() => NativeFiles.GiveWay();

    public IFileSource Open(FileName path)
    {
        // A pipe is opened without waiting for whoever writes into it, and is closed at once.
        var handle = places.Open(path, NativeFiles.ReadOnly | NativeFiles.NonBlocking);
        var (stat, _) = NativeFiles.LookAt(handle);
        var entry = entries.ToEntry(path.Last(), stat);
        if (entry.Kind != FileKind.File)
        {
            handle.Dispose();
            throw new IOException($"{path} is {LinuxEntries.Words(entry.Kind)}, which has no content to be read to an end.");
        }
        return new Source(entries, handle, entry, LinuxPlaces.PlaceOf(handle, path));
    }

    private static SafeFileHandle Root() => NativeFiles.Open(null, "/"u8, NativeFiles.NameOnly).Handle ?? throw new IOException("The root can't be looked at.");

    /// <summary>What the root of all is shown to hold: the folders that technicians are let into, as far as they are there.</summary>
    private IEnumerable<FileEntry> Tops()
    {
        foreach (var root in places.Roots!)
        {
            if (NativeFiles.LookAt(null, new FileName(root).ToBytes(), follow: true) is { Error: 0 } there)
            {
                yield return entries.ToEntry(new FileName(root.TrimStart('/')), there.Stat);
            }
        }
    }

    /// <param name="isMadeUp">It was asked for what the system says of itself.</param>
    private IEnumerable<FileFound> Walk(SafeFileHandle folder, FileName? at, int depth, bool isMadeUp)
    {
        foreach (var name in LinuxEntries.Names(folder))
        {
            if (entries.Find(folder, name) is not { } entry)
            {
                continue;
            }
            var below = at?.In(entry.Name) ?? entry.Name;
            yield return new FileFound(below, entry with { Name = below }, null);
            if (entry.Kind != FileKind.Folder)
            {
                continue;
            }
            var (inner, error) = depth < Deepest ? NativeFiles.Open(folder, name, NativeFiles.DirectoryOnly | NativeFiles.NotALink) : (null, -1);
            if (inner is null)
            {
                yield return new FileFound(below, null, error < 0 ? $"{below} is {Deepest} folders deep, the most that are walked." : places.Trouble(below, error).Message);
                continue;
            }
            using (inner)
            {
                if (!isMadeUp && NativeFiles.IsMadeUp(inner))
                {
                    yield return new FileFound(below, null, $"{below} is what the system says of itself, and is passed over; name it, or a folder in it, to see it.");
                    continue;
                }
                foreach (var found in Walk(inner, below, depth + 1, isMadeUp))
                {
                    yield return found;
                }
            }
        }
    }

    private sealed class Source(LinuxEntries entries, SafeFileHandle handle, FileEntry entry, FileName place) : IFileSource
    {
        private const int NoMore = 6;

        public FileName Place => place;

        public FileEntry Entry => entry;

        public FileEntry Again() => NativeFiles.LookAt(handle) is { Error: 0 } now ? entries.ToEntry(entry.Name, now.Stat) : throw new IOException($"{entry.Name} can't be looked at any more.");

        public long NextData(long from) => NativeFiles.Seek(handle, from, data: true) switch
        {
            { Error: 0 } found => found.At,
            { Error: NoMore } => long.MaxValue,
            // A file system that knows no holes has data everywhere.
            _ => from,
        };

        public long NextHole(long from) => NativeFiles.Seek(handle, from, data: false) is { Error: 0 } found ? found.At : long.MaxValue;

        public int Read(long from, Span<byte> into)
        {
            var got = NativeFiles.Read(handle, from, into);
            return got >= 0 ? got : throw new IOException($"{entry.Name} can't be read on: {Native.LastError()}.");
        }

        public void Dispose() => handle.Dispose();
    }
}
