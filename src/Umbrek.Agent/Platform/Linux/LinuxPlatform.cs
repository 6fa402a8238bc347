using System.Globalization;
using System.Runtime.InteropServices;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>A real Linux host, read from /proc, /sys and /etc.</summary>
public sealed class LinuxPlatform : IHostPlatform
{
    private readonly LinuxSampler sampler = new();

    public string SystemName { get; } = ReadLine("/proc/sys/kernel/hostname") is { Length: > 0 } name ? name : Environment.MachineName;

    public string? MachineId { get; } = ReadLine("/etc/machine-id");

    public string AgentVersion => Hosting.AgentVersion.Text;

    public string? HardwareId { get; } = ReadLine("/sys/class/dmi/id/product_uuid");

    public string? BootId { get; } = ReadLine("/proc/sys/kernel/random/boot_id");

    public IReadOnlyList<Fact> GatherFacts(DateTimeOffset now) => LinuxFacts.Gather(this, now);

    public Sample TakeSample(DateTimeOffset now) => sampler.Take(now);

    public void StartKeeper(string runDirectory)
    {
        var program = Environment.ProcessPath ?? throw new IOException("The agent does not know its own file.");
        var error = Spawn.Start(program, [program, "keeper", runDirectory], "/", -1, -1, out var pid);
        if (error != 0)
        {
            throw new IOException($"A keeper could not be started: {Marshal.GetPInvokeErrorMessage(error)}.");
        }
        // Only so that it leaves no zombie while this agent lives; nothing depends on it.
        var reaper = new Thread(() => Reap(pid), 64 * 1024) { IsBackground = true, Name = "reap keeper" };
        reaper.Start();
    }

    public IAsyncEnumerable<ScanAnswer?> ScanAsync(ScanOrder order, CancellationToken cancel) =>
        new NetworkScan(TimeProvider.System, ReadNeighbours).RunAsync(order, cancel);

    public IAgentUpdate? Update(StateDirectory state) => InstalledUpdate.Find(state);

    public IPeopleHere People(StateDirectory state) => new LinuxPeople(state, ProgramName());

    public AwayReason StopReason() =>
        // The login manager forbids logins with this file as the first act of a shutdown (nologin(5)).
        File.Exists("/run/nologin") ? AwayReason.HostShuttingDown : AwayReason.AgentStopped;

    /// <summary>Hardware addresses by IPv4 address, from the neighbour table (proc(5), /proc/net/arp): entries that are complete.</summary>
    private static Dictionary<string, string> ReadNeighbours()
    {
        const string complete = "0x2";
        var known = new Dictionary<string, string>(StringComparer.Ordinal);
        try
        {
            foreach (var line in File.ReadLines("/proc/net/arp").Skip(1))
            {
                var fields = line.Split(' ', StringSplitOptions.RemoveEmptyEntries);
                if (fields.Length >= 4 && fields[2] == complete)
                {
                    known[fields[0]] = fields[3];
                }
            }
        }
        catch (IOException)
        {
            // No table, no addresses.
        }
        return known;
    }

    /// <summary>What a person here types to start this program.</summary>
    private static string ProgramName()
    {
        const string name = "umbrek-agent";
        string[] searched = ["/usr/local/bin", "/usr/bin", "/usr/local/sbin", "/usr/sbin"];
        return searched.Any(d => File.Exists(Path.Combine(d, name))) ? name : Environment.ProcessPath ?? name;
    }

