using Umbrek.Core.Estate;

namespace Umbrek.Core.Health;

/// <summary>A figure that samples hold, kept over time and drawn in graphs.</summary>
/// <param name="code">Its number in stored roll-ups; never given to another.</param>
/// <param name="name">As graphs, exports and the API name it.</param>
/// <param name="unit">Rates are sizes or counts a second.</param>
public sealed class Metric(byte code, string name, string says, Dimension unit, Func<Sample, IEnumerable<(string Part, double Value)>> read)
{
    public byte Code { get; } = code;
    public string Name { get; } = name;
    public string Says { get; } = says;
    public Dimension Unit { get; } = unit;

    /// <summary>The figures of a sample; without parts the part is empty.</summary>
    public Func<Sample, IEnumerable<(string Part, double Value)>> Read { get; } = read;

    /// <summary>All of them; a new one is one line.</summary>
    public static readonly IReadOnlyList<Metric> All =
    [
        new(1, "processor", "how busy all processors are", Dimension.Percent, s => [("", s.ProcessorPercent)]),
        new(2, "processor.waiting", "time that processors wait for disks", Dimension.Percent, s => Known(s.WaitingPercent)),
        new(3, "processor.stolen", "time that the machine underneath gave to others", Dimension.Percent, s => Known(s.StolenPercent)),
        new(4, "load", "the load average of one minute", Dimension.Count, s => [("", s.Load1)]),
        new(5, "memory.used", "memory in use", Dimension.Percent, s => [("", s.MemoryUsedPercent)]),
        new(6, "memory.free", "memory that programs can still get", Dimension.Size, s => [("", s.MemoryAvailableBytes)]),
        new(7, "swap.used", "swap space in use", Dimension.Percent, s => Known(s.SwapUsedPercent)),
        new(8, "storage.used", "how full each file system is", Dimension.Percent, s => s.FileSystems.Select(f => (f.MountPoint, f.UsedPercent))),
        new(9, "storage.free", "what is free on each file system", Dimension.Size, s => s.FileSystems.Select(f => (f.MountPoint, (double)f.AvailableBytes))),
        new(10, "storage.inodes", "how many of each file system's inodes are taken", Dimension.Percent, s => s.FileSystems.Where(f => f.InodesUsedPercent is not null).Select(f => (f.MountPoint, f.InodesUsedPercent!.Value))),
        new(11, "disk.read", "bytes read from disks a second", Dimension.Size, s => Known(s.DiskReadBytesPerSecond)),
        new(12, "disk.written", "bytes written to disks a second", Dimension.Size, s => Known(s.DiskWrittenBytesPerSecond)),
        new(13, "network.received", "bytes received a second", Dimension.Size, s => s.Interfaces.Select(i => (i.Name, i.ReceivedBytesPerSecond))),
        new(14, "network.sent", "bytes sent a second", Dimension.Size, s => s.Interfaces.Select(i => (i.Name, i.SentBytesPerSecond))),
        new(15, "network.errors", "packets a second that arrived or left damaged", Dimension.Count, s => s.Interfaces.Where(i => i.ErrorsPerSecond is not null).Select(i => (i.Name, i.ErrorsPerSecond!.Value))),
        new(16, "temperature", "the hottest sensor, in degrees Celsius", Dimension.Count, s => Known(s.TemperatureCelsius)),
        new(17, "processes", "how many processes there are", Dimension.Count, s => Known(s.Processes)),
    ];

    private static readonly Metric?[] ByCode = MakeByCode();

    public static Metric? Find(string name) => All.FirstOrDefault(m => string.Equals(m.Name, name, StringComparison.OrdinalIgnoreCase));

    public static Metric? Find(byte code) => ByCode[code];

    private static IEnumerable<(string, double)> Known(double? value) => value is { } v ? [("", v)] : [];

    private static Metric?[] MakeByCode()
    {
        var table = new Metric?[256];
        foreach (var metric in All)
        {
            table[metric.Code] = metric;
        }
        return table;
    }
}
