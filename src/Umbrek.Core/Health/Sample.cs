namespace Umbrek.Core.Health;

/// <summary>One reading of a host's health. Sizes in bytes, rates in bytes per second, shares in percent of all processors.</summary>
public sealed record Sample
{
    public required DateTimeOffset At { get; init; }
    public double ProcessorPercent { get; init; }
    public double Load1 { get; init; }
    public double Load5 { get; init; }
    public double Load15 { get; init; }
    public long MemoryTotalBytes { get; init; }

    /// <summary>What programs could still get without swapping (the kernel's MemAvailable), not "free".</summary>
    public long MemoryAvailableBytes { get; init; }
    public long SwapTotalBytes { get; init; }
    public long SwapFreeBytes { get; init; }
    public long UptimeSeconds { get; init; }

    /// <summary>Of all processor time, what was spent waiting for disks; null where the system does not tell.</summary>
    public double? WaitingPercent { get; init; }

    /// <summary>Of all processor time, what the machine underneath gave to others.</summary>
    public double? StolenPercent { get; init; }

    /// <summary>All disks together.</summary>
    public double? DiskReadBytesPerSecond { get; init; }

    /// <inheritdoc cref="DiskReadBytesPerSecond"/>
    public double? DiskWrittenBytesPerSecond { get; init; }

    /// <summary>Of the hottest sensor.</summary>
    public double? TemperatureCelsius { get; init; }
    public int? Processes { get; init; }

    /// <summary>How long the person who did something last has done nothing; null when nobody is logged in, or the system does not tell.</summary>
    public long? IdleSeconds { get; init; }

    /// <summary>How busy each processor was, in percent, in the system's order; empty where it does not tell, and in the first sample.</summary>
    public IReadOnlyList<double> Cores { get; init => field = value ?? []; } = [];

    /// <summary>Never null, whatever was left out on the wire.</summary>
    public IReadOnlyList<FileSystemSample> FileSystems { get; init => field = value ?? []; } = [];
    /// <inheritdoc cref="FileSystems"/>
    public IReadOnlyList<InterfaceSample> Interfaces { get; init => field = value ?? []; } = [];

    public double MemoryUsedPercent =>
        MemoryTotalBytes <= 0 ? 0 : 100.0 * (MemoryTotalBytes - MemoryAvailableBytes) / MemoryTotalBytes;

    /// <summary>Null without swap space.</summary>
    public double? SwapUsedPercent => SwapTotalBytes <= 0 ? null : 100.0 * (SwapTotalBytes - SwapFreeBytes) / SwapTotalBytes;

    /// <summary>The fullest file system, or null when none is known.</summary>
    public FileSystemSample? Fullest => FileSystems.MaxBy(f => f.UsedPercent);
}

/// <param name="AvailableBytes">What an ordinary program may still write; the system's own reserve is not in it.</param>
public sealed record FileSystemSample(string MountPoint, string Type, long TotalBytes, long UsedBytes, long AvailableBytes, double? InodesUsedPercent = null)
{
    public double UsedPercent => UsedBytes + AvailableBytes <= 0 ? 0 : 100.0 * UsedBytes / (UsedBytes + AvailableBytes);
}

public sealed record InterfaceSample(string Name, double ReceivedBytesPerSecond, double SentBytesPerSecond, double? ErrorsPerSecond = null);
