using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;

namespace Umbrek.Wire.Enrolment;

/// <summary>What a new host sends. It is proven with the key that it made and the token that it was given.</summary>
/// <param name="PublicKey">P-256 SubjectPublicKeyInfo, DER.</param>
/// <param name="Proof">See <see cref="Umbrek.Core.Links.LinkProof.SignEnrolment"/>.</param>
/// <param name="HardwareId">The board's id, where the system shows one.</param>
/// <param name="AccessKey">The access key that the host made for the vault, when its installer asks for that.</param>
public sealed record EnrolmentRequest(
    string Token, string SystemName, string? MachineId, byte[] PublicKey, byte[] Proof, string AgentVersion,
    string? Label = null, string? HardwareId = null, string? AccessKey = null);

/// <param name="State">Joined, or waiting for a person; the agent runs either way and comes in once it may.</param>
/// <param name="ReleaseKey">P-256 SubjectPublicKeyInfo of the key that signs agent updates.</param>
public sealed record EnrolmentAnswer(Guid HostId, string Label, string GroupPath, EnrolmentState State, HostPolicy Policy, byte[] ReleaseKey);

/// <summary>What an installer is told to be. Left-out values: everything allowed, no access key, a week, any number of computers, no approval.</summary>
public sealed record NewInstaller(
    string GroupPath, string? Note = null, long? ExpiresInSeconds = null, int? MaxUses = null,
    HostPolicy? Policy = null, AccessKeyRule AccessKey = AccessKeyRule.None, bool ApprovalNeeded = false);

public enum InstallerState
{
    Valid,
    Expired,
    UsedUp,
    Revoked,
}

/// <param name="Uses">How many computers joined with it or wait to.</param>
/// <param name="Waiting">How many of them wait for a person.</param>
public sealed record InstallerInfo(
    Guid Id,
    string GroupPath,
    string? Note,
    InstallerState State,
    HostPolicy Policy,
    AccessKeyRule AccessKey,
    bool ApprovalNeeded,
    DateTimeOffset CreatedAt,
    string CreatedBy,
    DateTimeOffset? ExpiresAt,
    int? MaxUses,
    int Uses,
    int Waiting,
    DateTimeOffset? RevokedAt);

/// <summary>An installer with what it is handed out as. All of it holds the token: treat each like a key.</summary>
/// <param name="Link">A page for the person at the computer.</param>
/// <param name="Command">One line for a terminal that fetches, installs and joins.</param>
/// <param name="SilentCommand">The same for an agent program that is on the computer already.</param>
public sealed record InstallerDetail(InstallerInfo Info, string Token, string Link, string Command, string SilentCommand, IReadOnlyList<EnrolmentInfo> Enrolments);

/// <summary>One attempt to join.</summary>
/// <param name="Id">The id that the host has when it joins under an entry of its own.</param>
/// <param name="HostId">The host that it became.</param>
/// <param name="SameAs">The known host that this machine looks like.</param>
public sealed record EnrolmentInfo(
    Guid Id,
    Guid? InstallerId,
    string GroupPath,
    DateTimeOffset At,
    string? Address,
    string SystemName,
    string Label,
    string AgentVersion,
    EnrolmentState State,
    WaitingReason Why,
    string? Detail,
    Guid? HostId,
    KnownMachine? SameAs,
    DateTimeOffset? DecidedAt,
    string? DecidedBy);

public sealed record KnownMachine(Guid HostId, string Label, string GroupPath, bool Linked, DateTimeOffset LastSeenAt);

/// <summary>A decision on enrolments that wait.</summary>
public sealed record EnrolmentDecisionRequest(IReadOnlyList<Guid> Ids, EnrolmentDecision Decision);

/// <summary>Sent to live views when an enrolment comes in or is decided.</summary>
public sealed record EnrolmentPulse(int Waiting);

/// <summary>What an installer's page tells the person at the computer.</summary>
/// <param name="Refusal">Null, or why the installer lets nobody in any more.</param>
/// <param name="AgentVersion">Null when the service has no agent to give.</param>
/// <param name="AskedBy">The technician who made the installer.</param>
public sealed record InstallerOffer(
    string AskedBy, string Customer, string GroupPath, string? Note, HostPolicy Policy, AccessKeyRule AccessKey, bool ApprovalNeeded,
    DateTimeOffset? ExpiresAt, string? Refusal, string Command, string? AgentVersion, long AgentBytes, string AgentSha256);

/// <summary>What travels with an installer, so that nobody types it: a file of the package, readable by root alone.</summary>
public sealed record InstallerSettings(Uri Service, string Token, AccessKeyRule AccessKey);
