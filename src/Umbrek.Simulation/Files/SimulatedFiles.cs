using System.Text;
using Umbrek.Agent.Files;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Simulation.Files;

/// <summary>Lets technicians to the files of a made-up computer, within the folders that they are let into.</summary>
public sealed class SimulatedFiles(SimulatedDisk disk, IReadOnlyList<string>? roots) : IHostFiles, IFileChanges
{
    public FileEntry Look(FileName path)
    {
        lock (disk.Guard)
        {
            return Find(path).Entry with { Name = path.Last() };
        }
    }

    FileEntry? IHostFiles.Find(FileName path)
    {
        lock (disk.Guard)
        {
            var folder = Follow(path.Folder()).TrimEnd('/');
            if (!path.Last().IsPlainName())
            {
                return Look(path);
            }
            CheckRoots(path, $"{folder}/{path.Last().Text}");
            return disk.All.TryGetValue($"{folder}/{path.Last().Text}", out var found) ? found.Entry with { Name = path.Last() } : null;
        }
    }

    /// <summary>What is put on a made-up disk is kept in memory.</summary>
    public long Room(FileName folder) => 1L << 30;

    public IEnumerable<FileEntry> List(FileName path)
    {
        lock (disk.Guard)
        {
            if (IsTop(path))
            {
                return [.. roots!.Where(disk.All.ContainsKey).Select(r => disk.All[r].Entry with { Name = new FileName(r.TrimStart('/')) })];
            }
            var folder = FolderOf(path);
            return [.. Below(folder).Where(e => !e.Key[folder.Length..].Contains('/', StringComparison.Ordinal)).Select(e => e.Value.Entry)];
        }
    }

    public IEnumerable<FileFound> Walk(FileName path)
    {
        lock (disk.Guard)
        {
            if (IsTop(path))
            {
                return [.. List(path).SelectMany(top => Walk(path.In(top.Name)).Select(f => f with { Name = top.Name.In(f.Name), Entry = f.Entry! with { Name = top.Name.In(f.Name) } }).Prepend(new FileFound(top.Name, top, null)))];
            }
            var folder = FolderOf(path);
            return [.. Below(folder).Select(e => (Name: new FileName(e.Key[folder.Length..]), e.Value.Entry)).Select(e => new FileFound(e.Name, e.Entry with { Name = e.Name }, null))];
        }
    }

    public FileName PlaceOf(FileName path)
    {
        lock (disk.Guard)
        {
            return path.Bytes is null ? new FileName(Follow(path)) : path;
        }
    }

    public void GiveWay()
    {
        // A made-up computer has nothing else to do.
    }

    public IFileSource Open(FileName path)
    {
        lock (disk.Guard)
        {
            return Find(path) is { Entry.Kind: FileKind.File } found
                ? new Source(found.Entry, found.Content(), PlaceOf(path))
                : throw new IOException($"{path} is no file, and has no content to be read to an end.");
        }
    }

    public void MakeFolder(FileName path)
    {
        lock (disk.Guard)
        {
            var at = NameFor(path);
            if (disk.All.TryGetValue(at, out var found))
            {
                if (found.Entry.Kind != FileKind.Folder)
                {
                    throw new IOException($"There is a {path} already.");
                }
                return;
            }
            disk.All[at] = (new FileEntry(path.Last(), FileKind.Folder, 0, 0x1ed, OwnerAt(at), OwnerAt(at), disk.Now), () => []);
        }
    }

    public void MakeLink(FileName path, FileName target)
    {
        lock (disk.Guard)
        {
            if (disk.All.TryGetValue(NameFor(path), out var there) && there.Entry.Target == target)
            {
                return;
            }
            var at = NewName(path);
            disk.All[at] = (new FileEntry(path.Last(), FileKind.Link, 0, 0x1ff, OwnerAt(at), OwnerAt(at), disk.Now, Target: target), () => []);
        }
    }

    public void Move(FileName from, FileName to)
    {
        lock (disk.Guard)
        {
            var (at, there) = (Existing(from), NewName(to));
            if (there.StartsWith(at + "/", StringComparison.Ordinal))
            {
                throw new IOException($"{from} can't be moved into itself.");
            }
            Put(there, Take(at));
        }
    }

    public TrashItem Delete(FileName path)
    {
        lock (disk.Guard)
        {
            var at = Existing(path);
            var id = $"1:{path.Last().Text}";
            for (var number = 2; disk.Trash.ContainsKey(id); number++)
            {
                id = $"1:{path.Last().Text} ({number})";
            }
            var item = new TrashItem(id, new FileName(at), disk.Now, disk.All[at].Entry);
            disk.Trash[id] = (item, Take(at));
            return item;
        }
    }

    public IEnumerable<FileFound> Erase(FileName path)
    {
        lock (disk.Guard)
        {
            return [.. Take(Existing(path)).Select(t => new FileFound(path, t.Thing.Entry, null))];
        }
    }

