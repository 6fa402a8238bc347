using System.Runtime.InteropServices;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>The few calls of the C library that .NET does not have. Signatures as on 64-bit glibc 2.34 and newer.</summary>
internal static unsafe partial class Native
{
    public const int SigTerm = 15;
    public const int SigKill = 9;
    public const int PrSetChildSubreaper = 36;
    public const short SpawnSetSigMask = 0x08;
    public const short SpawnSetSigDef = 0x04;
    public const short SpawnSetSid = 0x80;
    public const int OpenReadOnly = 0;
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

    [LibraryImport("libc", EntryPoint = "close")]
    public static partial int Close(int descriptor);

    [LibraryImport("libc", EntryPoint = "kill", SetLastError = true)]
    public static partial int Kill(int pid, int signal);

    [LibraryImport("libc", EntryPoint = "waitpid", SetLastError = true)]
    public static partial int WaitPid(int pid, int* status, int options);

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
