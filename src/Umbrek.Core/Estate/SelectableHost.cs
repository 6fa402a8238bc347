namespace Umbrek.Core.Estate;

/// <summary>One value of a fact: its text, and its number when it is one.</summary>
public readonly record struct FactValue(string Text, double? Number = null);

/// <summary>One value of an own field of the customer: its text, and its number or day when the field holds those.</summary>
public sealed record OwnValue(string Field, string Text, double? Number = null, DateOnly? Day = null);

/// <summary>The figures of a host's latest sample that selections compare. Sizes in bytes.</summary>
public sealed record HealthFigures(double ProcessorPercent, double Load1, double MemoryUsedPercent, long MemoryTotalBytes, long MemoryFreeBytes, double? StorageUsedPercent, long? StorageFreeBytes, long UptimeSeconds, double? SwapUsedPercent = null, double? TemperatureCelsius = null)
{
    public double? MemoryFreePercent => MemoryTotalBytes <= 0 ? null : 100.0 * MemoryFreeBytes / MemoryTotalBytes;
}

/// <summary>What a selection can see of a host.</summary>
public sealed record SelectableHost(string SystemName, string Label, string GroupPath, PresenceState Presence)
{
    public DateTimeOffset LastSeenAt { get; init; }
    public DateTimeOffset EnrolledAt { get; init; }

    /// <summary>Why it is away.</summary>
    public AwayReason AwayFor { get; init; }

    /// <summary>When the fullest file system will be full, or null when it does not fill.</summary>
    public DateTimeOffset? StorageFullAt { get; init; }
    public string AgentVersion { get; init; } = "";
    public bool Retired { get; init; }
    public IReadOnlyList<string> Tags { get; init; } = [];
    public IReadOnlyList<OwnValue> Own { get; init; } = [];

    /// <summary>Null when no sample has come yet.</summary>
    public HealthFigures? Health { get; init; }

    /// <summary>When they were read.</summary>
    public DateTimeOffset? SampledAt { get; init; }

    /// <summary>Values by the fact's name (<see cref="Inventory.FactNames"/>).</summary>
    public IReadOnlyList<(string Name, IReadOnlyList<FactValue> Values)> Facts { get; init; } = [];

    public IReadOnlyList<FactValue> Fact(string name)
    {
        foreach (var (known, values) in Facts)
        {
            if (string.Equals(known, name, StringComparison.OrdinalIgnoreCase))
            {
                return values;
            }
        }
        return [];
    }
}
