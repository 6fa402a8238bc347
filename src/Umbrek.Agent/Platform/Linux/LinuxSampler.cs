using System.Globalization;
using Umbrek.Core.Health;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Reads one health sample; keeps the counters of the last one for the rates.</summary>
internal sealed class LinuxSampler
{
    private static readonly HashSet<string> LocalFileSystems =
        new(["ext2", "ext3", "ext4", "xfs", "btrfs", "zfs", "f2fs", "jfs", "vfat", "exfat", "ntfs3", "overlay", "bcachefs"], StringComparer.Ordinal);

    private ProcessorShares? ticks;
    private ProcessorTicks[] cores = [];
    private (long Read, long Written)? disks;
    private DateTimeOffset disksAt;
    private Dictionary<string, (long Received, long Sent, long Errors)> traffic = [];
    private DateTimeOffset trafficAt;

    public Sample Take(DateTimeOffset now)
    {
        var memory = ReadMemory();
        var load = File.ReadAllText("/proc/loadavg").Split(' ');
        var uptime = File.ReadAllText("/proc/uptime").Split(' ')[0];
        var processor = ReadProcessor();
        var disk = ReadDisks(now);
        return new Sample
        {
            At = now,
            ProcessorPercent = Math.Round(processor.Busy, 1),
            WaitingPercent = processor.Waiting,
            StolenPercent = processor.Stolen,
            Load1 = Number(load[0]),
            Load5 = Number(load[1]),
            Load15 = Number(load[2]),
            MemoryTotalBytes = memory.GetValueOrDefault("MemTotal"),
            MemoryAvailableBytes = memory.GetValueOrDefault("MemAvailable"),
            SwapTotalBytes = memory.GetValueOrDefault("SwapTotal"),
            SwapFreeBytes = memory.GetValueOrDefault("SwapFree"),
            UptimeSeconds = (long)Number(uptime),
            DiskReadBytesPerSecond = disk?.Read,
            DiskWrittenBytesPerSecond = disk?.Written,
            TemperatureCelsius = ReadTemperature(),
            Cores = processor.Cores,
            IdleSeconds = ReadIdle(now),
            Processes = Directory.EnumerateDirectories("/proc").Count(d => char.IsAsciiDigit(d[6])),
            FileSystems = ReadFileSystems(),
            Interfaces = ReadTraffic(now),
        };
    }

    private (double Busy, double? Waiting, double? Stolen, IReadOnlyList<double> Cores) ReadProcessor()
    {
        // proc(5): the first line is of all processors together, the next ones of each.
        var lines = File.ReadLines("/proc/stat").TakeWhile(l => l.StartsWith("cpu", StringComparison.Ordinal)).Select(ReadTicks).ToList();
        var now = lines[0];
        var before = ticks;
        ticks = now;
        ProcessorTicks[] each = [.. lines.Skip(1).Select(l => l.Ticks)];
        // Where one came or went meanwhile, nobody can say which is which.
        var busy = cores.Length == each.Length && each.Length <= SampleRules.MostCores ? [.. cores.Zip(each, (a, b) => Math.Round(ProcessorTicks.BusyPercent(a, b), 1))] : Array.Empty<double>();
        cores = each;
        return before is not { } earlier ? (0, null, null, []) : (
            ProcessorTicks.BusyPercent(earlier.Ticks, now.Ticks), Share(now.Waiting - earlier.Waiting), Share(now.Stolen - earlier.Stolen), busy);

        double? Share(long part) => now.Ticks.Total - earlier.Ticks.Total is var all and > 0 ? Math.Round(Math.Clamp(100.0 * part / all, 0, 100), 1) : null;
    }

    /// <summary>Of the terminals at which somebody is logged in, how long ago the last key was pressed: reading sets a terminal's access time (tty(4)).</summary>
    private static long? ReadIdle(DateTimeOffset now)
    {
        long? least = null;
        foreach (var terminal in Logins.Read().Select(l => Path.Combine("/dev", l.Terminal)).Where(File.Exists))
        {
            var idle = (long)Math.Max(0, (now - new DateTimeOffset(File.GetLastAccessTimeUtc(terminal), TimeSpan.Zero)).TotalSeconds);
            least = least < idle ? least : idle;
        }
        return least;
    }

