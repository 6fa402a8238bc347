namespace Umbrek.Wire.Enrolment;

/// <summary>What a new host sends. It is proven with the key that it made and the token that it was given.</summary>
/// <param name="PublicKey">P-256 SubjectPublicKeyInfo, DER.</param>
/// <param name="Proof">See <see cref="Umbrek.Core.Links.LinkProof.SignEnrolment"/>.</param>
public sealed record EnrolmentRequest(string Token, string SystemName, string? MachineId, byte[] PublicKey, byte[] Proof, string AgentVersion, string? Label = null);

public sealed record EnrolmentAnswer(Guid HostId, string Label, string GroupPath);

public sealed record NewEnrolmentToken(string GroupPath, string? Note = null, long? ExpiresInSeconds = null, int? MaxUses = null);

public enum EnrolmentTokenState
{
    Valid,
    Expired,
    UsedUp,
    Revoked,
}

public sealed record EnrolmentTokenInfo(
    Guid Id,
    string GroupPath,
    string? Note,
    EnrolmentTokenState State,
    DateTimeOffset CreatedAt,
    string CreatedBy,
    DateTimeOffset? ExpiresAt,
    int? MaxUses,
    int Uses,
    DateTimeOffset? RevokedAt);

/// <summary>A token just made. Its text is shown this once; the service keeps only a hash.</summary>
/// <param name="Command">The line that enrols a host and starts its agent.</param>
public sealed record CreatedEnrolmentToken(EnrolmentTokenInfo Info, string Token, string Command);
