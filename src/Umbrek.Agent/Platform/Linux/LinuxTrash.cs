using System.Globalization;
using System.Runtime.InteropServices;
using System.Text;
using Microsoft.Win32.SafeHandles;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Files;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>
/// What was deleted and can be put back (Desktop Trash specification 1.0): a folder <c>files</c> with the things themselves and a folder
/// <c>info</c> with where they lay. One is the agent's own; on every other file system there is one at its top, for nothing is copied.
/// </summary>
internal sealed class LinuxTrash(StateDirectory state, LinuxEntries entries, TimeProvider time)
{
    private const int MostInfo = 64 * 1024;
    private const uint OwnerOnlyMode = 0x1c0;

    /// <summary>Puts something into the trash of its file system.</summary>
    /// <param name="path">Where it lies, all links followed.</param>
    /// <returns>What it is called there, or the error number.</returns>
    public (TrashItem? Item, int Error) Take(SafeFileHandle folder, byte[] name, FileName path, FileEntry entry)
    {
        var (there, error) = NativeFiles.LookAt(folder, name);
        if (error != 0)
        {
            return (null, error);
        }
        using var bin = OpenFor(there.Device, path.Folder());
        var at = time.GetLocalNow();
        for (var number = 1; ; number++)
        {
            var called = NameIn(path.Last().ToBytes(), number);
            // The information comes first: its name, taken by nobody else, is the thing's (section "Implementation notes").
            if (!bin.TryWriteInfo(called, path, at.DateTime))
            {
                continue;
            }
            var renamed = NativeFiles.Rename(folder, name, bin.Files, Encoding.UTF8.GetBytes(called), NativeFiles.NoReplace);
            if (renamed == 0)
            {
                return (new TrashItem($"{there.Device:x}:{called}", path, at.ToUniversalTime(), entry), 0);
            }
            bin.RemoveInfo(called);
            if (renamed != NativeFiles.IsThere)
            {
                return (null, renamed);
            }
        }
    }

    public IEnumerable<TrashItem> List()
    {
        foreach (var (device, path) in Bins())
        {
            using var bin = Bin.Open(path, make: false);
            foreach (var info in bin is null ? [] : LinuxEntries.Names(bin.Infos))
            {
                if (FileName.Of(info) is { Bytes: null } file && file.Text.EndsWith(Bin.Extension, StringComparison.Ordinal) && Find(bin!, device, file.Text[..^Bin.Extension.Length]) is { } item)
                {
                    yield return item;
                }
            }
        }
    }

    /// <summary>Opens the trash that something is in.</summary>
    public (Bin Bin, string Called, TrashItem Item) Open(string id)
    {
        var colon = id.IndexOf(':', StringComparison.Ordinal);
        if (colon > 0 && ulong.TryParse(id.AsSpan(0, colon), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var device) && new FileName(id[(colon + 1)..]).IsPlainName())
        {
            foreach (var (_, path) in Bins().Where(b => b.Device == device))
            {
                var bin = Bin.Open(path, make: false);
                if (bin is not null && Find(bin, device, id[(colon + 1)..]) is { } item)
                {
                    return (bin, id[(colon + 1)..], item);
                }
                bin?.Dispose();
            }
        }
        throw new IOException($"Nothing in the trash of this host is called '{id}'.");
    }

    private TrashItem? Find(Bin bin, ulong device, string called) =>
        bin.ReadInfo(called) is var (path, at) && entries.Find(bin.Files, Encoding.UTF8.GetBytes(called)) is { } entry ? new TrashItem($"{device:x}:{called}", path, at, entry) : null;

    private Bin OpenFor(ulong device, FileName folder)
    {
        OwnerOnly.CreateDirectory(state.Trash);
        var own = Encoding.UTF8.GetBytes(state.Trash);
        if (NativeFiles.LookAt(null, own) is { Error: 0 } mine && mine.Stat.Device == device)
        {
            return Bin.Open(own, make: true)!;
        }
        // The top of a file system is the last folder on the way up that lies on it.
        var top = folder;
        while (top.Text != "/" && NativeFiles.LookAt(null, top.Folder().ToBytes()) is { Error: 0 } above && above.Stat.Device == device)
        {
            top = top.Folder();
        }
        return Bin.Open(AtTop(top.ToBytes()), make: true) ?? throw new IOException($"There is no trash for {folder}, and none can be made in {top}. Delete it for good instead, or move it.");
    }

    /// <summary>Each trash that there may be, with the number of its file system.</summary>
    private IEnumerable<(ulong Device, byte[] Path)> Bins()
    {
        var own = Encoding.UTF8.GetBytes(state.Trash);
        if (NativeFiles.LookAt(null, own) is { Error: 0 } mine)
        {
            yield return (mine.Stat.Device, own);
        }
        foreach (var line in File.ReadLines("/proc/self/mountinfo"))
        {
            // The fifth word is where it is mounted (proc_pid_mountinfo(5)), a space in it written as \040.
            var path = AtTop(Encoding.UTF8.GetBytes(Unescape(line.Split(' ')[4])));
            if (NativeFiles.LookAt(null, path) is { Error: 0 } there)
            {
                yield return (there.Stat.Device, path);
            }
        }
    }

    private static byte[] AtTop(byte[] top) => [.. top.AsSpan().TrimEnd((byte)'/'), .. Encoding.ASCII.GetBytes($"/.Trash-{Native.EffectiveUser()}")];

    private static string Unescape(string mount) => mount.Replace("\\040", " ", StringComparison.Ordinal).Replace("\\011", "\t", StringComparison.Ordinal).Replace("\\012", "\n", StringComparison.Ordinal).Replace("\\134", "\\", StringComparison.Ordinal);

