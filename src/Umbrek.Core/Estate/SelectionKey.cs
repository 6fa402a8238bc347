using Umbrek.Core.Inventory;

namespace Umbrek.Core.Estate;

/// <summary>A word of the selection language that names a property of a host.</summary>
/// <param name="Says">What it is, for completion and for the documents.</param>
/// <param name="Dimensions">What its figures may be measured in; empty for text.</param>
public sealed record SelectionKey(string Name, string Says, params Dimension[] Dimensions)
{
    /// <summary>The fact behind a text key.</summary>
    public string? Fact { get; init; }

    /// <summary>Text of the host itself.</summary>
    public Func<SelectableHost, string>? Text { get; init; }

    /// <summary>The figure in the dimension's base unit, or null when it is not known.</summary>
    public Func<SelectableHost, Dimension, DateTimeOffset, double?>? Figure { get; init; }

    /// <summary>Compared as versions: 0.9 is below 0.10.</summary>
    public bool IsVersion { get; init; }

    /// <summary>Without a figure there is none to speak of, rather than one that is not known.</summary>
    public bool MeansNoneWhenMissing { get; init; }

    public bool IsText => Dimensions.Length == 0;

    /// <summary>Every key; whoever stores hosts must know each of them.</summary>
    public static readonly IReadOnlyList<SelectionKey> All =
    [
        new("name", "the system's own name") { Text = h => h.SystemName },
        new("label", "the name that people gave it") { Text = h => h.Label },
        new("customer", "whose computer it is") { Text = h => GroupPath.Customer(h.GroupPath) },
        new("address", "one of its network addresses") { Fact = FactNames.Addresses },
        new("os", "the operating system") { Fact = FactNames.OsName },
        new("kernel", "the system's kernel") { Fact = FactNames.Kernel },
        new("architecture", "the processor's architecture") { Fact = FactNames.Architecture },
        new("maker", "who made the computer") { Fact = FactNames.Vendor },
        new("model", "which model it is") { Fact = FactNames.Model },
        new("agent", "the agent's version") { Text = h => h.AgentVersion, IsVersion = true },
        new("processor", "how busy all processors are", Dimension.Percent) { Figure = (h, _, _) => h.Health?.ProcessorPercent },
        new("processor.count", "how many processors it has", Dimension.Count) { Fact = FactNames.ProcessorCount, Figure = (h, _, _) => First(h, FactNames.ProcessorCount) },
        new("load", "the load average of one minute", Dimension.Count) { Figure = (h, _, _) => h.Health?.Load1 },
        new("memory.total", "how much memory it has", Dimension.Size) { Figure = (h, _, _) => h.Health?.MemoryTotalBytes },
        new("memory.free", "memory that programs can still get", Dimension.Size, Dimension.Percent) { Figure = (h, d, _) => d == Dimension.Size ? h.Health?.MemoryFreeBytes : h.Health?.MemoryFreePercent },
        new("memory.used", "memory in use", Dimension.Percent) { Figure = (h, _, _) => h.Health?.MemoryUsedPercent },
        new("storage.used", "how full the fullest file system is", Dimension.Percent) { Figure = (h, _, _) => h.Health?.StorageUsedPercent },
        new("storage.full-in", "how long until the fullest file system is full, if it goes on like this", Dimension.Time) { Figure = (h, _, now) => (h.StorageFullAt - now)?.TotalSeconds, MeansNoneWhenMissing = true },
        new("storage.free", "what is free on the fullest file system", Dimension.Size) { Figure = (h, _, _) => h.Health?.StorageFreeBytes },
        new("swap.used", "swap space in use", Dimension.Percent) { Figure = (h, _, _) => h.Health?.SwapUsedPercent, MeansNoneWhenMissing = true },
        new("temperature", "degrees Celsius of the hottest sensor", Dimension.Count) { Figure = (h, _, _) => h.Health?.TemperatureCelsius },
        new("service.failed", "a service that has failed") { Fact = FactNames.ServicesFailed },
        new("updates", "how many updates wait", Dimension.Count) { Fact = FactNames.UpdatesPending, Figure = (h, _, _) => First(h, FactNames.UpdatesPending) },
        new("updates.security", "how many of them close security holes", Dimension.Count) { Fact = FactNames.UpdatesSecurity, Figure = (h, _, _) => First(h, FactNames.UpdatesSecurity) },
        new("restart.needed", "yes when it has to be restarted for its updates to count") { Fact = FactNames.RestartNeeded },
        new("clock.off", "how far its clock is off", Dimension.Time) { Fact = FactNames.ClockOff, Figure = (h, _, _) => First(h, FactNames.ClockOff) },
        new("clock.side", "right, ahead or behind: to which side its clock is off") { Fact = FactNames.ClockSide },
        new("clock.kept", "yes when a time service keeps its clock right") { Fact = FactNames.ClockKept },
        new("unsteady", "yes while its link is lost again and again") { Fact = FactNames.Unsteady },
        new("up", "how long it has been up", Dimension.Time) { Figure = (h, _, _) => h.Health?.UptimeSeconds },
        new("seen", "how long ago it was last heard of; nothing for a linked one", Dimension.Time) { Figure = (h, _, now) => h.Presence == PresenceState.Linked ? 0 : (now - h.LastSeenAt).TotalSeconds },
        new("enrolled", "how long ago it joined", Dimension.Time) { Figure = (h, _, now) => (now - h.EnrolledAt).TotalSeconds },
    ];

    public static SelectionKey? Find(string word) => All.FirstOrDefault(k => string.Equals(k.Name, word, StringComparison.OrdinalIgnoreCase));

    private static double? First(SelectableHost host, string fact) => host.Fact(fact) is [var one, ..] ? one.Number : null;
}
