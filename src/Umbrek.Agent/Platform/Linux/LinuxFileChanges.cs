using Microsoft.Win32.SafeHandles;
using Umbrek.Agent.Files;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Changes files of a Linux host: each by the folder that it lies in, which is opened once.</summary>
/// <param name="roots">Folders that technicians are let into; null for everywhere.</param>
public sealed class LinuxFileChanges(StateDirectory state, PartLedger ledger, TimeProvider time, IReadOnlyList<string>? roots = null) : IFileChanges
{
    private const uint FolderMode = 0x1ed;

    /// <summary>Folders within each other that are gone into: each is a descriptor.</summary>
    private const int Deepest = 256;

    private readonly LinuxPlaces places = new(roots);
    private readonly LinuxEntries entries = new();
    private readonly LinuxTrash trash = new(state, new LinuxEntries(), time);

    public void MakeFolder(FileName path)
    {
        var (folder, name) = places.OpenFolderOf(path);
        using (folder)
        {
            var error = NativeFiles.MakeFolder(folder, name, FolderMode);
            if (error == NativeFiles.IsThere && entries.Find(folder, name) is { Kind: FileKind.Folder } or { TargetKind: FileKind.Folder })
            {
                return;
            }
            Check(path, error, "made");
            using var made = NativeFiles.Open(folder, name, NativeFiles.DirectoryOnly | NativeFiles.NotALink).Handle;
            if (made is not null)
            {
                LinuxOwner.Inherit(made, folder);
                // Whatever the agent was started with takes something away.
                _ = NativeFiles.SetMode(made, FolderMode | ((uint)NativeFiles.LookAt(made).Stat.Mode & 0x400));
            }
        }
    }

    public void MakeLink(FileName path, FileName target)
    {
        var (folder, name) = places.OpenFolderOf(path);
        using (folder)
        {
            var error = NativeFiles.MakeLink(folder, name, target.ToBytes());
            if (error == NativeFiles.IsThere && entries.Find(folder, name)?.Target == target)
            {
                return;
            }
            Check(path, error, "made");
            using var made = NativeFiles.Open(folder, name, NativeFiles.NameOnly | NativeFiles.NotALink).Handle;
            if (made is not null)
            {
                LinuxOwner.Inherit(made, folder);
            }
        }
    }

    public void Move(FileName from, FileName to)
    {
        var (folder, name) = places.OpenFolderOf(from);
        using (folder)
        {
            var (toFolder, toName) = places.OpenFolderOf(to);
            using (toFolder)
            {
                switch (NativeFiles.Rename(folder, name, toFolder, toName, NativeFiles.NoReplace))
                {
                    case 0:
                        return;
                    case NativeFiles.OtherFileSystem:
                        throw new IOException($"{to} lies on another file system than {from}; nothing is moved from one to another. Copy it by hand, or fetch it and send it there.");
                    case NativeFiles.NotPossible:
                        throw new IOException($"{from} can't be moved into itself.");
                    case NativeFiles.IsThere:
                        throw new IOException($"There is a {to} already; it is left as it is, and so is {from}.");
                    case var error:
                        throw places.Trouble(from, error, "moved");
                }
            }
        }
    }

    public TrashItem Delete(FileName path)
    {
        var (folder, name) = places.OpenFolderOf(path);
        using (folder)
        {
            var entry = entries.Find(folder, name) ?? throw places.Trouble(path, NativeFiles.NotThere);
            var (item, error) = trash.Take(folder, name, LinuxPlaces.PlaceOf(folder, path.Folder()).In(path.Last()), entry);
            return error == NativeFiles.OtherFileSystem
                ? throw new IOException($"{path} can't be moved to the trash, for it lies in a layer of a file system that does not move. Delete it for good instead.")
                : item ?? throw places.Trouble(path, error, "deleted");
        }
    }

