using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;

namespace Umbrek.Wire.Estate;

/// <summary>A page of a listing. Ask again with the cursor for the rest; null is the end.</summary>
public sealed record Page<T>(IReadOnlyList<T> Items, string? NextCursor, int Total);

public sealed record GroupInfo(Guid Id, Guid? ParentId, string Name, string Path, int Hosts);

/// <summary>A new group; without a parent path it is a customer.</summary>
public sealed record NewGroup(string Name, string? ParentPath = null);

public sealed record PresenceInfo(PresenceState State, AwayReason Reason, DateTimeOffset Since);

/// <summary>One line of the estate: what a listing shows of a host.</summary>
public sealed record HostSummary(
    Guid Id,
    string SystemName,
    string Label,
    string GroupPath,
    PresenceInfo Presence,
    DateTimeOffset LastSeenAt,
    string? Os,
    string AgentVersion,
    string? Address,
    IReadOnlyList<string> Users,
    DateTimeOffset? SampledAt,
    double? ProcessorPercent,
    double? MemoryUsedPercent,
    double? StorageUsedPercent,
    string? StorageMount);

/// <param name="Version">For <c>If-Match</c> when the host is changed.</param>
public sealed record HostDetail(HostSummary Summary, DateTimeOffset EnrolledAt, IReadOnlyList<Fact> Facts, Sample? LatestSample, HostPolicy Policy, long Version);

/// <summary>A change to a host; what is null stays.</summary>
public sealed record HostChange(string? Label = null, string? GroupPath = null);

/// <summary>What changed since the last message of a live view of the estate.</summary>
/// <param name="Reset">True for the first message: forget what was shown before. The rest of the estate follows at once.</param>
public sealed record EstateChanges(bool Reset, IReadOnlyList<HostSummary> Hosts);

public sealed record SelectionCheck(string Selection, int Hosts);
