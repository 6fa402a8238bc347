using Microsoft.AspNetCore.Identity;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;

namespace Umbrek.Service.Storage;

/// <summary>A person who signs in.</summary>
public sealed class Technician : IdentityUser<Guid>
{
    public DateTimeOffset CreatedAt { get; set; }
    public string Role { get; set; } = "lead";
}

/// <summary>A client's bearer token; only its hash is kept.</summary>
public sealed class AccessTokenRow
{
    public Guid Id { get; set; }
    public Guid TechnicianId { get; set; }
    public byte[] Sha256 { get; set; } = [];
    public string Device { get; set; } = "";
    public DateTimeOffset CreatedAt { get; set; }
    public DateTimeOffset ExpiresAt { get; set; }
}

/// <summary>A place in the tree; without a parent it is a customer.</summary>
public sealed class GroupRow
{
    public Guid Id { get; set; }
    public Guid? ParentId { get; set; }
    public string Name { get; set; } = "";

    /// <summary>Names from the customer down, joined by "/".</summary>
    public string Path { get; set; } = "";

    /// <summary>The path in upper case: two groups whose paths differ only in case would be mixed up.</summary>
    public string PathKey { get; set; } = "";
    public DateTimeOffset CreatedAt { get; set; }
}

public sealed class EnrolmentTokenRow
{
    public Guid Id { get; set; }
    public Guid GroupId { get; set; }
    public byte[] Sha256 { get; set; } = [];
    public string? Note { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public string CreatedBy { get; set; } = "";
    public DateTimeOffset? ExpiresAt { get; set; }
    public int? MaxUses { get; set; }
    public int Uses { get; set; }
    public DateTimeOffset? RevokedAt { get; set; }
}

public sealed class HostRow
{
    public Guid Id { get; set; }
    public Guid GroupId { get; set; }
    public string SystemName { get; set; } = "";
    public string Label { get; set; } = "";
    public string? MachineId { get; set; }

    /// <summary>SubjectPublicKeyInfo, DER.</summary>
    public byte[] PublicKey { get; set; } = [];
    public DateTimeOffset EnrolledAt { get; set; }
    public Guid EnrolledWith { get; set; }
    public string AgentVersion { get; set; } = "";
    public string? Address { get; set; }
    public DateTimeOffset LastSeenAt { get; set; }
    public PresenceState Presence { get; set; }
    public AwayReason PresenceReason { get; set; }
    public DateTimeOffset PresenceSince { get; set; }

    /// <summary>Counts edits by people; the agent's own reports leave it alone.</summary>
    public long Version { get; set; }
}

public sealed class FactRow
{
    public Guid HostId { get; set; }
    public string Name { get; set; } = "";
    public string Value { get; set; } = "";
    public DateTimeOffset LearntAt { get; set; }
}

public sealed class SampleRow
{
    public Guid HostId { get; set; }
    public DateTimeOffset At { get; set; }
    public double ProcessorPercent { get; set; }
    public double MemoryUsedPercent { get; set; }
    public double StorageUsedPercent { get; set; }
    public double Load1 { get; set; }

    /// <summary>The whole sample as JSON.</summary>
    public string Sample { get; set; } = "";
}

public sealed class JobRow
{
    public Guid Id { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public Guid CreatedById { get; set; }
    public string CreatedBy { get; set; } = "";
    public string? IdempotencyKey { get; set; }
    public string Selection { get; set; } = "";

    /// <summary>The <see cref="CommandSpec"/> as JSON.</summary>
    public string Command { get; set; } = "";
    public DateTimeOffset ExpiresAt { get; set; }
    public DateTimeOffset? CancelledAt { get; set; }
    public string? CancelledBy { get; set; }
}

public sealed class RunRow
{
    public Guid Id { get; set; }
    public Guid JobId { get; set; }
    public Guid HostId { get; set; }
    public RunState State { get; set; }
    public DateTimeOffset? CancelRequestedAt { get; set; }
    public DateTimeOffset? AcceptedAt { get; set; }
    public DateTimeOffset? StartedAt { get; set; }
    public DateTimeOffset? EndedAt { get; set; }
    public int? ExitStatus { get; set; }
    public string? Reason { get; set; }
    public string? User { get; set; }
    public long LastSequence { get; set; } = -1;
    public long StdoutBytes { get; set; }
    public long StderrBytes { get; set; }

    public RunStatus ToStatus() => new(State, AcceptedAt, StartedAt, EndedAt, ExitStatus, Reason, User, LastSequence, StdoutBytes, StderrBytes);
}

public sealed class RunOutputRow
{
    public Guid RunId { get; set; }
    public long Sequence { get; set; }
    public RunEventKind Stream { get; set; }
    public byte[] Data { get; set; } = [];
}