    public IEnumerable<TrashItem> Trash()
    {
        lock (disk.Guard)
        {
            return [.. disk.Trash.Values.Select(t => t.Item).Where(MayBeSeen)];
        }
    }

    public FileName Restore(string id)
    {
        lock (disk.Guard)
        {
            var (item, things) = Deleted(id);
            Put(NewName(item.Path), things);
            disk.Trash.Remove(id);
            return item.Path;
        }
    }

    public IEnumerable<FileFound> Empty(string id)
    {
        lock (disk.Guard)
        {
            var (item, things) = Deleted(id);
            disk.Trash.Remove(id);
            return [.. things.Select(t => new FileFound(item.Path, t.Thing.Entry, null))];
        }
    }

    public IEnumerable<FileFound> Set(FileSetting setting)
    {
        lock (disk.Guard)
        {
            _ = Find(setting.Path);
            var at = Follow(setting.Path);
            return [.. disk.All.Keys.Where(k => k == at || (setting.Deep && k.StartsWith(at + "/", StringComparison.Ordinal))).ToList().ConvertAll(key =>
            {
                var (entry, content) = disk.All[key];
                entry = entry with { Mode = setting.Mode ?? entry.Mode, Owner = setting.Owner ?? entry.Owner, Group = setting.Group ?? entry.Group, ChangedAt = setting.ChangedAt ?? entry.ChangedAt };
                disk.All[key] = (entry, content);
                return new FileFound(new FileName(key), entry, null);
            })];
        }
    }

    public long PartOf(FilePart part)
    {
        lock (disk.Guard)
        {
            return disk.Parts.TryGetValue($"{Follow(part.Path)}\n{part.Version}", out var begun) ? begun.Length : 0;
        }
    }

    public IFileSink Open(FileWrite write)
    {
        lock (disk.Guard)
        {
            var at = NameFor(write.Path);
            CheckOld(at, write);
            var key = $"{at}\n{write.Version}";
            // Whoever wrote into it before goes on beside it, and nothing comes of that.
            var part = new MemoryStream();
            part.Write(disk.Parts.TryGetValue(key, out var begun) ? begun.ToArray() : []);
            disk.Parts[key] = part;
            return new Sink(this, write, key, at, part);
        }
    }

    private void CheckOld(string at, FileWrite write)
    {
        if (!disk.All.TryGetValue(at, out var old))
        {
            return;
        }
        if (old.Entry.Kind != FileKind.File)
        {
            throw new IOException($"{write.Path} is no file; none is written in its place.");
        }
        if (write.Expects is { } expected && expected != old.Entry.Version)
        {
            throw new IOException($"{write.Path} was changed by somebody meanwhile; it is left as it is.");
        }
        if (!write.Replaces)
        {
            throw new IOException($"There is a {write.Path} already; it is left as it is.");
        }
    }

    private FileEntry Finish(string key, string at, FileWrite write, MemoryStream part)
    {
        lock (disk.Guard)
        {
            if (disk.Parts.GetValueOrDefault(key) != part)
            {
                throw new IOException($"{write.Path} is being written by another transfer, which came later.");
            }
            CheckOld(at, write);
            FileEntry? old = null;
            if (disk.All.TryGetValue(at, out var there))
            {
                old = there.Entry;
                if (write.KeepsOld)
                {
                    Delete(write.Path);
                }
            }
            var content = part.ToArray();
            disk.Parts.Remove(key);
            var changed = write.ChangedAt ?? disk.Now;
            var entry = new FileEntry(
                new FileName(at).Last(), FileKind.File, content.Length, write.Mode ?? old?.Mode ?? 0x1a4, write.Owner ?? old?.Owner ?? OwnerAt(at), write.Group ?? old?.Group ?? OwnerAt(at), changed, $"{disk.Now.UtcTicks:x}-{content.Length:x}-{changed.UtcTicks:x}");
            disk.All[at] = (entry, () => content);
            return entry;
        }
    }

    private List<(string Path, (FileEntry Entry, Func<byte[]> Content) Thing)> Take(string at)
    {
        var all = disk.All.Where(e => e.Key == at || e.Key.StartsWith(at + "/", StringComparison.Ordinal)).Select(e => (e.Key[at.Length..], e.Value)).ToList();
        all.ForEach(e => disk.All.Remove(at + e.Item1));
        return all;
    }

    private void Put(string at, List<(string Path, (FileEntry Entry, Func<byte[]> Content) Thing)> things)
    {
        foreach (var (below, (entry, content)) in things)
        {
            disk.All[at + below] = (entry with { Name = new FileName(at + below).Last() }, content);
        }
    }

    private (TrashItem Item, List<(string Path, (FileEntry Entry, Func<byte[]> Content) Thing)> Things) Deleted(string id) =>
        disk.Trash.TryGetValue(id, out var found) && MayBeSeen(found.Item) ? found : throw new IOException($"Nothing in the trash of this host is called '{id}'.");

