using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;

namespace Umbrek.Wire.Estate;

/// <summary>A page of a listing. Ask again with the cursor for the rest; null is the end.</summary>
public sealed record Page<T>(IReadOnlyList<T> Items, string? NextCursor, int Total);

/// <param name="Hosts">Hosts that stand right in it and that the caller may see.</param>
/// <param name="May">What the caller may do there.</param>
/// <param name="Version">For <c>If-Match</c> when the group is changed.</param>
public sealed record GroupInfo(Guid Id, Guid? ParentId, string Name, string Path, int Hosts, IReadOnlyList<Permission> May, long Version = 0);

/// <summary>A new group; without a parent path it is a customer.</summary>
public sealed record NewGroup(string Name, string? ParentPath = null);

/// <summary>A change to a group; what is null stays.</summary>
/// <param name="ParentPath">Where it goes, with everything in it.</param>
public sealed record GroupChange(string? Name = null, string? ParentPath = null);

/// <param name="Losses">How often contact was lost in the last quarter of an hour, while the link is unsteady; 0 for a steady one.</param>
public sealed record PresenceInfo(PresenceState State, AwayReason Reason, DateTimeOffset Since, int Losses = 0);

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
    string? StorageMount)
{
    public IReadOnlyList<string> Tags { get; init; } = [];
    public DateTimeOffset EnrolledAt { get; init; }
    public DateTimeOffset? RetiredAt { get; init; }
    public string? Kernel { get; init; }
    public string? Model { get; init; }
    public long? UptimeSeconds { get; init; }

    /// <summary>Alerts that are open or acknowledged, and how bad the worst of them is.</summary>
    public int Alerts { get; init; }
    public Core.Health.Severity? Worst { get; init; }
}

/// <param name="Version">For <c>If-Match</c> when the host is changed.</param>
/// <param name="Own">Values of the customer's own fields.</param>
/// <param name="Fields">The customer's own fields.</param>
public sealed record HostDetail(
    HostSummary Summary,
    DateTimeOffset EnrolledAt,
    IReadOnlyList<Fact> Facts,
    Sample? LatestSample,
    HostPolicy Policy,
    string? Notes,
    IReadOnlyList<HostLink> Links,
    IReadOnlyDictionary<string, string> Own,
    IReadOnlyList<OwnFieldInfo> Fields,
    OwnMark Mine,
    long Version);

/// <summary>A place elsewhere that has to do with a host: its warranty, a page of the customer's.</summary>
public sealed record HostLink(string Title, string Url);

/// <summary>What the asking technician keeps of a host for himself.</summary>
/// <param name="Colour">One of <see cref="CustomerMark.Colours"/>.</param>
public sealed record OwnMark(bool Pinned, string? Colour = null, DateTimeOffset? OpenedAt = null);

/// <summary>A host that the asking technician pinned, coloured or opened.</summary>
public sealed record MarkedHost(Guid HostId, OwnMark Mark);

/// <summary>A change to a host; what is null stays.</summary>
/// <param name="Notes">Empty removes them.</param>
/// <param name="Tags">All tags it has from now on.</param>
/// <param name="Own">Values of the customer's own fields by the field's name; null or empty removes one.</param>
public sealed record HostChange(
    string? Label = null, string? GroupPath = null, string? Notes = null, IReadOnlyList<HostLink>? Links = null, IReadOnlyList<string>? Tags = null, IReadOnlyDictionary<string, string?>? Own = null);

/// <summary>One edit of many hosts, named by a selection or by their ids.</summary>
/// <param name="Preview">Only say what would change.</param>
public sealed record BulkEdit(
    string? Selection = null,
    IReadOnlyList<Guid>? HostIds = null,
    string? GroupPath = null,
    IReadOnlyList<string>? AddTags = null,
    IReadOnlyList<string>? RemoveTags = null,
    IReadOnlyDictionary<string, string?>? Own = null,
    bool Preview = false);

/// <param name="Changed">Hosts that changed, or would.</param>
/// <param name="Problems">Hosts that can't be changed so; when there are any, none is changed.</param>
public sealed record BulkOutcome(bool Preview, int Hosts, int Changed, IReadOnlyList<BulkChange> Changes, IReadOnlyList<BulkProblem> Problems);

