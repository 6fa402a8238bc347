using System.Buffers.Text;
using System.Globalization;
using System.IO.Enumeration;
using System.Text;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Reads processes from /proc (proc(5)): two small files of each, and the command line of those that are new.</summary>
internal sealed class LinuxProcesses : IProcessReader
{
    private const int LongestCommandLine = 4096;

    /// <summary>USER_HZ, which is 100 wherever Linux runs as a general-purpose system (time(7)).</summary>
    private const double TicksPerSecond = 100;

    private readonly byte[] buffer = new byte[LongestCommandLine];
    private readonly Dictionary<uint, string> users = [];
    private readonly long bootSeconds = ReadNumber("/proc/stat", "btime ");
    private readonly long memoryBytes = ReadNumber("/proc/meminfo", "MemTotal:") * 1024;
    private Dictionary<int, Known> known = [];
    private DateTimeOffset readAt;

    private sealed record Known(long Start, string Name, string? CommandLine, long Ticks);

    public ProcessReading Read(DateTimeOffset now)
    {
        var seconds = (now - readAt).TotalSeconds;
        var next = new Dictionary<int, Known>(known.Count + 16);
        var processes = new List<HostProcess>(known.Count + 16);
        foreach (var pid in Ids())
        {
            if (ReadOne(pid, seconds, out var seen) is { } process)
            {
                processes.Add(process);
                next[pid] = seen;
            }
        }
        (known, readAt) = (next, now);
        processes.Sort((a, b) => a.Pid.CompareTo(b.Pid));
        return new ProcessReading(now, LinuxPlatform.ReadLine("/proc/sys/kernel/random/boot_id") ?? "", Environment.ProcessorCount, memoryBytes, processes);
    }

    /// <summary>When a process began, in ticks since the boot; null when there is none of that id.</summary>
    public static long? StartOf(int pid)
    {
        Span<byte> stat = stackalloc byte[1024];
        var length = Native.ReadFile($"/proc/{pid}/stat", stat);
        return length > 0 && Fields(stat[..length], out _, out var fields) ? fields.Start : null;
    }

    private static FileSystemEnumerable<int> Ids() => new("/proc", (ref FileSystemEntry entry) => int.Parse(entry.FileName, CultureInfo.InvariantCulture))
    {
        ShouldIncludePredicate = (ref FileSystemEntry entry) => char.IsAsciiDigit(entry.FileName[0]),
    };

    private HostProcess? ReadOne(int pid, double seconds, out Known seen)
    {
        seen = null!;
        var length = Native.ReadFile($"/proc/{pid}/stat", buffer);
        if (length <= 0 || !Fields(buffer.AsSpan(0, length), out var nameBytes, out var fields))
        {
            // It ended meanwhile.
            return null;
        }
        var before = known.GetValueOrDefault(pid);
        if (before is not null && before.Start != fields.Start)
        {
            before = null;
        }
        var name = before is not null && Same(before.Name, nameBytes) ? before.Name : Encoding.UTF8.GetString(nameBytes);
        // Another program in the same process has another name; the length of its command line need not be looked at again.
        var commandLine = before is not null && ReferenceEquals(before.Name, name) ? before.CommandLine : ReadCommandLine(pid);
        seen = new Known(fields.Start, name, commandLine, fields.Ticks);
        return new HostProcess(
            pid, fields.Parent, fields.Start, DateTimeOffset.FromUnixTimeMilliseconds(bootSeconds * 1000 + fields.Start * 10), UserOf(pid), name, commandLine, StateWord(fields.State), fields.Niceness, fields.Threads,
            fields.Pages * Environment.SystemPageSize, fields.Ticks / TicksPerSecond,
            before is null || seconds <= 0 ? null : Math.Round(Math.Max(0, fields.Ticks - before.Ticks) / TicksPerSecond / seconds * 100, 1));
    }

    private static bool Same(string name, ReadOnlySpan<byte> bytes) => Ascii.Equals(bytes, name.AsSpan());

    private string? ReadCommandLine(int pid)
    {
        var length = Native.ReadFile($"/proc/{pid}/cmdline", buffer);
        var text = buffer.AsSpan(0, Math.Max(0, length)).TrimEnd((byte)0);
        if (text.IsEmpty)
        {
            return null;
        }
        // A character that the end of the buffer cuts is left out.
        var line = Encoding.UTF8.GetString(text).Replace('\0', ' ');
        return length == LongestCommandLine ? line.TrimEnd('\uFFFD') + "…" : line;
    }

    private string UserOf(int pid)
    {
        uint id;
        try
        {
            id = FileOwner.Of($"/proc/{pid}").UserId;
        }
        catch (IOException)
        {
            return "";
        }
        return users.TryGetValue(id, out var name) ? name : users[id] = Native.NameOfUser(id) ?? id.ToString(CultureInfo.InvariantCulture);
    }

    private readonly record struct Stat(byte State, int Parent, long Ticks, int Niceness, int Threads, long Start, long Pages);

    /// <summary>pid (comm) state ppid …: comm may hold anything, so its last parenthesis counts.</summary>
    private static bool Fields(ReadOnlySpan<byte> stat, out ReadOnlySpan<byte> name, out Stat fields)
    {
        const int parent = 1, user = 11, system = 12, niceness = 16, threads = 17, start = 19, pages = 21;
        name = default;
        fields = default;
        var open = stat.IndexOf((byte)'(');
        var close = stat.LastIndexOf((byte)')');
        if (open < 0 || close < open)
        {
            return false;
        }
        name = stat[(open + 1)..close];
        Span<long> numbers = stackalloc long[pages + 1];
        var rest = stat[(close + 2)..];
        var state = rest[0];
        for (var i = 0; i <= pages; i++)
        {
            if (i > 0 && !Utf8Parser.TryParse(rest, out numbers[i], out _))
            {
                return false;
            }
            rest = rest[(rest.IndexOf((byte)' ') + 1)..];
        }
        fields = new Stat(state, (int)numbers[parent], numbers[user] + numbers[system], (int)numbers[niceness], (int)numbers[threads], numbers[start], numbers[pages]);
        return true;
    }

    private static string StateWord(byte letter) => letter switch
    {
        (byte)'R' => "running",
        (byte)'D' => "waiting",
        (byte)'T' or (byte)'t' => "stopped",
        (byte)'Z' or (byte)'X' => "ended",
        (byte)'I' => "idle",
        _ => "sleeping",
    };

    private static long ReadNumber(string file, string label) =>
        File.ReadLines(file).FirstOrDefault(l => l.StartsWith(label, StringComparison.Ordinal)) is { } line && long.TryParse(line[label.Length..].Trim().Split(' ')[0], CultureInfo.InvariantCulture, out var number) ? number : 0;
}