    internal static string? ReadLine(string file)
    {
        try
        {
            return File.ReadLines(file).FirstOrDefault()?.Trim();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    private static unsafe void Reap(int pid)
    {
        int status;
        _ = Native.WaitPid(pid, &status, 0);
    }
}

/// <summary>Reads one health sample; keeps the counters of the last one for the rates.</summary>
internal sealed class LinuxSampler
{
    private static readonly HashSet<string> LocalFileSystems =
        new(["ext2", "ext3", "ext4", "xfs", "btrfs", "zfs", "f2fs", "jfs", "vfat", "exfat", "ntfs3", "overlay", "bcachefs"], StringComparer.Ordinal);

    private ProcessorTicks? ticks;
    private Dictionary<string, (long Received, long Sent)> traffic = [];
    private DateTimeOffset trafficAt;

    public Sample Take(DateTimeOffset now)
    {
        var memory = ReadMemory();
        var load = File.ReadAllText("/proc/loadavg").Split(' ');
        var uptime = File.ReadAllText("/proc/uptime").Split(' ')[0];
        return new Sample
        {
            At = now,
            ProcessorPercent = Math.Round(ReadProcessor(), 1),
            Load1 = Number(load[0]),
            Load5 = Number(load[1]),
            Load15 = Number(load[2]),
            MemoryTotalBytes = memory.GetValueOrDefault("MemTotal"),
            MemoryAvailableBytes = memory.GetValueOrDefault("MemAvailable"),
            SwapTotalBytes = memory.GetValueOrDefault("SwapTotal"),
            SwapFreeBytes = memory.GetValueOrDefault("SwapFree"),
            UptimeSeconds = (long)Number(uptime),
            FileSystems = ReadFileSystems(),
            Interfaces = ReadTraffic(now),
        };
    }

    private double ReadProcessor()
    {
        var now = ReadTicks();
        var percent = ticks is { } before ? ProcessorTicks.BusyPercent(before, now) : 0;
        ticks = now;
        return percent;
    }

    private static ProcessorTicks ReadTicks()
    {
        // proc(5), first line: user nice system idle iowait irq softirq steal; guest times are in user already.
        var fields = File.ReadLines("/proc/stat").First().Split(' ', StringSplitOptions.RemoveEmptyEntries).Skip(1).Take(8)
            .Select(f => long.Parse(f, CultureInfo.InvariantCulture)).ToArray();
        return new ProcessorTicks(fields.Sum(), fields[3] + fields[4]);
    }

    internal static Dictionary<string, long> ReadMemory()
    {
        var memory = new Dictionary<string, long>(StringComparer.Ordinal);
        foreach (var line in File.ReadLines("/proc/meminfo"))
        {
            var parts = line.Split([':', ' '], StringSplitOptions.RemoveEmptyEntries);
            if (parts.Length >= 2 && long.TryParse(parts[1], CultureInfo.InvariantCulture, out var kibibytes))
            {
                memory[parts[0]] = kibibytes * 1024;
            }
        }
        return memory;
    }

    internal static List<FileSystemSample> ReadFileSystems()
    {
        var found = new List<FileSystemSample>();
        var devices = new HashSet<string>(StringComparer.Ordinal);
        foreach (var line in File.ReadLines("/proc/self/mounts"))
        {
            var fields = line.Split(' ');
            if (fields.Length < 3 || !LocalFileSystems.Contains(fields[2]) || !devices.Add(fields[0]) || found.Count == 32)
            {
                continue;
            }
            try
            {
                var mount = Unescape(fields[1]);
                var drive = new DriveInfo(mount);
                if (drive.TotalSize > 0)
                {
                    found.Add(new FileSystemSample(mount, fields[2], drive.TotalSize, drive.TotalSize - drive.TotalFreeSpace, drive.AvailableFreeSpace));
                }
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException or ArgumentException)
            {
                // Unmounted meanwhile, or not ours to see.
            }
        }
        return found;
    }

    private List<InterfaceSample> ReadTraffic(DateTimeOffset now)
    {
        var before = traffic;
        var elapsed = now - trafficAt;
        traffic = [];
        var rates = new List<InterfaceSample>();
        foreach (var line in File.ReadLines("/proc/net/dev").Skip(2))
        {
            var colon = line.IndexOf(':');
            var name = line[..colon].Trim();
            var fields = line[(colon + 1)..].Split(' ', StringSplitOptions.RemoveEmptyEntries);
            if (name == "lo" || rates.Count == 32)
            {
                continue;
            }
            var counters = (Received: long.Parse(fields[0], CultureInfo.InvariantCulture), Sent: long.Parse(fields[8], CultureInfo.InvariantCulture));
            traffic[name] = counters;
            rates.Add(before.TryGetValue(name, out var old)
                ? new InterfaceSample(name, Math.Round(CounterRate.PerSecond(old.Received, counters.Received, elapsed)), Math.Round(CounterRate.PerSecond(old.Sent, counters.Sent, elapsed)))
                : new InterfaceSample(name, 0, 0));
        }
        trafficAt = now;
        return rates;
    }

    private static double Number(string text) => double.Parse(text, CultureInfo.InvariantCulture);

    // Blanks in mount points are written as octal escapes (fstab(5)).
    private static string Unescape(string mount) => mount.Replace("\\040", " ").Replace("\\011", "\t").Replace("\\134", "\\");
}
