using System.Buffers.Binary;
using System.Globalization;
using Microsoft.Win32.SafeHandles;
using Umbrek.Core.Files;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>What folders hold, as the system says it.</summary>
internal sealed class LinuxEntries
{
    private const int EntriesBytes = 64 * 1024;

    private readonly Dictionary<uint, string> users = [];
    private readonly Dictionary<uint, string> groups = [];

    /// <summary>The names in a folder, without itself and the one above.</summary>
    public static IEnumerable<byte[]> Names(SafeFileHandle folder)
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

    public FileEntry? Find(SafeFileHandle folder, byte[] name)
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

    public FileEntry ToEntry(FileName name, NativeFiles.Stat stat)
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

    public static FileKind KindOf(ushort mode) => (mode & 0xF000) switch
    {
        0x8000 => FileKind.File,
        0x4000 => FileKind.Folder,
        0xA000 => FileKind.Link,
        0x1000 => FileKind.Pipe,
        0xC000 => FileKind.Socket,
        _ => FileKind.Device,
    };

    public static string Words(FileKind kind) => kind switch
    {
        FileKind.Folder => "a folder",
        FileKind.Pipe => "a pipe",
        FileKind.Socket => "a socket",
        FileKind.Device => "a device",
        _ => "a link",
    };
}