    private static ProcessorShares ReadTicks(string line)
    {
        // user nice system idle iowait irq softirq steal; guest times are in user already.
        var fields = line.Split(' ', StringSplitOptions.RemoveEmptyEntries).Skip(1).Take(8)
            .Select(f => long.Parse(f, CultureInfo.InvariantCulture)).ToArray();
        return new ProcessorShares(new ProcessorTicks(fields.Sum(), fields[3] + fields[4]), fields[4], fields[7]);
    }

    private readonly record struct ProcessorShares(ProcessorTicks Ticks, long Waiting, long Stolen);

    /// <summary>All whole disks together; sectors are 512 bytes whatever the disk's own are (iostats.rst of the kernel).</summary>
    private (double Read, double Written)? ReadDisks(DateTimeOffset now)
    {
        var (before, at) = (disks, disksAt);
        if (!File.Exists("/proc/diskstats"))
        {
            return null;
        }
        var (read, written) = (0L, 0L);
        foreach (var line in File.ReadLines("/proc/diskstats"))
        {
            var fields = line.Split(' ', StringSplitOptions.RemoveEmptyEntries);
            // What has a device beneath it is a disk: neither a part of one, nor one that is made of others.
            if (fields.Length >= 10 && Directory.Exists($"/sys/block/{fields[2]}/device"))
            {
                read += long.Parse(fields[5], CultureInfo.InvariantCulture) * 512;
                written += long.Parse(fields[9], CultureInfo.InvariantCulture) * 512;
            }
        }
        (disks, disksAt) = ((read, written), now);
        return before is not { } earlier ? null : (Math.Round(CounterRate.PerSecond(earlier.Read, read, now - at)), Math.Round(CounterRate.PerSecond(earlier.Written, written, now - at)));
    }

    /// <summary>The hottest sensor (hwmon and thermal in sysfs, millidegrees); null where there is none, as on virtual machines.</summary>
    private static double? ReadTemperature()
    {
        double? hottest = null;
        foreach (var file in Sensors("/sys/class/hwmon", "temp*_input").Concat(Sensors("/sys/class/thermal", "temp")))
        {
            if (LinuxPlatform.ReadLine(file) is { } text && long.TryParse(text, CultureInfo.InvariantCulture, out var millidegrees) && millidegrees is > 0 and < 200_000)
            {
                hottest = Math.Max(hottest ?? 0, millidegrees / 1000.0);
            }
        }
        return hottest;
    }

    private static IEnumerable<string> Sensors(string directory, string name) =>
        Directory.Exists(directory) ? Directory.EnumerateDirectories(directory).Where(d => name != "temp" || Path.GetFileName(d).StartsWith("thermal_zone", StringComparison.Ordinal)).SelectMany(d => Directory.EnumerateFiles(d, name)) : [];

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
                    found.Add(new FileSystemSample(mount, fields[2], drive.TotalSize, drive.TotalSize - drive.TotalFreeSpace, drive.AvailableFreeSpace, Native.InodesUsedPercent(mount)));
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
            var counters = (Received: long.Parse(fields[0], CultureInfo.InvariantCulture), Sent: long.Parse(fields[8], CultureInfo.InvariantCulture), Errors: long.Parse(fields[2], CultureInfo.InvariantCulture) + long.Parse(fields[10], CultureInfo.InvariantCulture));
            traffic[name] = counters;
            rates.Add(before.TryGetValue(name, out var old)
                ? new InterfaceSample(name, Math.Round(CounterRate.PerSecond(old.Received, counters.Received, elapsed)), Math.Round(CounterRate.PerSecond(old.Sent, counters.Sent, elapsed)), Math.Round(CounterRate.PerSecond(old.Errors, counters.Errors, elapsed), 2))
                : new InterfaceSample(name, 0, 0));
        }
        trafficAt = now;
        return rates;
    }

    private static double Number(string text) => double.Parse(text, CultureInfo.InvariantCulture);

    // Blanks in mount points are written as octal escapes (fstab(5)).
    private static string Unescape(string mount) => mount.Replace("\\040", " ").Replace("\\011", "\t").Replace("\\134", "\\");
}
