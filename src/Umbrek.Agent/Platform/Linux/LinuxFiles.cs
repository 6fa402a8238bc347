using System.Buffers.Binary;
using System.Globalization;
using System.Runtime.InteropServices;
using System.Text;
using Microsoft.Win32.SafeHandles;
using Umbrek.Agent.Files;
using Umbrek.Core.Files;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Files of a Linux host. Below a folder that is open, everything is named by that folder and not by its path: what is renamed meanwhile leads nowhere else.</summary>
public sealed class LinuxFiles : IHostFiles
{
    private const int EntriesBytes = 64 * 1024;

    /// <summary>Folders within each other that are walked: each is a descriptor.</summary>
    private const int Deepest = 256;

    private readonly Dictionary<uint, string> users = [];
    private readonly Dictionary<uint, string> groups = [];

    public FileEntry Look(FileName path)
    {
        var bytes = path.ToBytes();
        var (stat, error) = NativeFiles.LookAt(null, bytes, follow: true);
        return error == 0 ? ToEntry(path.Last(), stat) : throw Trouble(path, error);
    }

    public IEnumerable<FileEntry> List(FileName path)
    {
        using var folder = OpenFolder(null, path);
        foreach (var name in Names(folder))
        {
            // One that has gone since is not there.
            if (Find(folder, name) is { } entry)
            {
                yield return entry;
            }
        }
    }

    public IEnumerable<FileFound> Walk(FileName path)
    {
        using var folder = OpenFolder(null, path);
        foreach (var found in Walk(folder, null, 0))
        {
            yield return found;
        }
    }

    public FileName PlaceOf(FileName path)
    {
        var (handle, _) = NativeFiles.Open(null, path.ToBytes(), NativeFiles.NameOnly);
        using (handle)
        {
            return handle is null ? path : PlaceOf(handle, path);
        }
    }

    public IFileSource Open(FileName path)
    {
        // A pipe is opened without waiting for whoever writes into it, and is closed at once.
        var (handle, error) = NativeFiles.Open(null, path.ToBytes(), NativeFiles.ReadOnly | NativeFiles.NonBlocking);
        if (handle is null)
        {
            throw Trouble(path, error);
        }
        var (stat, _) = NativeFiles.LookAt(handle);
        var entry = ToEntry(path.Last(), stat);
        if (entry.Kind != FileKind.File)
        {
            handle.Dispose();
            throw new IOException($"{path} is {Words(entry.Kind)}, which has no content to be read to an end.");
        }
        return new Source(this, handle, entry, PlaceOf(handle, path));
    }

    /// <summary>By what the kernel calls it (proc_pid_fd(5)).</summary>
    private static FileName PlaceOf(SafeFileHandle handle, FileName path) =>
        NativeFiles.TargetOf(null, Encoding.ASCII.GetBytes($"/proc/self/fd/{handle.DangerousGetHandle()}")) is { } place ? FileName.Of(place) : path;

