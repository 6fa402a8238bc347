using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>The few calls of the C library that .NET does not have. Signatures as on 64-bit glibc 2.34 and newer.</summary>
internal static unsafe partial class Native
{
    public const int SigTerm = 15;
    public const int SigKill = 9;
    public const int PrSetChildSubreaper = 36;

    /// <summary>reboot(2): restart, and switch the power off.</summary>
    public const uint RebootRestart = 0x01234567;
    public const uint RebootPowerOff = 0x4321FEDC;
    public const short SpawnSetSigMask = 0x08;
    public const short SpawnSetSigDef = 0x04;
    public const short SpawnSetSid = 0x80;
    public const int OpenReadOnly = 0;
    public const uint MemoryCloseOnExec = 1;
    public const int OpenCloseOnExec = 0x80000;

    // posix_spawn_file_actions_t has 80 bytes, posix_spawnattr_t 336, sigset_t 128; these are rounded up.
    public const int FileActionsSize = 128;
    public const int AttributesSize = 512;
    public const int SignalSetSize = 128;

    public const int AtCurrentDirectory = -100;
    public const uint StatXBasic = 0x7ff;

    [LibraryImport("libc", EntryPoint = "statx", SetLastError = true)]
    public static partial int StatX(int directory, byte* path, int flags, uint mask, byte* buffer);

    [LibraryImport("libc", EntryPoint = "geteuid")]
    public static partial uint EffectiveUser();

    [LibraryImport("libc", EntryPoint = "open", SetLastError = true)]
    private static partial int Open(byte* path, int flags);

    [LibraryImport("libc", EntryPoint = "write", SetLastError = true)]
    private static partial nint Write(int descriptor, byte* bytes, nint length);

    [LibraryImport("libc", EntryPoint = "getpwuid")]
    private static partial byte** UserById(uint user);

    [LibraryImport("libc", EntryPoint = "getpwnam")]
    private static partial byte** UserByName(byte* name);

    /// <summary>An entry of the system's users (getpwnam(3)), or null.</summary>
    public static SystemUser? FindUser(string name)
    {
        lock (UserLookup)
        {
            fixed (byte* text = System.Text.Encoding.UTF8.GetBytes(name + '\0'))
            {
                return ReadUser(UserByName(text));
            }
        }
    }

    public static SystemUser? FindUser(uint id)
    {
        lock (UserLookup)
        {
            return ReadUser(UserById(id));
        }
    }

    /// <summary>struct passwd on 64-bit glibc: name at 0, uid at 16, gid at 20, directory at 32, shell at 40.</summary>
    private static SystemUser? ReadUser(byte** entry)
    {
        if (entry is null)
        {
            return null;
        }
        var ids = (uint*)(entry + 2);
        var shell = Marshal.PtrToStringUTF8((nint)entry[5]);
        return new SystemUser(Marshal.PtrToStringUTF8((nint)entry[0])!, ids[0], ids[1], Marshal.PtrToStringUTF8((nint)entry[4]) ?? "/", string.IsNullOrEmpty(shell) ? "/bin/sh" : shell);
    }

    private static readonly Lock UserLookup = new();

    /// <summary>The name of a user (getpwuid(3), whose answer the next call overwrites), or null.</summary>
    public static string? NameOfUser(uint user)
    {
        lock (UserLookup)
        {
            // struct passwd begins with the name.
            var entry = UserById(user);
            return entry is null ? null : Marshal.PtrToStringUTF8((nint)entry[0]);
        }
    }

    [LibraryImport("libc", EntryPoint = "getgrgid")]
    private static partial byte** GroupById(uint group);

    /// <summary>The name of a group (getgrgid(3), whose answer the next call overwrites), or null.</summary>
    public static string? NameOfGroup(uint group)
    {
        lock (UserLookup)
        {
            // struct group begins with the name.
            var entry = GroupById(group);
            return entry is null ? null : Marshal.PtrToStringUTF8((nint)entry[0]);
        }
    }

    [LibraryImport("libc", EntryPoint = "getgrnam")]
    private static partial byte** GroupByName(byte* name);

