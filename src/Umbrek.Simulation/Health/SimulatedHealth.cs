using Umbrek.Core.Health;
using Umbrek.Simulation.Estate;

namespace Umbrek.Simulation.Health;

/// <summary>
/// How a simulated host fares at any time: a function of host and time, so that its past can be told as well as its present.
/// </summary>
public static class SimulatedHealth
{
    private const long Gibi = 1L << 30;

    private static readonly DateTimeOffset Began = DateTimeOffset.UtcNow;

    public static Sample At(SimulatedHost host, DateTimeOffset time)
    {
        var hours = time.ToUnixTimeSeconds() / 3600.0;
        var busy = Busy(host, hours, time);
        var memory = MemoryTotal(host.Kind);
        var memoryUsed = 0.28 + 0.07 * (host.Number % 5) + 0.06 * Math.Sin(hours / 5 + host.Number) + busy / 900;
        var disk = DiskTotal(host.Kind);
        var diskUsed = DiskShare(host, time);
        return new Sample
        {
            At = time,
            ProcessorPercent = Math.Round(busy, 1),
            Load1 = Math.Round(busy / 100 * Processors(host.Kind) * 1.1, 2),
            Load5 = Math.Round(busy / 100 * Processors(host.Kind), 2),
            Load15 = Math.Round(busy / 100 * Processors(host.Kind) * 0.9, 2),
            MemoryTotalBytes = memory,
            MemoryAvailableBytes = (long)(memory * (1 - Math.Clamp(memoryUsed, 0.1, 0.95))),
            SwapTotalBytes = 2 * Gibi,
            SwapFreeBytes = 2 * Gibi - (long)(0.2 * Gibi * (host.Number % 4)),
            UptimeSeconds = (long)(time - BootedAt(host, time)).TotalSeconds,
            WaitingPercent = Math.Round(busy / 20, 1),
            StolenPercent = 0,
            DiskReadBytesPerSecond = Math.Round(busy * 2100),
            DiskWrittenBytesPerSecond = Math.Round(9000 + busy * 3300),
            TemperatureCelsius = Math.Round(Temperature(host, busy, hours), 1),
            Cores = [.. Enumerable.Range(0, Processors(host.Kind)).Select(n => Math.Round(Math.Clamp(busy + 8 * Math.Sin(hours * 40 + 2.1 * n), 0, 100), 1))],
            IdleSeconds = host.Person is null ? null : time.ToUnixTimeSeconds() / 7 * (host.Number + 3) % (host.Number % 3 == 1 ? 90 : 4000),
            Processes = 90 + host.Number % 40 + (int)busy,
            FileSystems = [new FileSystemSample("/", "ext4", disk, (long)(disk * diskUsed), (long)(disk * (1 - diskUsed)), Math.Round(diskUsed * 40, 1))],
            Interfaces = [new InterfaceSample("eth0", Math.Round(4000 + busy * 900), Math.Round(2500 + busy * 400), 0)],
        };
    }

    public static DateTimeOffset BootedAt(SimulatedHost host, DateTimeOffset now) =>
        new DateTimeOffset(now.Year, now.Month, now.Day, 4, host.Number % 60, 0, TimeSpan.Zero).AddDays(-1 - host.Number % 23);

    public static int Processors(HostKind kind) => kind switch
    {
        HostKind.Server or HostKind.Capture => 8,
        HostKind.Desktop => 4,
        _ => 2,
    };

    public static long MemoryTotal(HostKind kind) => kind switch
    {
        HostKind.Server => 32 * Gibi,
        HostKind.Capture => 16 * Gibi,
        HostKind.Desktop => 8 * Gibi,
        _ => 4 * Gibi,
    };

    public static long DiskTotal(HostKind kind) => kind switch
    {
        HostKind.Server => 2000 * Gibi,
        HostKind.Capture => 1000 * Gibi,
        HostKind.Desktop => 240 * Gibi,
        _ => 32 * Gibi,
    };

    private static double Busy(SimulatedHost host, double hours, DateTimeOffset time)
    {
        // People work by day; machines that measure do not care.
        var day = 0.5 + 0.5 * Math.Cos((time.TimeOfDay.TotalHours - 13) / 24 * 2 * Math.PI);
        var noise = Noise(host.Number, time.ToUnixTimeSeconds() / 15);
        var level = host switch
        {
            { Story: HostStory.RunsHot } => 91 + 4 * Math.Sin(hours * 3),
            { Kind: HostKind.Capture } => 30 + 20 * (1 - day),
            { Kind: HostKind.Server } => 12 + 14 * day,
            { Kind: HostKind.Desktop } => 3 + 22 * day,
            _ => 4 + 7 * day,
        };
        return Math.Clamp(level + (noise - 0.5) * 12, 0.3, 100);
    }

    private static double Temperature(SimulatedHost host, double busy, double hours) =>
        host.Story == HostStory.RunsHot ? 89 + 2 * Math.Sin(hours * 2) : 36 + busy / 4 + host.Number % 6;

    private static double DiskShare(SimulatedHost host, DateTimeOffset time)
    {
        if (host.Story == HostStory.DiskFills)
        {
            // 93 % when the simulation began and 3 % more each day: full in about two days, whenever that is.
            return Math.Clamp(0.93 + 0.03 * (time - Began).TotalDays, 0.2, 0.995);
        }
        return 0.18 + 0.09 * (host.Number % 7);
    }

    /// <summary>The same number in [0, 1) for the same host and moment (SplitMix64).</summary>
    private static double Noise(int host, long moment)
    {
        var z = unchecked((ulong)(moment * 1_000_003 + host) * 0x9E3779B97F4A7C15UL);
        z = unchecked((z ^ (z >> 30)) * 0xBF58476D1CE4E5B9UL);
        z = unchecked((z ^ (z >> 27)) * 0x94D049BB133111EBUL);
        return ((z ^ (z >> 31)) >> 11) / (double)(1UL << 53);
    }
}