    private bool MayBeSeen(TrashItem item) => roots is null || FileRoots.Find(roots, item.Path) is not null;

    private string OwnerAt(string at) => disk.All.TryGetValue(new FileName(at).Folder().Text, out var folder) ? folder.Entry.Owner : "root";

    private bool IsTop(FileName path) => roots is not null && path.Text.Trim('/').Length == 0;

    private IEnumerable<KeyValuePair<string, (FileEntry Entry, Func<byte[]> Content)>> Below(string folder) =>
        disk.All.Where(e => e.Key.StartsWith(folder, StringComparison.Ordinal) && e.Key.Length > folder.Length);

    /// <summary>The links here lead to a place that is written from the root, or from the folder that they are in.</summary>
    private string Follow(FileName path)
    {
        var whole = Path.GetFullPath("/" + path.Text.Trim('/'));
        foreach (var (link, (entry, _)) in disk.All)
        {
            if (entry.Target is { } target && (whole == link || whole.StartsWith(link + "/", StringComparison.Ordinal)))
            {
                whole = Path.GetFullPath(target.Text, Path.GetDirectoryName(link)!) + whole[link.Length..];
                break;
            }
        }
        return whole;
    }

    private string FolderOf(FileName path) => Find(path).Entry.Kind == FileKind.Folder ? Follow(path).TrimEnd('/') + "/" : throw new IOException($"{path} is no folder, or something on the way to it is none.");

    private (FileEntry Entry, Func<byte[]> Content) Find(FileName path)
    {
        var at = Follow(path);
        if (at == "/")
        {
            return (disk.Root, () => []);
        }
        CheckRoots(path, at);
        return path.Bytes is null && disk.All.TryGetValue(at, out var found) ? found : throw new IOException($"There is no {path} on this host.");
    }

    private void CheckRoots(FileName path, string at)
    {
        if (roots is not null && FileRoots.Find(roots, new FileName(at)) is null)
        {
            throw new IOException($"{path} does not lie in what this host lets technicians into: {FileRoots.Words(roots)}.");
        }
    }

    /// <summary>The name of something in a folder that is there; what it is itself, if anything, is not followed.</summary>
    private string NameFor(FileName path)
    {
        if (!path.Last().IsPlainName() || path.Bytes is not null)
        {
            throw new IOException($"{path} is no name of something in a folder.");
        }
        _ = FolderOf(path.Folder());
        var at = Follow(path.Folder()).TrimEnd('/') + "/" + path.Last().Text;
        CheckRoots(path, at);
        return at;
    }

    private string NewName(FileName path)
    {
        var at = NameFor(path);
        return disk.All.ContainsKey(at) ? throw new IOException($"There is a {path} already; it is left as it is.") : at;
    }

    private string Existing(FileName path)
    {
        var at = NameFor(path);
        return disk.All.ContainsKey(at) ? at : throw new IOException($"There is no {path} on this host.");
    }

    private sealed class Sink(SimulatedFiles files, FileWrite write, string key, string at, MemoryStream part) : IFileSink
    {
        public FileName Place => files.PlaceOf(write.Path);

        public long Length => part.Length;

        public void Cut(long length) => part.SetLength(length);

        public int Read(long from, Span<byte> into)
        {
            part.Position = from;
            return part.Read(into);
        }

        public void Write(long to, ReadOnlyMemory<byte> bytes)
        {
            CheckRoom(to + bytes.Length);
            part.Position = to;
            part.Write(bytes.Span);
        }

        public void Skip(long to)
        {
            CheckRoom(to);
            part.SetLength(to);
        }

        public FileEntry End() => files.Finish(key, at, write, part);

        public void Drop() => files.Forget(key, part);

        public void Dispose()
        {
        }

        private void CheckRoom(long length)
        {
            if (length > MostBytes)
            {
                throw new IOException($"{write.Path} can't be written: there is no space left there.");
            }
        }
    }

    /// <summary>It lies in the memory of the simulation.</summary>
    private const long MostBytes = 64 << 20;

    private void Forget(string key, MemoryStream part)
    {
        lock (disk.Guard)
        {
            if (disk.Parts.GetValueOrDefault(key) == part)
            {
                disk.Parts.Remove(key);
            }
        }
    }

    private sealed class Source(FileEntry entry, byte[] content, FileName place) : IFileSource
    {
        public FileName Place => place;

        public FileEntry Entry => entry;

        public FileEntry Again() => entry;

        public long NextData(long from) => from < content.Length ? from : long.MaxValue;

        public long NextHole(long from) => long.MaxValue;

        public int Read(long from, Span<byte> into)
        {
            var part = content.AsSpan((int)Math.Min(from, content.Length));
            part = part[..Math.Min(part.Length, into.Length)];
            part.CopyTo(into);
            return part.Length;
        }

        public void Dispose()
        {
        }
    }
}
