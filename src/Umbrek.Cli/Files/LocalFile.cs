using System.IO.Enumeration;
using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Files;

namespace Umbrek.Cli.Files;

/// <summary>Files here, to be sent.</summary>
public static unsafe partial class LocalFile
{
    /// <summary>The files and folders that were named; where nothing is called so, * and ? stand for letters of its last name.</summary>
    public static IEnumerable<string> Expand(IEnumerable<string> named)
    {
        foreach (var path in named)
        {
            var (folder, pattern) = (Path.GetDirectoryName(path), Path.GetFileName(path));
            if (Path.Exists(path) || !pattern.AsSpan().ContainsAny('*', '?'))
            {
                yield return path;
                continue;
            }
            var found = new DirectoryInfo(string.IsNullOrEmpty(folder) ? "." : folder) is { Exists: true } there
                ? there.EnumerateFileSystemInfos().Select(f => f.Name).Where(n => FileSystemName.MatchesSimpleExpression(pattern, n, ignoreCase: false)).Order(StringComparer.Ordinal).ToList()
                : [];
            if (found.Count == 0)
            {
                throw new ClientException($"Nothing here is called {path}.", ExitCodes.NothingMatched);
            }
            foreach (var name in found)
            {
                yield return Path.Combine(folder ?? "", name);
            }
        }
    }

    /// <summary>Opens one to be read.</summary>
    /// <exception cref="IOException">It can't be, or it is none: a pipe would wait, a device has no end.</exception>
    public static SafeFileHandle Open(string path)
    {
        if (!OperatingSystem.IsLinux())
        {
            return File.OpenHandle(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete, FileOptions.SequentialScan);
        }
        const int nonBlocking = 0x800;
        const int closeOnExec = 0x80000;
        int descriptor;
        fixed (byte* name = System.Text.Encoding.UTF8.GetBytes(path + '\0'))
        {
            descriptor = Open(name, nonBlocking | closeOnExec);
        }
        if (descriptor < 0)
        {
            throw new IOException($"'{path}' can't be read: {Marshal.GetLastPInvokeErrorMessage()}.");
        }
        var handle = new SafeFileHandle(descriptor, ownsHandle: true);
        try
        {
            // What can't be gone to a place in has no length.
            _ = RandomAccess.GetLength(handle);
            return handle;
        }
        catch (NotSupportedException)
        {
            handle.Dispose();
            throw new IOException($"'{path}' is a pipe, a socket or a device, which has no content to be sent.");
        }
    }

    /// <summary>Makes a file without a name in a folder, which is gone with its handle if it is given none (open(2), O_TMPFILE).</summary>
    /// <returns>Null where the system or the file system knows no such thing.</returns>
    public static SafeFileHandle? CreateUnnamed(string folder)
    {
        const int readWrite = 0x2;
        const int unnamed = 0x400000;
        const int closeOnExec = 0x80000;
        var folderOnly = RuntimeInformation.ProcessArchitecture == Architecture.Arm64 ? 0x4000 : 0x10000;
        if (!OperatingSystem.IsLinux() || !Directory.Exists("/proc/self/fd"))
        {
            return null;
        }
        fixed (byte* name = System.Text.Encoding.UTF8.GetBytes(folder + '\0'))
        {
            var descriptor = Open(name, readWrite | unnamed | folderOnly | closeOnExec, 0x180);
            return descriptor < 0 ? null : new SafeFileHandle(descriptor, ownsHandle: true);
        }
    }

    /// <summary>Gives a name to a file that was made without.</summary>
    /// <returns>False when something is called so already.</returns>
    /// <exception cref="IOException">It can't be given.</exception>
    public static bool Name(SafeFileHandle file, string path)
    {
        const int here = -100;
        const int followed = 0x400;
        const int isThere = 17;
        fixed (byte* from = System.Text.Encoding.ASCII.GetBytes($"/proc/self/fd/{file.DangerousGetHandle()}\0"), to = System.Text.Encoding.UTF8.GetBytes(path + '\0'))
        {
            if (NameAt(here, from, here, to, followed) == 0)
            {
                return true;
            }
        }
        return Marshal.GetLastPInvokeError() == isThere ? false : throw new IOException($"'{path}' can't be written: {Marshal.GetLastPInvokeErrorMessage()}.");
    }

    /// <summary>Why the system did not write, as the end of a sentence that says what was to be written.</summary>
    public static string WhyNot(IOException e) => OperatingSystem.IsWindows() ? e.Message : e.HResult switch
    {
        // errno(3): EFBIG, ENOSPC, EDQUOT
        27 => "a file may not be so large there.",
        28 => "there is no space left there. Make some, or have it come to another place.",
        122 => "the quota there is used up. Take something away, or have it come to another place.",
        _ => e.Message,
    };

    /// <summary>Which one it is: another word when it is another file, or its content changed.</summary>
    public static string VersionOf(SafeFileHandle handle) => FormattableString.Invariant($"{RandomAccess.GetLength(handle):x}-{File.GetLastWriteTimeUtc(handle).Ticks:x}");

    /// <summary>Who may read, write and execute it; null where the system has no such modes.</summary>
    public static int? ModeOf(SafeFileHandle handle) => OperatingSystem.IsWindows() ? null : (int)(File.GetUnixFileMode(handle) & FileArrival.Plain);

    /// <summary>A path here as the host is to know it.</summary>
    public static FileName NameOf(string relative) => new(relative.Replace(Path.DirectorySeparatorChar, '/'));

    [LibraryImport("libc", EntryPoint = "open", SetLastError = true)]
    private static partial int Open(byte* path, int flags);

    [LibraryImport("libc", EntryPoint = "open", SetLastError = true)]
    private static partial int Open(byte* path, int flags, uint mode);

    [LibraryImport("libc", EntryPoint = "linkat", SetLastError = true)]
    private static partial int NameAt(int folder, byte* path, int toFolder, byte* name, int flags);
}
