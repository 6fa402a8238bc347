using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Core.Jobs;
using Umbrek.Service.Audit;
using Umbrek.Service.Jobs;

namespace Umbrek.Service.Storage;

public sealed record PresenceChange(Guid HostId, Presence Presence, DateTimeOffset LastSeenAt, string? AgentVersion, string? SystemName, string? Address)
{
    public string? SystemNameKey => SystemName is null ? null : Wildcard.Fold(SystemName);
}

/// <summary>Everything that goes into the database in one transaction of the intake.</summary>
public sealed class BulkBatch
{
    public List<(Guid HostId, Sample Sample)> Samples { get; } = [];

    /// <summary>Roll-ups, which take the place of those that are there, and when file systems will be full.</summary>
    public List<RollupRow> Rollups { get; } = [];
    public List<(Guid HostId, DateTimeOffset? At)> StorageFull { get; } = [];
    public List<(Guid HostId, Fact Fact)> Facts { get; } = [];
    public List<RunOutputRow> Output { get; } = [];
    public Dictionary<Guid, RunMark> Runs { get; } = [];
    public List<PresenceChange> Presences { get; } = [];
    public List<(JobRow Job, IReadOnlyList<RunRow> Runs)> Jobs { get; } = [];

    /// <summary>Lines of the audit log, which are chained as they are written.</summary>
    public List<NewAuditLine> Audit { get; } = [];

    public bool IsEmpty => Samples.Count + Rollups.Count + StorageFull.Count + Facts.Count + Output.Count + Runs.Count + Presences.Count + Jobs.Count + Audit.Count == 0;
}

/// <summary>
/// Rows by the thousand, past the object mapper: what the intake writes. One maker for each database.
/// </summary>
public interface IBulkStore
{
    /// <summary>Writes the batch in one transaction; what is in the database already (same key) changes nothing.</summary>
    Task WriteAsync(BulkBatch batch, CancellationToken cancel);
}
