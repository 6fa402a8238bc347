using System.Text.Json;

namespace Umbrek.Core.Inventory;

/// <summary>Something known of a host, and when it was learnt (UTC).</summary>
/// <param name="Name">Dotted lower-case name, for example <c>memory.total</c>; <see cref="FactNames"/> has those that every host reports.</param>
/// <param name="Value">Any JSON; sizes in bytes, times as RFC 3339.</param>
public sealed record Fact(string Name, JsonElement Value, DateTimeOffset LearntAt)
{
    public const int MaxNameLength = 80;
    public const int MaxValueLength = 8 * 1024;

    /// <summary>True for a name and a size that the service stores.</summary>
    public bool IsUsable() =>
        Name.Length is > 0 and <= MaxNameLength
        && Name.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c is '.' or '-')
        && Value.ValueKind != JsonValueKind.Undefined
        && Value.GetRawText().Length <= MaxValueLength;
}

/// <summary>The facts that every agent reports.</summary>
public static class FactNames
{
    /// <summary>All of them.</summary>
    public static readonly IReadOnlyList<string> All =
    [
        SystemName, MachineId, OsName, OsVersion, Kernel, Architecture, Vendor, Model, ProcessorModel, ProcessorCount, MemoryTotal, Disks, Addresses, BootedAt, Users, AgentVersion,
    ];

    /// <summary>What comes and goes: a host that has nothing to say of it may leave it out.</summary>
    public const string ServicesFailed = "services.failed";
    public const string UpdatesPending = "updates.pending";
    public const string UpdatesSecurity = "updates.security";
    public const string RestartNeeded = "restart.needed";

    /// <summary>Network cards with their addresses, written "52:54:00:12:34:56 10.20.1.15/24": by these a neighbour can wake the host.</summary>
    public const string NetworkCards = "network.cards";

    /// <summary>Whether the clock is kept right by a time service: yes or no.</summary>
    public const string ClockKept = "clock.kept";

    /// <summary>What the service itself finds: how many seconds the clock is off, and to which side (right, ahead, behind).</summary>
    public const string ClockOff = "clock.off";
    public const string ClockSide = "clock.side";

    /// <summary>What the service itself finds: yes while the link is lost again and again.</summary>
    public const string Unsteady = "link.unsteady";

    /// <summary>What a host can't say of itself.</summary>
    public static readonly IReadOnlyList<string> OfService = [ClockOff, ClockSide, Unsteady];

    public const string SystemName = "host.name";
    public const string MachineId = "host.machine-id";
    public const string OsName = "os.name";
    public const string OsVersion = "os.version";
    public const string Kernel = "os.kernel";
    public const string Architecture = "os.architecture";
    public const string Vendor = "hardware.vendor";
    public const string Model = "hardware.model";
    public const string ProcessorModel = "processor.model";
    public const string ProcessorCount = "processor.count";
    public const string MemoryTotal = "memory.total";
    public const string Disks = "storage.disks";
    public const string Addresses = "network.addresses";
    public const string BootedAt = "boot.time";
    public const string Users = "users.logged-in";
    public const string AgentVersion = "agent.version";
}
