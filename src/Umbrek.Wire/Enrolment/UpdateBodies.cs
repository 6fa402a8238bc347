using Umbrek.Core.Enrolment;

namespace Umbrek.Wire.Enrolment;

/// <summary>An agent program that the service can give.</summary>
/// <param name="Hosts">How many hosts run it.</param>
public sealed record ReleaseInfo(string Version, string System, long Size, string Sha256, DateTimeOffset AddedAt, string AddedBy, bool Newest, int Hosts);

/// <param name="Version">Null is the newest.</param>
/// <param name="Waves">Like "1, 10%, rest"; null is that.</param>
/// <param name="FailuresAllowed">How many hosts may fail before it stops by itself.</param>
/// <param name="ReturnWithinSeconds">How long a host has to return; 60 to 3600.</param>
public sealed record NewRollout(string Selection, string? Version = null, string? Waves = null, int FailuresAllowed = 0, int ReturnWithinSeconds = 300);

/// <param name="Wave">The wave that is going on, from 1.</param>
public sealed record RolloutInfo(
    Guid Id, string Version, string Selection, RolloutState State, string? Reason, DateTimeOffset CreatedAt, string CreatedBy,
    int Wave, int Waves, int Hosts, int Updated, int Failed, int Waiting);

public sealed record RolloutHostInfo(Guid HostId, string Label, string GroupPath, int Wave, UpdateState State, string? Reason, DateTimeOffset? At);

public sealed record RolloutDetail(RolloutInfo Info, IReadOnlyList<RolloutHostInfo> Hosts);