    private IEnumerable<FileFound> Walk(SafeFileHandle folder, FileName? at, int depth)
    {
        foreach (var name in Names(folder))
        {
            if (Find(folder, name) is not { } entry)
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
                yield return new FileFound(below, null, error < 0 ? $"{below} is {Deepest} folders deep, the most that are walked." : Trouble(below, error).Message);
                continue;
            }
            using (inner)
            {
                foreach (var found in Walk(inner, below, depth + 1))
                {
                    yield return found;
                }
            }
        }
    }

    private static SafeFileHandle OpenFolder(SafeFileHandle? folder, FileName path)
    {
        var (handle, error) = NativeFiles.Open(folder, path.ToBytes(), NativeFiles.DirectoryOnly);
        return handle ?? throw Trouble(path, error);
    }

    /// <summary>The names in a folder, without itself and the one above.</summary>
    private static IEnumerable<byte[]> Names(SafeFileHandle folder)
    {
        var buffer = new byte[EntriesBytes];
        int got;
        while ((got = NativeFiles.ReadEntries(folder, buffer)) > 0)
        {
            // struct linux_dirent64 (getdents(2)): its length at 16, its name at 19, ended by a zero.
            for (var at = 0; at < got;)
            {
                var length = BinaryPrimitives.ReadUInt16LittleEndian(buffer.AsSpan(at + 16));
                var name = buffer.AsSpan(at + 19, length - 19);
                name = name[..name.IndexOf((byte)0)];
                at += length;
                if (!name.SequenceEqual("."u8) && !name.SequenceEqual(".."u8))
                {
                    yield return name.ToArray();
                }
            }
        }
        if (got < 0)
        {
            throw new IOException($"The folder can't be read to its end: {Native.LastError()}.");
        }
    }

    private FileEntry? Find(SafeFileHandle folder, byte[] name)
    {
        var (stat, error) = NativeFiles.LookAt(folder, name);
        if (error != 0)
        {
            return null;
        }
        var entry = ToEntry(FileName.Of(name), stat);
        if (entry.Kind != FileKind.Link || NativeFiles.TargetOf(folder, name) is not { } target)
        {
            return entry;
        }
        var (there, dangling) = NativeFiles.LookAt(folder, name, follow: true);
        return entry with { Target = FileName.Of(target), TargetKind = dangling == 0 ? KindOf(there.Mode) : null };
    }

    private FileEntry ToEntry(FileName name, NativeFiles.Stat stat)
    {
        var kind = KindOf(stat.Mode);
        return new FileEntry(
            name, kind, kind == FileKind.File ? stat.Bytes : 0, stat.Mode & 0xFFF, NameOf(users, stat.User, Native.NameOfUser), NameOf(groups, stat.Group, Native.NameOfGroup),
            DateTimeOffset.FromUnixTimeSeconds(stat.Seconds).AddTicks(stat.Nanoseconds / 100), kind == FileKind.File ? $"{stat.Device:x}-{stat.Inode:x}-{stat.Bytes:x}-{stat.Seconds:x}.{stat.Nanoseconds:x}" : null);
    }

    private static string NameOf(Dictionary<uint, string> known, uint id, Func<uint, string?> find)
    {
        lock (known)
        {
            return known.TryGetValue(id, out var name) ? name : known[id] = find(id) ?? id.ToString(CultureInfo.InvariantCulture);
        }
    }

    private static FileKind KindOf(ushort mode) => (mode & 0xF000) switch
    {
        0x8000 => FileKind.File,
        0x4000 => FileKind.Folder,
        0xA000 => FileKind.Link,
        0x1000 => FileKind.Pipe,
        0xC000 => FileKind.Socket,
        _ => FileKind.Device,
    };

    private static string Words(FileKind kind) => kind switch
    {
        FileKind.Folder => "a folder",
        FileKind.Pipe => "a pipe",
        FileKind.Socket => "a socket",
        FileKind.Device => "a device",
        _ => "a link",
    };

    /// <summary>An error number (errno(3)) as a sentence about a path.</summary>
    private static IOException Trouble(FileName path, int error) => new(error switch
    {
        NativeFiles.NotThere => $"There is no {path} on this host.",
        1 or 13 => $"The agent may not read {path}.",
        6 => $"{path} is a socket or a device without anything behind it, which has no content to be read to an end.",
        20 => $"{path} is no folder, or something on the way to it is none.",
        36 => $"{path} has a name that is longer than this host's file system takes.",
        40 => $"{path} is a link that leads in a circle.",
        _ => $"{path} can't be read: {Marshal.GetPInvokeErrorMessage(error)}.",
    });

    private sealed class Source(LinuxFiles files, SafeFileHandle handle, FileEntry entry, FileName place) : IFileSource
    {
        private const int NoMore = 6;

        public FileName Place => place;

        public FileEntry Entry => entry;

        public FileEntry Again() => NativeFiles.LookAt(handle) is { Error: 0 } now ? files.ToEntry(entry.Name, now.Stat) : throw new IOException($"{entry.Name} can't be looked at any more.");

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