public sealed record BulkChange(Guid HostId, string Label, string GroupPath, string What, string? Before, string? After);

public sealed record BulkProblem(Guid HostId, string Label, string GroupPath, string Problem);

/// <summary>Takes a host out of care, or puts it together with another.</summary>
/// <param name="Preview">Only say what would come of it.</param>
public sealed record HostEnd(bool Preview = false, string? Reason = null);

/// <param name="Into">The host that stays.</param>
public sealed record HostMerge(Guid Into, bool Preview = false);

/// <summary>What an act does to a host and to what is known of it, in sentences.</summary>
public sealed record HostOutlook(bool Done, IReadOnlyList<string> Says);

/// <summary>One line of a host's time line.</summary>
/// <param name="JobId">The job that it tells of.</param>
public sealed record TimelineEntry(DateTimeOffset At, HostEventKind Kind, string By, string Text, Guid? JobId = null);

/// <param name="Colour">One of <see cref="CustomerMark.Colours"/>; null follows from the name.</param>
/// <param name="Emblem">One of <see cref="CustomerMark.Emblems"/>; null follows from the name.</param>
public sealed record CustomerInfo(Guid Id, string Name, string? Contact, string? Address, string? Notes, string? Colour, string? Emblem, IReadOnlyList<OwnFieldInfo> Fields, int Hosts, long Version);

/// <summary>A change to a customer; what is null stays, what is empty is removed.</summary>
public sealed record CustomerChange(string? Contact = null, string? Address = null, string? Notes = null, string? Colour = null, string? Emblem = null);

public sealed record OwnFieldInfo(Guid Id, string Name, OwnFieldKind Kind, IReadOnlyList<string> Choices);

public sealed record NewOwnField(string Name, OwnFieldKind Kind, IReadOnlyList<string>? Choices = null);

/// <param name="Hosts">How many it names now; null when it can't be read any more.</param>
/// <param name="Problem">Why it can't be read any more.</param>
public sealed record SavedSelectionInfo(Guid Id, string Name, string Text, string? Note, int? Hosts, string? Problem, DateTimeOffset CreatedAt, string CreatedBy, long Version);

public sealed record NewSavedSelection(string Name, string Text, string? Note = null);

/// <summary>A selection as it was understood, and how many hosts it names now.</summary>
public sealed record SelectionCheck(string Selection, int Hosts);

/// <param name="Score">How well it fits; only its order means something.</param>
public sealed record FindHit(HostSummary Host, OwnMark Mine, int Score);

/// <summary>What changed since the last message of a live view of the estate.</summary>
/// <param name="Reset">True for the first message: forget what was shown before. The rest of the estate follows at once.</param>
/// <param name="Gone">Hosts that are no more.</param>
public sealed record EstateChanges(bool Reset, IReadOnlyList<HostSummary> Hosts, IReadOnlyList<Guid>? Gone = null);

/// <summary>Which hosts a selection names: all of them first, then those that come and go.</summary>
public sealed record SelectionChanges(bool Reset, IReadOnlyList<Guid> Added, IReadOnlyList<Guid> Removed);

/// <summary>What an import would do, or did.</summary>
/// <param name="Problems">Lines that are wrong; when there are any, nothing is imported.</param>
public sealed record ImportOutcome(bool Preview, int Lines, IReadOnlyList<ImportChange> Changes, IReadOnlyList<ImportProblem> Problems);

public sealed record ImportChange(int Line, string Says);

public sealed record ImportProblem(int Line, string Problem);

/// <summary>One line of the tree: a customer, a group, or a host in one.</summary>
/// <param name="Host">The host's label; null for the line of a customer or group.</param>
/// <param name="Own">Values of the customer's own fields.</param>
public sealed record TreeLine(
    string Group, string? Host = null, string? SystemName = null, Guid? Id = null, IReadOnlyList<string>? Tags = null, string? Notes = null,
    string? Contact = null, string? Address = null, string? Colour = null, string? Emblem = null, IReadOnlyDictionary<string, string>? Own = null);
