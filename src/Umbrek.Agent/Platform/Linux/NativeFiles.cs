using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Calls about files by names that are bytes, which .NET's own can't all say. Signatures as on 64-bit glibc 2.34 and newer.</summary>
internal static unsafe partial class NativeFiles
{
    public const int ReadOnly = 0;
    public const int NonBlocking = 0x800;
    public const int CloseOnExec = 0x80000;

    /// <summary>The name alone, without opening what is there (open(2), O_PATH).</summary>
    public const int NameOnly = 0x200000;
    public const int NotThere = 2;
    private const int CurrentDirectory = -100;
    private const int NoFollow = 0x100;
    private const int EmptyPath = 0x1000;
    private const uint BasicStats = 0x7ff;
    private const int StatBytes = 256;
    private const int TargetBytes = 4096;

    // asm/fcntl.h: these two have other numbers on 64-bit ARM.
    public static readonly int DirectoryOnly = RuntimeInformation.ProcessArchitecture == Architecture.Arm64 ? 0x4000 : 0x10000;
    public static readonly int NotALink = RuntimeInformation.ProcessArchitecture == Architecture.Arm64 ? 0x8000 : 0x20000;

    [LibraryImport("libc", EntryPoint = "openat", SetLastError = true)]
    private static partial int OpenAt(int folder, byte* name, int flags);

    [LibraryImport("libc", EntryPoint = "statx", SetLastError = true)]
    private static partial int StatX(int folder, byte* name, int flags, uint mask, byte* buffer);

    [LibraryImport("libc", EntryPoint = "readlinkat", SetLastError = true)]
    private static partial nint ReadLinkAt(int folder, byte* name, byte* buffer, nint length);

    [LibraryImport("libc", EntryPoint = "getdents64", SetLastError = true)]
    private static partial nint GetEntries(int folder, byte* buffer, nint length);

    [LibraryImport("libc", EntryPoint = "lseek", SetLastError = true)]
    private static partial long Seek(int descriptor, long offset, int whence);

    [LibraryImport("libc", EntryPoint = "pread", SetLastError = true)]
    private static partial nint ReadAt(int descriptor, byte* buffer, nint length, long offset);

    /// <summary>What statx(2) says: struct statx is alike on every architecture.</summary>
    public readonly record struct Stat(ushort Mode, uint User, uint Group, ulong Inode, long Bytes, long Seconds, uint Nanoseconds, ulong Device);

    /// <summary>Opens a name in a folder (openat(2)); by no folder, a whole path.</summary>
    /// <returns>Null, with the error number.</returns>
    public static (SafeFileHandle? Handle, int Error) Open(SafeFileHandle? folder, ReadOnlySpan<byte> name, int flags)
    {
        fixed (byte* first = Terminated(name))
        {
            var descriptor = OpenAt(Number(folder), first, flags | CloseOnExec);
            return descriptor < 0 ? (null, Marshal.GetLastPInvokeError()) : (new SafeFileHandle(descriptor, ownsHandle: true), 0);
        }
    }

    /// <summary>Of a name in a folder, a link not followed.</summary>
    public static (Stat Stat, int Error) LookAt(SafeFileHandle? folder, ReadOnlySpan<byte> name, bool follow = false)
    {
        fixed (byte* first = Terminated(name))
        {
            return Look(Number(folder), first, follow ? 0 : NoFollow);
        }
    }

    /// <summary>Of what is open.</summary>
    public static (Stat Stat, int Error) LookAt(SafeFileHandle handle)
    {
        byte empty = 0;
        return Look(Number(handle), &empty, EmptyPath);
    }

    /// <summary>Where a link leads, or null.</summary>
    public static byte[]? TargetOf(SafeFileHandle? folder, ReadOnlySpan<byte> name)
    {
        var buffer = stackalloc byte[TargetBytes];
        fixed (byte* first = Terminated(name))
        {
            var length = ReadLinkAt(Number(folder), first, buffer, TargetBytes);
            return length < 0 ? null : new ReadOnlySpan<byte>(buffer, (int)length).ToArray();
        }
    }

    /// <summary>The next entries of a folder as getdents64(2) packs them.</summary>
    /// <returns>How many bytes; 0 at the end, negative where it can't be read.</returns>
    public static int ReadEntries(SafeFileHandle folder, Span<byte> buffer)
    {
        fixed (byte* first = buffer)
        {
            return (int)GetEntries(Number(folder), first, buffer.Length);
        }
    }

    /// <summary>lseek(2) to data or to a hole.</summary>
    /// <returns>Negative where there is none, with the error number.</returns>
    public static (long At, int Error) Seek(SafeFileHandle handle, long from, bool data)
    {
        const int toData = 3;
        const int toHole = 4;
        var at = Seek(Number(handle), from, data ? toData : toHole);
        return (at, at < 0 ? Marshal.GetLastPInvokeError() : 0);
    }

    public static int Read(SafeFileHandle handle, long from, Span<byte> into)
    {
        fixed (byte* first = into)
        {
            return (int)ReadAt(Number(handle), first, into.Length, from);
        }
    }

    private static (Stat, int) Look(int folder, byte* name, int flags)
    {
        var s = stackalloc byte[StatBytes];
        return StatX(folder, name, flags, BasicStats, s) != 0
            ? (default, Marshal.GetLastPInvokeError())
            : (new Stat(*(ushort*)(s + 28), *(uint*)(s + 20), *(uint*)(s + 24), *(ulong*)(s + 32), *(long*)(s + 40), *(long*)(s + 112), *(uint*)(s + 120), ((ulong)*(uint*)(s + 136) << 32) | *(uint*)(s + 140)), 0);
    }

    private static int Number(SafeFileHandle? handle) => handle is null ? CurrentDirectory : (int)handle.DangerousGetHandle();

    private static byte[] Terminated(ReadOnlySpan<byte> name) => [.. name, 0];
}
