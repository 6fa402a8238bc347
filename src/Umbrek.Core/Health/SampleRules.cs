namespace Umbrek.Core.Health;

/// <summary>Which samples the service takes.</summary>
public static class SampleRules
{
    /// <summary>How long an agent keeps samples while its link is down.</summary>
    public static readonly TimeSpan Backlog = TimeSpan.FromHours(24);

    /// <summary>How long raw samples are kept by the service.</summary>
    public static readonly TimeSpan RawRetention = TimeSpan.FromHours(48);

    /// <summary>How far ahead of the service's clock a sample may lie.</summary>
    public static readonly TimeSpan Ahead = TimeSpan.FromMinutes(5);

    /// <summary>Samples of one host that lie closer together are one too many.</summary>
    public static readonly TimeSpan LeastSpacing = TimeSpan.FromMilliseconds(500);

    /// <summary>Whether a sample is worth keeping after the one that came before it from the same host; older ones, which come late, are.</summary>
    public static bool IsApart(DateTimeOffset at, DateTimeOffset before) => at < before || at - before >= LeastSpacing;

    /// <summary>More processors are not told one by one.</summary>
    public const int MostCores = 512;
    public const int DefaultIntervalSeconds = 15;

    /// <summary>True for a sample with a believable time and finite figures.</summary>
    public static bool IsUsable(Sample sample, DateTimeOffset now) =>
        sample.At > now - RawRetention && sample.At < now + Ahead
        && double.IsFinite(sample.ProcessorPercent) && double.IsFinite(sample.Load1) && double.IsFinite(sample.Load5) && double.IsFinite(sample.Load15)
        && sample.MemoryTotalBytes >= 0
        && sample.Cores.Count <= MostCores && sample.Cores.All(c => c is >= 0 and <= 100) && sample.IdleSeconds is null or >= 0
        && sample.FileSystems.Count <= 64 && sample.Interfaces.Count <= 64
        && new[] { sample.WaitingPercent, sample.StolenPercent, sample.DiskReadBytesPerSecond, sample.DiskWrittenBytesPerSecond, sample.TemperatureCelsius }.All(v => v is null || double.IsFinite(v.Value))
        && sample.FileSystems.All(f => f is { MountPoint.Length: <= 200, Type: not null } && (f.InodesUsedPercent is null || double.IsFinite(f.InodesUsedPercent.Value)))
        && sample.Interfaces.All(i => i is { Name.Length: <= 200 } && (i.ErrorsPerSecond is null || double.IsFinite(i.ErrorsPerSecond.Value)) && double.IsFinite(i.ReceivedBytesPerSecond) && double.IsFinite(i.SentBytesPerSecond));
}