    public IEnumerable<FileFound> Erase(FileName path)
    {
        var (folder, name) = places.OpenFolderOf(path);
        using (folder)
        {
            if (entries.Find(folder, name) is not { } entry)
            {
                throw places.Trouble(path, NativeFiles.NotThere);
            }
            foreach (var gone in Erase(folder, name, path, entry, null, 0))
            {
                yield return gone;
            }
        }
    }

    public IEnumerable<TrashItem> Trash() => trash.List().Where(MayBeSeen);

    public FileName Restore(string id)
    {
        var (bin, called, item) = Open(id);
        using (bin)
        {
            var (folder, name) = places.OpenFolderOf(item.Path);
            using (folder)
            {
                Check(item.Path, NativeFiles.Rename(bin.Files, System.Text.Encoding.UTF8.GetBytes(called), folder, name, NativeFiles.NoReplace), "put back");
                bin.RemoveInfo(called);
                return item.Path;
            }
        }
    }

    public IEnumerable<FileFound> Empty(string id)
    {
        var (bin, called, item) = Open(id);
        using (bin)
        {
            var kept = false;
            foreach (var gone in Erase(bin.Files, System.Text.Encoding.UTF8.GetBytes(called), item.Path, item.Entry, null, 0))
            {
                kept |= gone.Problem is not null;
                yield return gone;
            }
            if (!kept)
            {
                bin.RemoveInfo(called);
            }
        }
    }

    public IEnumerable<FileFound> Set(FileSetting setting)
    {
        var (user, group) = (LinuxOwner.UserOf(setting.Owner), LinuxOwner.GroupOf(setting.Group));
        using var handle = places.Open(setting.Path, NativeFiles.NameOnly);
        foreach (var found in Set(handle, setting.Path, setting, user, group, 0))
        {
            yield return found;
        }
    }

    public long PartOf(FilePart part)
    {
        var (folder, place, _) = OpenTarget(part.Path);
        using (folder)
        {
            return NativeFiles.LookAt(folder, LinuxFileSink.PartName(place, part.Version)) is { Error: 0 } there && LinuxEntries.KindOf(there.Stat.Mode) == FileKind.File ? there.Stat.Bytes : 0;
        }
    }

    public IFileSink Open(FileWrite write)
    {
        var (folder, place, there) = OpenTarget(write.Path);
        try
        {
            if (there is not null)
            {
                LinuxFileSink.CheckOld(write, there);
            }
            return LinuxFileSink.Open(new SinkPlace(folder, place, places, entries, trash, ledger), write);
        }
        catch
        {
            folder.Dispose();
            throw;
        }
    }

    /// <summary>The folder that a file is written in, where it lies then, and what lies there: a link that is called so already is written through, as editors do.</summary>
    private (SafeFileHandle Folder, FileName Place, FileEntry? There) OpenTarget(FileName path)
    {
        var (folder, name) = places.OpenFolderOf(path);
        var there = entries.Find(folder, name);
        if (there is not { Kind: FileKind.Link })
        {
            return (folder, LinuxPlaces.PlaceOf(folder, path.Folder()).In(FileName.Of(name)), there);
        }
        folder.Dispose();
        using var leads = places.Open(path, NativeFiles.NameOnly);
        var place = LinuxPlaces.PlaceOf(leads, path);
        (folder, name) = places.OpenFolderOf(place);
        return (folder, place, entries.Find(folder, name));
    }

    private (LinuxTrash.Bin Bin, string Called, TrashItem Item) Open(string id)
    {
        var found = trash.Open(id);
        if (MayBeSeen(found.Item))
        {
            return found;
        }
        found.Bin.Dispose();
        throw new IOException($"Nothing in the trash of this host is called '{id}'.");
    }

    private bool MayBeSeen(TrashItem item) => places.Roots is null || FileRoots.Find(places.Roots, item.Path) is not null;

    private void Check(FileName path, int error, string deed)
    {
        if (error != 0)
        {
            throw places.Trouble(path, error, deed);
        }
    }