    /// <summary>A name that the trash has room for: text, and short enough for what is added.</summary>
    private static string NameIn(byte[] name, int number)
    {
        const int most = FileName.MostNameBytes - 32;
        var text = string.Concat(FileName.Of(name).Text.Select(c => char.IsControl(c) ? '_' : c));
        while (Encoding.UTF8.GetByteCount(text) > most)
        {
            text = text[..^1];
        }
        // Not half of a letter.
        text = char.IsHighSurrogate(text[^1]) ? text[..^1] : text;
        return number == 1 ? text : string.Create(CultureInfo.InvariantCulture, $"{text} ({number})");
    }

    /// <summary>One trash: its two folders, open.</summary>
    internal sealed class Bin(SafeFileHandle files, SafeFileHandle infos, byte[] top) : IDisposable
    {
        public const string Extension = ".trashinfo";

        public SafeFileHandle Files => files;

        public SafeFileHandle Infos => infos;

        /// <returns>Null where there is none, or where it is not the agent's own.</returns>
        public static Bin? Open(byte[] path, bool make)
        {
            if (make)
            {
                _ = NativeFiles.MakeFolder(null, path, OwnerOnlyMode);
            }
            using var folder = NativeFiles.Open(null, path, NativeFiles.DirectoryOnly | NativeFiles.NotALink).Handle;
            // Whoever could write there could have something put back where he may not.
            if (folder is null || NativeFiles.LookAt(folder) is not { Error: 0 } there || there.Stat.User != Native.EffectiveUser() || (there.Stat.Mode & 0x3f) != 0)
            {
                return null;
            }
            if (make)
            {
                _ = NativeFiles.MakeFolder(folder, "files"u8, OwnerOnlyMode);
                _ = NativeFiles.MakeFolder(folder, "info"u8, OwnerOnlyMode);
            }
            var files = NativeFiles.Open(folder, "files"u8, NativeFiles.DirectoryOnly | NativeFiles.NotALink).Handle;
            var infos = NativeFiles.Open(folder, "info"u8, NativeFiles.DirectoryOnly | NativeFiles.NotALink).Handle;
            if (files is not null && infos is not null)
            {
                return new Bin(files, infos, path.AsSpan(0, path.AsSpan().LastIndexOf((byte)'/')).ToArray());
            }
            files?.Dispose();
            infos?.Dispose();
            return null;
        }

        /// <returns>False when the name is taken.</returns>
        public bool TryWriteInfo(string called, FileName path, DateTime at)
        {
            var (handle, error) = NativeFiles.CreateNew(infos, Encoding.UTF8.GetBytes(called + Extension));
            using (handle)
            {
                if (handle is null)
                {
                    return error == NativeFiles.IsThere ? false : throw new IOException($"Nothing can be put into the trash: {Marshal.GetPInvokeErrorMessage(error)}.");
                }
                var text = $"[Trash Info]\nPath={Escape(path.ToBytes())}\nDeletionDate={at:yyyy-MM-ddTHH:mm:ss}\n";
                return NativeFiles.Write(handle, 0, Encoding.ASCII.GetBytes(text)) is not (not 0 and var problem) ? true : throw new IOException($"Nothing can be put into the trash: {Marshal.GetPInvokeErrorMessage(problem)}.");
            }
        }

        public (FileName Path, DateTimeOffset At)? ReadInfo(string called)
        {
            using var handle = NativeFiles.Open(infos, Encoding.UTF8.GetBytes(called + Extension), NativeFiles.ReadOnly | NativeFiles.NotALink | NativeFiles.NonBlocking).Handle;
            if (handle is null)
            {
                return null;
            }
            var buffer = new byte[MostInfo];
            var lines = Encoding.UTF8.GetString(buffer, 0, Math.Max(0, NativeFiles.Read(handle, 0, buffer))).Split('\n');
            var path = Array.Find(lines, l => l.StartsWith("Path=", StringComparison.Ordinal));
            var date = Array.Find(lines, l => l.StartsWith("DeletionDate=", StringComparison.Ordinal));
            if (path is null || !DateTime.TryParseExact(date?["DeletionDate=".Length..].Trim(), "yyyy-MM-ddTHH:mm:ss", CultureInfo.InvariantCulture, DateTimeStyles.AssumeLocal, out var at))
            {
                return null;
            }
            var bytes = Unescape(path["Path=".Length..].Trim());
            // Other programs write it from the top of the file system.
            var whole = bytes is [(byte)'/', ..] ? bytes : [.. top, (byte)'/', .. bytes];
            return (FileName.Of(whole), new DateTimeOffset(at).ToUniversalTime());
        }

        public void RemoveInfo(string called) => _ = NativeFiles.Remove(infos, Encoding.UTF8.GetBytes(called + Extension), isFolder: false);

        public void Dispose()
        {
            files.Dispose();
            infos.Dispose();
        }

        /// <summary>RFC 2396, section 2: everything but plain letters as %E9.</summary>
        private static string Escape(byte[] path) =>
            string.Concat(path.Select(b => char.IsAsciiLetterOrDigit((char)b) || "/-_.~".Contains((char)b, StringComparison.Ordinal) ? ((char)b).ToString() : $"%{b:X2}"));

        private static byte[] Unescape(string text)
        {
            var bytes = new List<byte>(text.Length);
            for (var at = 0; at < text.Length; at++)
            {
                if (text[at] == '%' && at + 2 < text.Length && byte.TryParse(text.AsSpan(at + 1, 2), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var odd))
                {
                    bytes.Add(odd);
                    at += 2;
                }
                else
                {
                    bytes.AddRange(Encoding.UTF8.GetBytes(text[at].ToString()));
                }
            }
            return [.. bytes];
        }
    }
}