    /// <summary>The number of a group (getgrnam(3)), or null.</summary>
    public static uint? FindGroup(string name)
    {
        lock (UserLookup)
        {
            fixed (byte* text = System.Text.Encoding.UTF8.GetBytes(name + '\0'))
            {
                // struct group on 64-bit glibc: name at 0, gid at 16.
                var entry = GroupByName(text);
                return entry is null ? null : *(uint*)(entry + 2);
            }
        }
    }

    /// <summary>Writes what the terminal takes at once: one that stands still holds nobody up.</summary>
    public static void WriteToTerminal(string device, ReadOnlySpan<byte> bytes)
    {
        const int writeOnly = 1;
        const int noControl = 0x100;
        const int nonBlocking = 0x800;
        fixed (byte* path = System.Text.Encoding.UTF8.GetBytes(device + '\0'), first = bytes)
        {
            var descriptor = Open(path, writeOnly | noControl | nonBlocking | OpenCloseOnExec);
            if (descriptor >= 0)
            {
                _ = Write(descriptor, first, bytes.Length);
                _ = Close(descriptor);
            }
        }
    }

    [LibraryImport("libc", EntryPoint = "statvfs", SetLastError = true)]
    private static partial int StatVfs(byte* path, byte* buffer);

    /// <summary>How many of a file system's inodes are taken; null where it has no fixed number of them.</summary>
    public static double? InodesUsedPercent(string mount)
    {
        // struct statvfs on 64-bit glibc: f_files at 40, f_ffree at 48, 112 bytes in all.
        var buffer = stackalloc byte[128];
        fixed (byte* path = System.Text.Encoding.UTF8.GetBytes(mount + '\0'))
        {
            return StatVfs(path, buffer) == 0 && *(ulong*)(buffer + 40) is var all and > 0 ? Math.Round(100.0 * (all - *(ulong*)(buffer + 48)) / all, 1) : null;
        }
    }

    [LibraryImport("libc", EntryPoint = "adjtimex", SetLastError = true)]
    private static partial int AdjTimeX(byte* buffer);

    /// <summary>Whether a time service keeps the system's clock right; null where the kernel does not say.</summary>
    public static bool? IsClockKept()
    {
        // adjtimex(2): asked to change nothing it answers TIME_ERROR while the clock is not synchronised. struct timex has 208 bytes on 64-bit Linux.
        const int TimeError = 5;
        var buffer = stackalloc byte[256];
        new Span<byte>(buffer, 256).Clear();
        return AdjTimeX(buffer) switch { TimeError => false, < 0 => null, _ => true };
    }

    /// <summary>Two sockets that are connected to each other (socketpair(2)), closed in other programs.</summary>
    /// <exception cref="IOException">The system has none to give.</exception>
    public static (int One, int Other) SocketPair()
    {
        const int unix = 1;
        const int stream = 1;
        var two = stackalloc int[2];
        return Socketpair(unix, stream | OpenCloseOnExec, 0, two) == 0 ? (two[0], two[1]) : throw new IOException($"The host has no sockets to spare: {Marshal.GetLastPInvokeErrorMessage()}.");
    }

    [LibraryImport("libc", EntryPoint = "socketpair", SetLastError = true)]
    private static partial int Socketpair(int domain, int type, int protocol, int* two);

    [LibraryImport("libc", EntryPoint = "pipe2", SetLastError = true)]
    public static partial int Pipe2(int* ends, int flags);

    [LibraryImport("libc", EntryPoint = "read", SetLastError = true)]
    private static partial nint Read(int descriptor, byte* bytes, nint length);

    [LibraryImport("libc", EntryPoint = "poll", SetLastError = true)]
    private static partial int Poll(PollEntry* entries, nuint count, int milliseconds);

    private struct PollEntry
    {
        public int Descriptor;
        public short Events;
        public short Happened;
    }

    /// <summary>Reads what comes within a time (poll(2), read(2)).</summary>
    /// <returns>How many bytes came; 0 at the end; -1 when nothing came.</returns>
    public static int ReadWithin(SafeHandle handle, Span<byte> buffer, int milliseconds)
    {
        const short pollIn = 1;
        var entry = new PollEntry { Descriptor = (int)handle.DangerousGetHandle(), Events = pollIn };
        if (Poll(&entry, 1, milliseconds) <= 0)
        {
            return -1;
        }
        fixed (byte* first = buffer)
        {
            return (int)Math.Max(0, Read(entry.Descriptor, first, buffer.Length));
        }
    }