    private IEnumerable<FileFound> Erase(SafeFileHandle folder, byte[] name, FileName path, FileEntry entry, ulong? device, int depth)
    {
        if (entry.Kind == FileKind.Folder)
        {
            var (inner, error) = depth < Deepest ? NativeFiles.Open(folder, name, NativeFiles.DirectoryOnly | NativeFiles.NotALink) : (null, -1);
            using (inner)
            {
                if (inner is null)
                {
                    yield return new FileFound(path, null, error < 0 ? $"{path} is {Deepest} folders deep, the most that are gone into." : places.Trouble(path, error, "deleted").Message);
                    yield break;
                }
                var own = NativeFiles.LookAt(inner).Stat.Device;
                if (device is { } above && above != own)
                {
                    yield return new FileFound(path, null, $"{path} is another file system that is mounted there; it is left alone.");
                    yield break;
                }
                // Read first: what is removed while a folder is read may hide what comes behind it.
                foreach (var below in LinuxEntries.Names(inner).ToList())
                {
                    if (entries.Find(inner, below) is { } found)
                    {
                        foreach (var gone in Erase(inner, below, path.In(found.Name), found, own, depth + 1))
                        {
                            yield return gone;
                        }
                    }
                }
            }
        }
        var problem = NativeFiles.Remove(folder, name, entry.Kind == FileKind.Folder);
        yield return problem == 0 ? new FileFound(path, entry, null) : new FileFound(path, null, places.Trouble(path, problem, "deleted").Message);
    }

    private IEnumerable<FileFound> Set(SafeFileHandle handle, FileName path, FileSetting setting, uint user, uint group, int depth)
    {
        const uint special = 0xe00;
        const uint execution = 0x49;
        var (stat, _) = NativeFiles.LookAt(handle);
        var isFolder = LinuxEntries.KindOf(stat.Mode) == FileKind.Folder;
        // Owner first: setting it takes special modes away.
        var error = user != uint.MaxValue || group != uint.MaxValue ? NativeFiles.SetOwner(handle, user, group) : 0;
        if (error == 0 && setting.Mode is { } mode)
        {
            var kept = isFolder ? stat.Mode & special : 0;
            // A file that nobody may execute stays one that nobody may, with all that lies beside it.
            var wanted = setting.Deep && !isFolder && (stat.Mode & execution) == 0 ? (uint)mode & ~execution : (uint)mode;
            error = NativeFiles.SetMode(handle, kept | wanted);
        }
        if (error == 0 && setting.ChangedAt is { } at && !setting.Deep)
        {
            error = NativeFiles.SetChanged(handle, at);
        }
        yield return error == 0 ? new FileFound(path, entries.ToEntry(path.Last(), NativeFiles.LookAt(handle).Stat), null) : new FileFound(path, null, places.Trouble(path, error, "changed").Message);
        if (!setting.Deep || !isFolder)
        {
            yield break;
        }
        using var folder = NativeFiles.Open(null, NativeFiles.ByNumber(handle), NativeFiles.DirectoryOnly).Handle;
        if (folder is null || depth >= Deepest)
        {
            yield return new FileFound(path, null, folder is null ? $"The agent may not read {path}, and leaves what is below it as it is." : $"{path} is {Deepest} folders deep, the most that are gone into.");
            yield break;
        }
        foreach (var name in LinuxEntries.Names(folder))
        {
            var (below, _) = NativeFiles.Open(folder, name, NativeFiles.NameOnly | NativeFiles.NotALink);
            using (below)
            {
                if (below is null || LinuxEntries.KindOf(NativeFiles.LookAt(below).Stat.Mode) == FileKind.Link)
                {
                    continue;
                }
                foreach (var found in Set(below, path.In(FileName.Of(name)), setting, user, group, depth + 1))
                {
                    yield return found;
                }
            }
        }
    }
}
