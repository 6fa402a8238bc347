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
    public const int IsThere = 17;
    public const int OtherFileSystem = 18;
    public const int NotPossible = 22;
    public const int ReadWrite = 2;
    public const int Create = 0x40;

    /// <summary>renameat2(2): never over something; two names change places.</summary>
    public const uint NoReplace = 1;
    public const uint Exchange = 2;
    private const long OpenAt2Call = 437;
    private const ulong Beneath = 0x08;
    private const ulong NoMagicLinks = 0x02;
    private const int RemoveFolder = 0x200;
    private const int CurrentDirectory = -100;
    private const int NoFollow = 0x100;
    private const int EmptyPath = 0x1000;
    private const uint BasicStats = 0x7ff;
    private const int StatBytes = 256;
    private const int TargetBytes = 4096;

    // asm/fcntl.h: these two have other numbers on 64-bit ARM.
    public static readonly int DirectoryOnly = RuntimeInformation.ProcessArchitecture == Architecture.Arm64 ? 0x4000 : 0x10000;
    public static readonly int NotALink = RuntimeInformation.ProcessArchitecture == Architecture.Arm64 ? 0x8000 : 0x20000;

    /// <summary>What is open has a path here (proc(5)).</summary>
    private static readonly bool IsOpenNamed = Directory.Exists("/proc/self/fd");

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

    [LibraryImport("libc", EntryPoint = "openat", SetLastError = true)]
    private static partial int OpenAt(int folder, byte* name, int flags, uint mode);

    // struct open_how (openat2(2)): flags, mode and what is allowed on the way.
    [LibraryImport("libc", EntryPoint = "syscall", SetLastError = true)]
    private static partial nint OpenAt2(long call, int folder, byte* name, ulong* how, nint size);

    [LibraryImport("libc", EntryPoint = "mkdirat", SetLastError = true)]
    private static partial int MakeFolderAt(int folder, byte* name, uint mode);

    [LibraryImport("libc", EntryPoint = "symlinkat", SetLastError = true)]
    private static partial int LinkAt(byte* target, int folder, byte* name);

    [LibraryImport("libc", EntryPoint = "linkat", SetLastError = true)]
    private static partial int NameAt(int folder, byte* path, int toFolder, byte* name, int flags);

    [LibraryImport("libc", EntryPoint = "renameat2", SetLastError = true)]
    private static partial int RenameAt(int folder, byte* name, int toFolder, byte* toName, uint flags);

    [LibraryImport("libc", EntryPoint = "unlinkat", SetLastError = true)]
    private static partial int UnlinkAt(int folder, byte* name, int flags);

    [LibraryImport("libc", EntryPoint = "fchownat", SetLastError = true)]
    private static partial int OwnAt(int folder, byte* name, uint user, uint group, int flags);

    [LibraryImport("libc", EntryPoint = "chmod", SetLastError = true)]
    private static partial int SetMode(byte* path, uint mode);

    [LibraryImport("libc", EntryPoint = "utimensat", SetLastError = true)]
    private static partial int SetTimes(int folder, byte* name, long* times, int flags);

    [LibraryImport("libc", EntryPoint = "pwrite", SetLastError = true)]
    private static partial nint WriteAt(int descriptor, byte* buffer, nint length, long offset);

    [LibraryImport("libc", EntryPoint = "ftruncate", SetLastError = true)]
    private static partial int Truncate(int descriptor, long length);

    [LibraryImport("libc", EntryPoint = "fdatasync", SetLastError = true)]
    private static partial int SyncData(int descriptor);

    [LibraryImport("libc", EntryPoint = "sync_file_range", SetLastError = true)]
    private static partial int SyncRange(int descriptor, long from, long bytes, uint flags);

    [LibraryImport("libc", EntryPoint = "fstatfs", SetLastError = true)]
    private static partial int StatFileSystem(int descriptor, long* buffer);

    [LibraryImport("libc", EntryPoint = "syscall", SetLastError = true)]
    private static partial nint SetDiskPriority(long call, int which, int who, int priority);

    /// <summary>File systems that hold nothing but what the kernel says: proc, sysfs, devpts, cgroup2, cgroup, debugfs, tracefs, securityfs, bpf, pstore, configfs, mqueue (linux/magic.h).</summary>
    private static readonly HashSet<long> MadeUp = [0x9fa0, 0x62656572, 0x1cd1, 0x63677270, 0x27e0eb, 0x64626720, 0x74726163, 0x73636673, 0xcafe4a11, 0x6165676c, 0x62656570, 0x19800202];

    /// <summary>Whether a folder lies on a file system that holds no files, but what the kernel says.</summary>
    public static bool IsMadeUp(SafeFileHandle folder)
    {
        // struct statfs has 120 bytes on 64-bit Linux, and begins with the file system's number.
        var buffer = stackalloc long[32];
        return StatFileSystem(Number(folder), buffer) == 0 && MadeUp.Contains(*buffer);
    }

    /// <summary>The thread that calls gives way: lowest priority (setpriority(2)), and the disk when nobody else wants it (ioprio_set(2), idle class).</summary>
    public static void GiveWay()
    {
        const int idle = 3 << 13;
        var call = RuntimeInformation.ProcessArchitecture == Architecture.Arm64 ? 30 : 251;
        _ = Native.SetPriority(0, 0, 19);
        _ = SetDiskPriority(call, 1, 0, idle);
    }

    /// <summary>What statx(2) says: struct statx is alike on every architecture.</summary>
    public readonly record struct Stat(ushort Mode, uint User, uint Group, ulong Inode, long Bytes, long Seconds, uint Nanoseconds, ulong Device, uint Links);

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

    /// <summary>Opens a path from a folder that leads out of it by nothing on the way: by no dots, no link and no rename meanwhile (openat2(2), RESOLVE_BENEATH).</summary>
    public static (SafeFileHandle? Handle, int Error) OpenBeneath(SafeFileHandle folder, ReadOnlySpan<byte> path, int flags)
    {
        var how = stackalloc ulong[] { (ulong)(flags | CloseOnExec), 0, Beneath | NoMagicLinks };
        fixed (byte* first = Terminated(path.IsEmpty ? "."u8 : path))
        {
            var descriptor = (int)OpenAt2(OpenAt2Call, Number(folder), first, how, 24);
            return descriptor < 0 ? (null, Marshal.GetLastPInvokeError()) : (new SafeFileHandle(descriptor, ownsHandle: true), 0);
        }
    }

    /// <summary>Opens a file to be written, made where there is none, readable by its owner alone; a link is not followed.</summary>
    public static (SafeFileHandle? Handle, int Error) OpenToWrite(SafeFileHandle folder, ReadOnlySpan<byte> name)
    {
        fixed (byte* first = Terminated(name))
        {
            var descriptor = OpenAt(Number(folder), first, ReadWrite | Create | NotALink | NonBlocking | CloseOnExec, 0x180);
            return descriptor < 0 ? (null, Marshal.GetLastPInvokeError()) : (new SafeFileHandle(descriptor, ownsHandle: true), 0);
        }
    }

    /// <summary>Makes a file, readable by its owner alone, where there is none.</summary>
    public static (SafeFileHandle? Handle, int Error) CreateNew(SafeFileHandle folder, ReadOnlySpan<byte> name)
    {
        const int exclusive = 0x80;
        fixed (byte* first = Terminated(name))
        {
            var descriptor = OpenAt(Number(folder), first, ReadWrite | Create | exclusive | NotALink | CloseOnExec, 0x180);
            return descriptor < 0 ? (null, Marshal.GetLastPInvokeError()) : (new SafeFileHandle(descriptor, ownsHandle: true), 0);
        }
    }

    /// <summary>Makes a file without a name, readable by its owner alone, which is gone with its handle if it is given none (open(2), O_TMPFILE).</summary>
    /// <returns>Null where the system or the file system knows no such thing.</returns>
    public static SafeFileHandle? CreateUnnamed(SafeFileHandle folder)
    {
        const int unnamed = 0x400000;
        if (!IsOpenNamed)
        {
            return null;
        }
        fixed (byte* here = "."u8)
        {
            var descriptor = OpenAt(Number(folder), here, ReadWrite | unnamed | DirectoryOnly | CloseOnExec, 0x180);
            return descriptor < 0 ? null : new SafeFileHandle(descriptor, ownsHandle: true);
        }
    }

    /// <summary>Gives a name to a file that was made without; what has the name already stays.</summary>
    /// <returns>0, or the error number; so are those that follow.</returns>
    public static int Name(SafeFileHandle file, SafeFileHandle folder, ReadOnlySpan<byte> name)
    {
        const int followed = 0x400;
        fixed (byte* from = Terminated(System.Text.Encoding.ASCII.GetBytes($"/proc/self/fd/{Number(file)}")), to = Terminated(name))
        {
            return Error(NameAt(CurrentDirectory, from, Number(folder), to, followed));
        }
    }

    public static int MakeFolder(SafeFileHandle? folder, ReadOnlySpan<byte> name, uint mode)
    {
        fixed (byte* first = Terminated(name))
        {
            return Error(MakeFolderAt(Number(folder), first, mode));
        }
    }

    public static int MakeLink(SafeFileHandle folder, ReadOnlySpan<byte> name, ReadOnlySpan<byte> target)
    {
        fixed (byte* first = Terminated(name), to = Terminated(target))
        {
            return Error(LinkAt(to, Number(folder), first));
        }
    }

    public static int Rename(SafeFileHandle folder, ReadOnlySpan<byte> name, SafeFileHandle toFolder, ReadOnlySpan<byte> toName, uint flags)
    {
        fixed (byte* first = Terminated(name), to = Terminated(toName))
        {
            return Error(RenameAt(Number(folder), first, Number(toFolder), to, flags));
        }
    }

    public static int Remove(SafeFileHandle folder, ReadOnlySpan<byte> name, bool isFolder)
    {
        fixed (byte* first = Terminated(name))
        {
            return Error(UnlinkAt(Number(folder), first, isFolder ? RemoveFolder : 0));
        }
    }

    /// <summary>Of what is open, a name alone too; <see cref="uint.MaxValue"/> leaves one as it is.</summary>
    public static int SetOwner(SafeFileHandle handle, uint user, uint group)
    {
        byte empty = 0;
        return Error(OwnAt(Number(handle), &empty, user, group, EmptyPath));
    }

    public static int SetMode(SafeFileHandle handle, uint mode)
    {
        fixed (byte* path = Terminated(ByNumber(handle)))
        {
            return Error(SetMode(path, mode));
        }
    }

    public static int SetChanged(SafeFileHandle handle, DateTimeOffset at)
    {
        const long leave = 0x3ffffffe;
        var (seconds, ticks) = Math.DivRem((at - DateTimeOffset.UnixEpoch).Ticks, TimeSpan.TicksPerSecond);
        // Before 1970 the rest counts from the second before.
        (seconds, ticks) = ticks < 0 ? (seconds - 1, ticks + TimeSpan.TicksPerSecond) : (seconds, ticks);
        var times = stackalloc long[] { 0, leave, seconds, ticks * 100 };
        fixed (byte* path = Terminated(ByNumber(handle)))
        {
            return Error(SetTimes(CurrentDirectory, path, times, 0));
        }
    }

    public static int Write(SafeFileHandle handle, long at, ReadOnlySpan<byte> bytes)
    {
        fixed (byte* first = bytes)
        {
            for (var done = 0; done < bytes.Length;)
            {
                var written = WriteAt(Number(handle), first + done, bytes.Length - done, at + done);
                if (written < 0)
                {
                    return Marshal.GetLastPInvokeError();
                }
                done += (int)written;
            }
        }
        return 0;
    }

    public static int SetLength(SafeFileHandle handle, long length) => Error(Truncate(Number(handle), length));

    /// <summary>Waits until the content is on the disk.</summary>
    public static int Flush(SafeFileHandle handle) => Error(SyncData(Number(handle)));

    /// <summary>Has the disk begin with a range, and does not wait for it.</summary>
    public static void BeginFlush(SafeFileHandle handle, long from, long bytes) => _ = SyncRange(Number(handle), from, bytes, 2);

    /// <summary>What is open, by what the kernel calls it (proc_pid_fd(5)).</summary>
    public static byte[] ByNumber(SafeFileHandle handle) => System.Text.Encoding.ASCII.GetBytes($"/proc/self/fd/{handle.DangerousGetHandle()}");

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
            : (new Stat(*(ushort*)(s + 28), *(uint*)(s + 20), *(uint*)(s + 24), *(ulong*)(s + 32), *(long*)(s + 40), *(long*)(s + 112), *(uint*)(s + 120), ((ulong)*(uint*)(s + 136) << 32) | *(uint*)(s + 140), *(uint*)(s + 16)), 0);
    }

    private static int Error(int result) => result < 0 ? Marshal.GetLastPInvokeError() : 0;

    private static int Number(SafeFileHandle? handle) => handle is null ? CurrentDirectory : (int)handle.DangerousGetHandle();

    private static byte[] Terminated(ReadOnlySpan<byte> name) => [.. name, 0];
}