    private struct WindowSize
    {
        public ushort Rows;
        public ushort Columns;
        public ushort Width;
        public ushort Height;
    }

    [LibraryImport("libc", EntryPoint = "posix_openpt", SetLastError = true)]
    private static partial int OpenTerminal(int flags);

    [LibraryImport("libc", EntryPoint = "grantpt", SetLastError = true)]
    private static partial int GrantTerminal(int master);

    [LibraryImport("libc", EntryPoint = "unlockpt", SetLastError = true)]
    private static partial int UnlockTerminal(int master);

    [LibraryImport("libc", EntryPoint = "ptsname_r", SetLastError = true)]
    private static partial int NameOfTerminal(int master, byte* name, nuint length);

    [LibraryImport("libc", EntryPoint = "ioctl", SetLastError = true)]
    private static partial int Control(int descriptor, nuint request, void* argument);

    [LibraryImport("libc", EntryPoint = "chown", SetLastError = true)]
    private static partial int ChangeOwner(byte* path, uint user, uint group);

    /// <summary>A new pseudo-terminal (POSIX.1-2017, posix_openpt): its master side, and the path of the other.</summary>
    /// <exception cref="IOException">The host has none to spare.</exception>
    public static (SafeFileHandle Master, string Path) NewTerminal()
    {
        const int readWrite = 2;
        const int noControl = 0x100;
        var master = OpenTerminal(readWrite | noControl | OpenCloseOnExec);
        if (master >= 0)
        {
            var handle = new SafeFileHandle(master, ownsHandle: true);
            var name = stackalloc byte[128];
            if (GrantTerminal(master) == 0 && UnlockTerminal(master) == 0 && NameOfTerminal(master, name, 128) == 0)
            {
                return (handle, Marshal.PtrToStringUTF8((nint)name)!);
            }
            handle.Dispose();
        }
        throw new IOException($"The host has no terminal to spare: {Marshal.GetLastPInvokeErrorMessage()}.");
    }

    /// <summary>ioctl_tty(2), TIOCSWINSZ: programs in the terminal are told by SIGWINCH.</summary>
    public static void Resize(SafeHandle master, int columns, int rows)
    {
        const nuint setWindowSize = 0x5414;
        var size = new WindowSize { Columns = (ushort)columns, Rows = (ushort)rows };
        _ = Control((int)master.DangerousGetHandle(), setWindowSize, &size);
    }

    /// <summary>Gives the terminal to the user who works in it, so that his programs can open it by its name.</summary>
    public static void GiveTerminal(string path, uint user)
    {
        fixed (byte* text = System.Text.Encoding.UTF8.GetBytes(path + '\0'))
        {
            const uint unchanged = uint.MaxValue;
            _ = ChangeOwner(text, user, unchanged);
        }
    }

    [LibraryImport("libc", EntryPoint = "sync")]
    private static partial void Sync();

    [LibraryImport("libc", EntryPoint = "reboot", SetLastError = true)]
    private static partial int RebootSystem(uint how);

    /// <summary>Writes everything to the disks, then takes the system down at once.</summary>
    /// <returns>What is in the way; null is returned by hardly any system, for it is down.</returns>
    public static string? Reboot(uint how)
    {
        Sync();
        return RebootSystem(how) == 0 ? null : $"{LastError()}.";
    }

    [LibraryImport("libc", EntryPoint = "close")]
    public static partial int Close(int descriptor);

    [LibraryImport("libc", EntryPoint = "kill", SetLastError = true)]
    public static partial int Kill(int pid, int signal);

    [LibraryImport("libc", EntryPoint = "waitpid", SetLastError = true)]
    public static partial int WaitPid(int pid, int* status, int options);

    [LibraryImport("libc", EntryPoint = "syscall", SetLastError = true)]
    private static partial nint SystemCall(nint number, nint first, nint second, nint third, nint fourth);

    /// <summary>A descriptor that names one process for good (pidfd_open(2), the same number on every architecture); negative where there is none.</summary>
    public static int OpenProcess(int pid)
    {
        const int openProcess = 434;
        return (int)SystemCall(openProcess, pid, 0, 0, 0);
    }

    /// <summary>pidfd_send_signal(2).</summary>
    /// <returns>Null, or why not.</returns>
    public static string? Signal(int process, int signal)
    {
        const int sendSignal = 424;
        return SystemCall(sendSignal, process, signal, 0, 0) == 0 ? null : LastError();
    }

    /// <summary>A process's descriptor can be read when it has ended (pidfd_open(2)).</summary>
    public static bool EndsWithin(int process, int milliseconds)
    {
        const short pollIn = 1;
        var entry = new PollEntry { Descriptor = process, Events = pollIn };
        return Poll(&entry, 1, milliseconds) > 0;
    }

    /// <summary>What the last call failed of, as the end of a sentence.</summary>
    public static string LastError() => Marshal.GetLastPInvokeErrorMessage() is { Length: > 0 } text ? char.ToLowerInvariant(text[0]) + text[1..] : "the system does not say why";

    /// <summary>Reads the beginning of a small file, such as those of /proc.</summary>
    /// <returns>How many bytes; negative where it can't be read.</returns>
    public static int ReadFile(string path, Span<byte> buffer)
    {
        fixed (byte* name = System.Text.Encoding.UTF8.GetBytes(path + '\0'), first = buffer)
        {
            var descriptor = Open(name, OpenReadOnly | OpenCloseOnExec);
            if (descriptor < 0)
            {
                return -1;
            }
            var length = 0;
            nint got;
            while (length < buffer.Length && (got = Read(descriptor, first + length, buffer.Length - length)) > 0)
            {
                length += (int)got;
            }
            _ = Close(descriptor);
            return length;
        }
    }

    /// <summary>A file in memory, without a name (memfd_create(2)).</summary>
    [LibraryImport("libc", EntryPoint = "memfd_create", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    public static partial int MemoryFile(string name, uint flags);

    /// <summary>Which = 0, who = 0: the thread that calls, and what it starts (setpriority(2)).</summary>
    [LibraryImport("libc", EntryPoint = "setpriority", SetLastError = true)]
    public static partial int SetPriority(int which, uint who, int priority);

    [LibraryImport("libc", EntryPoint = "prctl")]
    public static partial int Prctl(int option, nuint a, nuint b, nuint c, nuint d);

    [LibraryImport("libc", EntryPoint = "posix_spawnp")]
    public static partial int SpawnSearching(int* pid, byte* file, void* actions, void* attributes, byte** arguments, byte** environment);

    [LibraryImport("libc", EntryPoint = "posix_spawn_file_actions_init")]
    public static partial int ActionsInit(void* actions);

    [LibraryImport("libc", EntryPoint = "posix_spawn_file_actions_destroy")]
    public static partial int ActionsDestroy(void* actions);

    [LibraryImport("libc", EntryPoint = "posix_spawn_file_actions_addopen")]
    public static partial int ActionsOpen(void* actions, int descriptor, byte* path, int flags, int mode);

    [LibraryImport("libc", EntryPoint = "posix_spawn_file_actions_adddup2")]
    public static partial int ActionsDup2(void* actions, int from, int to);

    [LibraryImport("libc", EntryPoint = "posix_spawn_file_actions_addclosefrom_np")]
    public static partial int ActionsCloseFrom(void* actions, int first);

    [LibraryImport("libc", EntryPoint = "posix_spawn_file_actions_addchdir_np")]
    public static partial int ActionsChangeDirectory(void* actions, byte* path);

    [LibraryImport("libc", EntryPoint = "posix_spawnattr_init")]
    public static partial int AttributesInit(void* attributes);

    [LibraryImport("libc", EntryPoint = "posix_spawnattr_destroy")]
    public static partial int AttributesDestroy(void* attributes);

    [LibraryImport("libc", EntryPoint = "posix_spawnattr_setflags")]
    public static partial int AttributesSetFlags(void* attributes, short flags);

    [LibraryImport("libc", EntryPoint = "posix_spawnattr_setsigdefault")]
    public static partial int AttributesSetSigDefault(void* attributes, void* set);

    [LibraryImport("libc", EntryPoint = "posix_spawnattr_setsigmask")]
    public static partial int AttributesSetSigMask(void* attributes, void* set);

    [LibraryImport("libc", EntryPoint = "sigfillset")]
    public static partial int SigFillSet(void* set);

    [LibraryImport("libc", EntryPoint = "sigemptyset")]
    public static partial int SigEmptySet(void* set);
}
