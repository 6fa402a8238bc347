using System.Text.Json;
using Microsoft.AspNetCore.Identity;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Storage;

/// <summary>A person who signs in.</summary>
public sealed class Technician : IdentityUser<Guid>
{
    public DateTimeOffset CreatedAt { get; set; }

    /// <summary>How often in a row the account was locked; each time is longer.</summary>
    public int Lockouts { get; set; }

    /// <summary>The authenticator's secret in base 64 under the service's data protection; in force once <see cref="IdentityUser{TKey}.TwoFactorEnabled"/>.</summary>
    public string? ProtectedFactor { get; set; }

    /// <summary>The latest step whose code was taken.</summary>
    public long FactorStep { get; set; } = -1;

    /// <summary>Hashes of recovery codes that are left, in base 64 between blanks.</summary>
    public string RecoveryCodes { get; set; } = "";
}

/// <summary>A role of one's own; those that every service has are <see cref="Role.BuiltIn"/>.</summary>
public sealed class RoleRow
{
    public Guid Id { get; set; }
    public string Name { get; set; } = "";
    public string NameKey { get; set; } = "";

    /// <summary>Words of permissions, between blanks.</summary>
    public string Permissions { get; set; } = "";
    public string? Note { get; set; }
    public long Version { get; set; }
}

public sealed class TeamRow
{
    public Guid Id { get; set; }
    public string Name { get; set; } = "";
    public string NameKey { get; set; } = "";
}

public sealed class TeamMemberRow
{
    public Guid TeamId { get; set; }
    public Guid TechnicianId { get; set; }
}

/// <summary>A role for a technician or a team, on a group and below.</summary>
public sealed class GrantRow
{
    public Guid Id { get; set; }

    /// <summary>Either this or the team.</summary>
    public Guid? TechnicianId { get; set; }
    public Guid? TeamId { get; set; }
    public Guid RoleId { get; set; }

    /// <summary>Null is everything.</summary>
    public Guid? GroupId { get; set; }
    public DateTimeOffset? EndsAt { get; set; }
    public string? Note { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public string CreatedBy { get; set; } = "";
}

/// <summary>A browser, a client or a script that is signed in; of its token only the hash is kept.</summary>
public sealed class SignInRow
{
    public Guid Id { get; set; }
    public Guid TechnicianId { get; set; }
    public SignInKind Kind { get; set; }
    public byte[] Sha256 { get; set; } = [];
    public string Device { get; set; } = "";
    public string? Address { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public DateTimeOffset LastSeenAt { get; set; }
    public DateTimeOffset ExpiresAt { get; set; }

    /// <summary>The device that it was opened on; null for a script's token, and from before devices were known.</summary>
    public Guid? DeviceId { get; set; }

    /// <summary>Words of the permissions that it is good for, between blanks; null is all that its technician has.</summary>
    public string? Permissions { get; set; }
}

/// <summary>A device that a technician has signed in from.</summary>
public sealed class DeviceRow
{
    public Guid Id { get; set; }
    public Guid TechnicianId { get; set; }

    /// <summary>Of the key that it keeps.</summary>
    public byte[] Sha256 { get; set; } = [];
    public string Device { get; set; } = "";
    public string? Address { get; set; }
    public DateTimeOffset FirstSeenAt { get; set; }
    public DateTimeOffset LastSeenAt { get; set; }

    /// <summary>Its owner has said that it is his.</summary>
    public bool Confirmed { get; set; }

    /// <summary>Until then it is not asked for the second factor.</summary>
    public DateTimeOffset? FactorUntil { get; set; }
}

/// <summary>Something that holds for the whole service.</summary>
public sealed class SettingRow
{
    public string Name { get; set; } = "";
    public string Value { get; set; } = "";
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

    /// <summary>Counts edits.</summary>
    public long Version { get; set; }
}

/// <summary>What is kept of a customer beside its name.</summary>
public sealed class CustomerRow
{
    public Guid GroupId { get; set; }
    public string? Contact { get; set; }
    public string? Address { get; set; }
    public string? Notes { get; set; }

    /// <summary>One of <see cref="CustomerMark.Colours"/>; null follows from the name.</summary>
    public string? Colour { get; set; }

    /// <summary>One of <see cref="CustomerMark.Emblems"/>; null follows from the name.</summary>
    public string? Emblem { get; set; }
    public long Version { get; set; }
}

/// <summary>A field of a customer's own.</summary>
public sealed class OwnFieldRow
{
    public Guid Id { get; set; }
    public Guid CustomerId { get; set; }
    public string Name { get; set; } = "";
    public string NameKey { get; set; } = "";
    public OwnFieldKind Kind { get; set; }

    /// <summary>A JSON list of texts.</summary>
    public string Choices { get; set; } = "[]";
}

public sealed class OwnValueRow
{
    public Guid HostId { get; set; }
    public Guid FieldId { get; set; }
    public string Text { get; set; } = "";
    public string TextKey { get; set; } = "";
    public double? Number { get; set; }

    /// <summary>Days since 0001-01-01.</summary>
    public int? Day { get; set; }
}

public sealed class HostTagRow
{
    public Guid HostId { get; set; }

    /// <summary>The tag in upper case: two that differ only in case are one.</summary>
    public string Key { get; set; } = "";
    public string Tag { get; set; } = "";
}

/// <summary>A selection that is kept under a name.</summary>
public sealed class SavedSelectionRow
{
    public Guid Id { get; set; }
    public string Name { get; set; } = "";
    public string NameKey { get; set; } = "";
    public string Text { get; set; } = "";
    public string? Note { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public string CreatedBy { get; set; } = "";
    public long Version { get; set; }
}

/// <summary>One technician connected to one host.</summary>
public sealed class SessionRow
{
    public Guid Id { get; set; }
    public Guid HostId { get; set; }
    public Guid TechnicianId { get; set; }

    /// <summary>His name then: what was done stays told when he is gone.</summary>
    public string Technician { get; set; } = "";
    public string? Address { get; set; }
    public string? Reason { get; set; }
    public DateTimeOffset OpenedAt { get; set; }
    public DateTimeOffset? EndedAt { get; set; }
    public string? EndReason { get; set; }

    /// <summary>What somebody wrote about it, for whoever comes after him.</summary>
    public string? Note { get; set; }
}

/// <summary>A recorded shell or desktop; what was recorded lies in a file.</summary>
public sealed class RecordingRow
{
    public Guid Id { get; set; }
    public Guid SessionId { get; set; }
    public RecordingKind Kind { get; set; }
    public Guid? ShellId { get; set; }
    public Guid HostId { get; set; }
    public Guid TechnicianId { get; set; }

    /// <summary>His name then.</summary>
    public string Technician { get; set; } = "";
    public string CommandText { get; set; } = "";
    public string? User { get; set; }
    public bool IsTerminal { get; set; }
    public bool HasKeys { get; set; }
    public bool Continues { get; set; }
    public DateTimeOffset BeganAt { get; set; }
    public DateTimeOffset? EndedAt { get; set; }
    public long? Bytes { get; set; }

    /// <summary>Of its text, in hexadecimal digits.</summary>
    public string? Sha256 { get; set; }
}

/// <summary>Files and folders on their way to many hosts.</summary>
public sealed class ParcelRow
{
    public Guid Id { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public Guid CreatedById { get; set; }
    public string CreatedBy { get; set; } = "";
    public string? IdempotencyKey { get; set; }
    public string Name { get; set; } = "";
    public int Files { get; set; }
    public int Folders { get; set; }
    public int Links { get; set; }
    public long Bytes { get; set; }

    /// <summary>SHA-256 of its list and of its body, in hexadecimal digits, once all of it is there.</summary>
    public string? Digest { get; set; }
    public string? Body { get; set; }
    public DateTimeOffset KeptUntil { get; set; }
}

/// <summary>A folder that the service keeps.</summary>
public sealed class ShelfRow
{
    public Guid Id { get; set; }
    public string Name { get; set; } = "";
    public Guid GroupId { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public string CreatedBy { get; set; } = "";
}

/// <summary>Two folders that are kept in step.</summary>
public sealed class TwinRow
{
    public Guid Id { get; set; }
    public string Name { get; set; } = "";
    public DateTimeOffset CreatedAt { get; set; }
    public Guid CreatedById { get; set; }
    public string CreatedBy { get; set; } = "";

    /// <summary>Folders and rules, as JSON.</summary>
    public string Wish { get; set; } = "";

    /// <summary>The turn that goes on, or the last, as JSON.</summary>
    public string? Turn { get; set; }
}

/// <summary>What a place says of the host policy.</summary>
public sealed class PolicyRow
{
    /// <summary>The group's or the host's; empty for everything.</summary>
    public Guid Id { get; set; }
    public Guid? GroupId { get; set; }
    public Guid? HostId { get; set; }

    /// <summary>A <see cref="Core.Access.HostPolicyPart"/> as JSON.</summary>
    public string Part { get; set; } = "{}";
    public DateTimeOffset ChangedAt { get; set; }
    public string ChangedBy { get; set; } = "";
    public long Version { get; set; }
}

/// <summary>Something that happened to a host and has no table of its own.</summary>
public sealed class HostEventRow
{
    public Guid Id { get; set; }
    public Guid HostId { get; set; }
    public DateTimeOffset At { get; set; }
    public HostEventKind Kind { get; set; }
    public string By { get; set; } = "";
    public string Text { get; set; } = "";
}

/// <summary>What one technician keeps of a host for himself.</summary>
public sealed class OwnMarkRow
{
    public Guid TechnicianId { get; set; }
    public Guid HostId { get; set; }
    public bool Pinned { get; set; }
    public string? Colour { get; set; }
    public DateTimeOffset? OpenedAt { get; set; }
}

/// <summary>How a technician likes a page: a JSON text that the page understands.</summary>
public sealed class PreferenceRow
{
    public Guid TechnicianId { get; set; }
    public string Name { get; set; } = "";
    public string Value { get; set; } = "";
}

/// <summary>What computers join one group with: an enrolment token and what goes with it.</summary>
public sealed class InstallerRow
{
    public Guid Id { get; set; }
    public Guid GroupId { get; set; }

    /// <summary>Of the token's secret; what a host presents is looked up by it.</summary>
    public byte[] Sha256 { get; set; } = [];

    /// <summary>The token's text under the service's data protection, so that the installer can be handed out again.</summary>
    public string ProtectedToken { get; set; } = "";
    public string? Note { get; set; }

    /// <summary>The <see cref="Core.Access.HostPolicy"/> as JSON.</summary>
    public string Policy { get; set; } = "";
    public AccessKeyRule AccessKey { get; set; }
    public bool ApprovalNeeded { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public string CreatedBy { get; set; } = "";
    public DateTimeOffset? ExpiresAt { get; set; }
    public int? MaxUses { get; set; }
    public int Uses { get; set; }
    public DateTimeOffset? RevokedAt { get; set; }
}

/// <summary>One attempt to join; the host that comes of it has its id, unless it went on as a known one.</summary>
public sealed class EnrolmentRow
{
    public Guid Id { get; set; }

    /// <summary>Null for a machine that was split from a copied one.</summary>
    public Guid? InstallerId { get; set; }
    public Guid GroupId { get; set; }
    public DateTimeOffset At { get; set; }
    public string? Address { get; set; }
    public string SystemName { get; set; } = "";
    public string Label { get; set; } = "";
    public string? MachineId { get; set; }
    public string? HardwareId { get; set; }
    public string AgentVersion { get; set; } = "";

    /// <summary>SubjectPublicKeyInfo, DER; null for one that was refused.</summary>
    public byte[]? PublicKey { get; set; }
    public EnrolmentState State { get; set; }
    public WaitingReason Why { get; set; }
    public string? Detail { get; set; }
    public Guid? SameAsHostId { get; set; }
    public Guid? HostId { get; set; }
    public DateTimeOffset? DecidedAt { get; set; }
    public string? DecidedBy { get; set; }
}

/// <summary>An agent program that the service gives; its file lies in the data directory, or came with the service.</summary>
public sealed class ReleaseRow
{
    public Guid Id { get; set; }
    public string Version { get; set; } = "";
    public string System { get; set; } = "";
    public long Size { get; set; }
    public string Sha256 { get; set; } = "";
    public byte[] Signature { get; set; } = [];
    public DateTimeOffset AddedAt { get; set; }
    public string AddedBy { get; set; } = "";
}

/// <summary>An agent update of many hosts, in waves.</summary>
public sealed class RolloutRow
{
    public Guid Id { get; set; }
    public Guid ReleaseId { get; set; }
    public string Selection { get; set; } = "";
    public int FailuresAllowed { get; set; }
    public int ReturnWithinSeconds { get; set; }
    public RolloutState State { get; set; }
    public string? Reason { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public string CreatedBy { get; set; } = "";
}

public sealed class RolloutHostRow
{
    public Guid RolloutId { get; set; }
    public Guid HostId { get; set; }
    public int Wave { get; set; }
    public UpdateState State { get; set; }
    public int Attempts { get; set; }
    public string? Reason { get; set; }
    public DateTimeOffset? At { get; set; }
}

/// <summary>A look around from one host.</summary>
public sealed class ScanRow
{
    public Guid Id { get; set; }
    public Guid HostId { get; set; }
    public string Range { get; set; } = "";
    public string Ports { get; set; } = "";
    public int ProbesPerSecond { get; set; }
    public ScanState State { get; set; }
    public string? Problem { get; set; }
    public DateTimeOffset StartedAt { get; set; }
    public string StartedBy { get; set; } = "";
    public DateTimeOffset? EndedAt { get; set; }
    public int Probed { get; set; }
    public int Total { get; set; }
}

public sealed class ScanFindRow
{
    public Guid ScanId { get; set; }
    public string Address { get; set; } = "";
    public string? Name { get; set; }
    public string? HardwareAddress { get; set; }
    public string OpenPorts { get; set; } = "";
}

/// <summary>A secret of the vault; its texts stand in <see cref="SecretTextRow"/>.</summary>
public sealed class SecretRow
{
    public Guid Id { get; set; }

    /// <summary>The host that it belongs to, or the enrolment that is to become one; or <see cref="GroupId"/>.</summary>
    public Guid? HostId { get; set; }
    public Guid? GroupId { get; set; }

    /// <summary>A <see cref="Core.Access.SecretKind"/> by its word.</summary>
    public string Kind { get; set; } = "";
    public string Name { get; set; } = "";
    public string? UserName { get; set; }
    public string? Note { get; set; }

    /// <summary>The text that counts.</summary>
    public int Number { get; set; }

    /// <summary>From a version that kept the text here, under the service's data protection; until it is taken over at the next start.</summary>
    public string? Protected { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public string CreatedBy { get; set; } = "";
    public DateTimeOffset ChangedAt { get; set; }
    public string ChangedBy { get; set; } = "";
    public long Version { get; set; }
}

/// <summary>One text of a secret, encrypted with a key of the vault.</summary>
public sealed class SecretTextRow
{
    public Guid SecretId { get; set; }
    public int Number { get; set; }
    public Guid KeyId { get; set; }
    public byte[] Cipher { get; set; } = [];

    /// <summary>On its way to a host: it counts when the host has taken it.</summary>
    public bool IsProposed { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public string CreatedBy { get; set; } = "";
}

/// <summary>A key of the vault, encrypted under the service's data protection.</summary>
public sealed class VaultKeyRow
{
    public Guid Id { get; set; }
    public string Protected { get; set; } = "";
    public DateTimeOffset CreatedAt { get; set; }
}

/// <summary>Other access keys for the hosts of a selection.</summary>
public sealed class KeyRotationRow
{
    public Guid Id { get; set; }
    public string Selection { get; set; } = "";
    public bool EndSessions { get; set; }
    public bool IsOver { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public Guid CreatedById { get; set; }
    public string CreatedBy { get; set; } = "";
}

public sealed class KeyRotationHostRow
{
    public Guid RotationId { get; set; }
    public Guid HostId { get; set; }
    public Core.Access.KeyRotationState State { get; set; }
    public string? Reason { get; set; }
    public DateTimeOffset? At { get; set; }
}

/// <summary>A line of the audit log (<see cref="Core.Audit.AuditChain"/>).</summary>
public sealed class AuditRow
{
    public long Number { get; set; }
    public DateTimeOffset At { get; set; }
    public string Actor { get; set; } = "";
    public string? Address { get; set; }
    public string Action { get; set; } = "";
    public string Target { get; set; } = "";
    public string Detail { get; set; } = "";
    public byte[] Hash { get; set; } = [];
}

public sealed class HostRow
{
    public Guid Id { get; set; }
    public Guid GroupId { get; set; }
    public string SystemName
    {
        get;
        set
        {
            field = value;
            SystemNameKey = Wildcard.Fold(value);
        }
    } = "";

    public string Label
    {
        get;
        set
        {
            field = value;
            LabelKey = Wildcard.Fold(value);
        }
    } = "";

    /// <summary>Folded, for selections.</summary>
    public string SystemNameKey { get; set; } = "";

    /// <inheritdoc cref="SystemNameKey"/>
    public string LabelKey { get; set; } = "";
    public string? Notes { get; set; }

    /// <summary>A JSON list of <see cref="Wire.Estate.HostLink"/>.</summary>
    public string? Links { get; set; }
    public DateTimeOffset? RetiredAt { get; set; }
    public string? RetiredBy { get; set; }
    public string? MachineId { get; set; }

    /// <summary>The board's id, as it was when the host joined.</summary>
    public string? HardwareId { get; set; }

    /// <summary>What the host said of its side last: a <see cref="Core.Access.HostSide"/> as JSON. Null until it has.</summary>
    public string? Side { get; set; }

    /// <summary>What the host's side allowed when it joined: the <see cref="Core.Access.HostPolicy"/> as JSON.</summary>
    public string Policy { get; set; } = "";

    /// <summary>SubjectPublicKeyInfo, DER.</summary>
    public byte[] PublicKey { get; set; } = [];
    public DateTimeOffset EnrolledAt { get; set; }

    /// <summary>The installer; empty for a machine that was split from a copied one.</summary>
    public Guid EnrolledWith { get; set; }
    public string AgentVersion { get; set; } = "";
    public string? Address { get; set; }

    /// <summary>When the fullest file system will be full, if it goes on like this.</summary>
    public DateTimeOffset? StorageFullAt { get; set; }
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

/// <summary>One value of a fact, for selections (<see cref="Core.Inventory.FactValues"/>).</summary>
public sealed class FactValueRow
{
    public Guid HostId { get; set; }
    public string Name { get; set; } = "";
    public int Ordinal { get; set; }
    public string TextKey { get; set; } = "";
    public double? Number { get; set; }
}

public sealed class SampleRow
{
    public Guid HostId { get; set; }
    public DateTimeOffset At { get; set; }
    public double ProcessorPercent { get; set; }
    public double MemoryUsedPercent { get; set; }
    public double StorageUsedPercent { get; set; }
    public double Load1 { get; set; }
    public long MemoryTotalBytes { get; set; }
    public long MemoryFreeBytes { get; set; }

    /// <summary>Of the fullest file system; null when none is known.</summary>
    public long? StorageFreeBytes { get; set; }
    public long UptimeSeconds { get; set; }
    public double? SwapUsedPercent { get; set; }
    public double? TemperatureCelsius { get; set; }

    /// <summary>The whole sample as JSON.</summary>
    public string Sample { get; set; } = "";
}

/// <summary>What a part of time comes to on one host (<see cref="Core.Health.Rollup"/>).</summary>
public sealed class RollupRow
{
    public Guid HostId { get; set; }
    public Core.Health.RollupSpan Span { get; set; }

    /// <summary>Its beginning.</summary>
    public DateTimeOffset At { get; set; }
    public byte[] Figures { get; set; } = [];
}

/// <summary>A check of one's own.</summary>
public sealed class CheckRow
{
    public Guid Id { get; set; }

    /// <summary>Its word in lists and addresses, made of its name.</summary>
    public string Key { get; set; } = "";
    public string Name { get; set; } = "";
    public Core.Health.Subsystem Subsystem { get; set; }
    public Core.Health.Severity Severity { get; set; }
    public string When { get; set; } = "";
    public string? Until { get; set; }
    public double HoldSeconds { get; set; }
    public string? Follows { get; set; }
    public string? Fix { get; set; }

    /// <summary>What the hosts' agents look at, as JSON; <see cref="When"/> then holds limits to its figures.</summary>
    public string? Probe { get; set; }

    /// <summary>The group that it is for, with everything below; null is everything.</summary>
    public Guid? GroupId { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public string CreatedBy { get; set; } = "";
    public long Version { get; set; }
}

/// <summary>What the agent of one host found for its checks, as it was told last.</summary>
public sealed class ProbeStateRow
{
    public Guid HostId { get; set; }

    /// <summary>A list of results, as JSON.</summary>
    public string Results { get; set; } = "[]";
}

/// <summary>What one place says of a check otherwise; what is null comes from above.</summary>
public sealed class CheckSettingRow
{
    public Guid Id { get; set; }
    public string Check { get; set; } = "";
    public Guid? GroupId { get; set; }
    public Guid? HostId { get; set; }
    public bool? Off { get; set; }
    public Core.Health.Severity? Severity { get; set; }
    public string? When { get; set; }
    public string? Until { get; set; }
    public double? HoldSeconds { get; set; }
    public string? Note { get; set; }
    public DateTimeOffset ChangedAt { get; set; }
    public string ChangedBy { get; set; } = "";
}

public sealed class AlertRow
{
    public Guid Id { get; set; }
    public Guid HostId { get; set; }
    public string Check { get; set; } = "";
    public string CheckName { get; set; } = "";
    public Core.Health.Subsystem Subsystem { get; set; }
    public Core.Health.Severity Severity { get; set; }
    public Core.Health.AlertState State { get; set; }
    public DateTimeOffset RaisedAt { get; set; }
    public string What { get; set; } = "";
    public string? Follows { get; set; }
    public string? Fix { get; set; }

    /// <summary>When and by whom it came into its state; by nobody when it did so by itself.</summary>
    public DateTimeOffset StateAt { get; set; }
    public string? StateBy { get; set; }
    public DateTimeOffset? SnoozedUntil { get; set; }

    /// <summary>What was said with it: a note, or why it was dismissed.</summary>
    public string? Note { get; set; }
}

/// <summary>Who is told of which alerts, how and when.</summary>
public sealed class NoticeRow
{
    public Guid Id { get; set; }
    public string Name { get; set; } = "";

    /// <summary>The group whose hosts it is about, with everything below; null is everything.</summary>
    public Guid? GroupId { get; set; }

    /// <summary>Only hosts of this selection.</summary>
    public string? On { get; set; }
    public Core.Health.Severity AtLeast { get; set; }

    /// <summary>Words of subsystems, between blanks; null is all of them.</summary>
    public string? About { get; set; }
    public Core.Health.NoticeWay Way { get; set; }

    /// <summary>Its members get mail about hosts that they may see.</summary>
    public Guid? TeamId { get; set; }

    /// <summary>Mail addresses, between blanks.</summary>
    public string Addresses { get; set; } = "";
    public string? Url { get; set; }

    /// <summary>The secret that what goes to the web hook is signed with, under the service's data protection.</summary>
    public string? ProtectedSecret { get; set; }
    public double AfterSeconds { get; set; }

    /// <summary>Times of day, between blanks; null tells at once.</summary>
    public string? DigestAt { get; set; }
    public string? Quiet { get; set; }
    public string Zone { get; set; } = "UTC";
    public bool CriticalAlways { get; set; }
    public bool TellsEnd { get; set; }
    public bool Off { get; set; }
    public DateTimeOffset? DigestedAt { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public string CreatedBy { get; set; } = "";
    public long Version { get; set; }
}

/// <summary>What a notice has told of; gone when the end is told too, or need not be.</summary>
public sealed class NoticeToldRow
{
    public Guid NoticeId { get; set; }
    public Guid AlertId { get; set; }
    public DateTimeOffset At { get; set; }
}

/// <summary>One mail, or one call of a web hook, on its way.</summary>
public sealed class DeliveryRow
{
    public Guid Id { get; set; }
    public Guid NoticeId { get; set; }
    public Core.Health.NoticeWay Way { get; set; }
    public string To { get; set; } = "";
    public string Subject { get; set; } = "";

    /// <summary>The mail's text, or the event as JSON.</summary>
    public string Body { get; set; } = "";

    /// <summary>Mails about one thing stand together in a reader: what they hang on.</summary>
    public Guid? Thread { get; set; }
    public Core.Health.DeliveryState State { get; set; }
    public int Attempts { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public DateTimeOffset NextAt { get; set; }
    public DateTimeOffset? DoneAt { get; set; }
    public string? Problem { get; set; }
}

/// <summary>Which alerts a delivery is about.</summary>
public sealed class DeliveryAlertRow
{
    public Guid DeliveryId { get; set; }
    public Guid AlertId { get; set; }
}

/// <summary>A time in which alerts of hosts make no noise, once or again and again.</summary>
/// <summary>A script of the library that runs on a host when a check raises an alert there.</summary>
public sealed class ReactionRow
{
    public Guid Id { get; set; }
    public string Name { get; set; } = "";
    public string NameKey { get; set; } = "";
    public string Check { get; set; } = "";

    /// <summary>The group whose hosts it is for, with everything below; null is everything.</summary>
    public Guid? GroupId { get; set; }

    /// <summary>Or the one host.</summary>
    public Guid? HostId { get; set; }

    /// <summary>May be gone: then nothing runs, and it is said.</summary>
    public Guid ScriptId { get; set; }
    public int? Number { get; set; }

    /// <summary>Of its parameters by name, as JSON.</summary>
    public string Values { get; set; } = "{}";
    public double WaitSeconds { get; set; }
    public double SpacingSeconds { get; set; }
    public bool UsesVault { get; set; }
    public bool Off { get; set; }

    /// <summary>With whose grants it runs.</summary>
    public Guid OwnerId { get; set; }

    /// <summary>His name when he wrote it.</summary>
    public string Owner { get; set; } = "";

    /// <summary>Alerts that were raised before do not count.</summary>
    public DateTimeOffset Since { get; set; }
    public long Version { get; set; }

    public IReadOnlyDictionary<string, string> ReadValues() => JsonSerializer.Deserialize(Values, WireJson.Default.IReadOnlyDictionaryStringString)!;

    public Core.Health.ReactionTerms Terms => new(Since, TimeSpan.FromSeconds(WaitSeconds), TimeSpan.FromSeconds(SpacingSeconds));
}

/// <summary>What came of a reaction for one alert; each alert has it once.</summary>
public sealed class ReactionDoneRow
{
    public Guid ReactionId { get; set; }
    public Guid AlertId { get; set; }
    public Guid HostId { get; set; }
    public DateTimeOffset At { get; set; }

    /// <summary>Null when nothing was run.</summary>
    public Guid? JobId { get; set; }
    public string? Problem { get; set; }
}

public sealed class MaintenanceRow
{
    public Guid Id { get; set; }
    public string Name { get; set; } = "";

    /// <summary>The group whose hosts it is about, with everything below; null is everything.</summary>
    public Guid? GroupId { get; set; }

    /// <summary>Or the one host.</summary>
    public Guid? HostId { get; set; }

    /// <summary>Only hosts of this selection.</summary>
    public string? On { get; set; }

    /// <summary>In local time of the zone, like 2026-11-29T22:00.</summary>
    public string Starts { get; set; } = "";
    public string Zone { get; set; } = "UTC";
    public int Minutes { get; set; }

    /// <summary>A recurrence rule (RFC 5545 §3.3.10); null is once.</summary>
    public string? Rule { get; set; }
    public string? Note { get; set; }

    /// <summary>Nothing of it counts from then on.</summary>
    public DateTimeOffset? EndedAt { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public string CreatedBy { get; set; } = "";
    public long Version { get; set; }
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

    /// <summary>The access key of hosts that ask for one is proven from the vault.</summary>
    public bool UsesVault { get; set; }

    /// <summary>The <see cref="RunPace"/> as JSON; null means all at once.</summary>
    public string? Pace { get; set; }
    public Guid? AgainOf { get; set; }

    /// <summary>The script of the library that was run, its name then, and its version.</summary>
    public Guid? ScriptId { get; set; }
    public string? ScriptName { get; set; }
    public int? ScriptNumber { get; set; }
    public DateTimeOffset ExpiresAt { get; set; }
    public DateTimeOffset? CancelledAt { get; set; }
    public string? CancelledBy { get; set; }
}

/// <summary>A script of the library; its versions stand in <see cref="ScriptVersionRow"/>.</summary>
public sealed class ScriptRow
{
    public Guid Id { get; set; }
    public string Name { get; set; } = "";
    public string NameKey { get; set; } = "";
    public string? Description { get; set; }
    public Guid OwnerId { get; set; }

    /// <summary>His name when he got it.</summary>
    public string Owner { get; set; } = "";

    /// <summary>A list of <see cref="Wire.Jobs.ScriptShare"/> as JSON, without the teams' names.</summary>
    public string Sharing { get; set; } = "[]";
    public int Latest { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public DateTimeOffset ChangedAt { get; set; }
    public string ChangedBy { get; set; } = "";
    public long Version { get; set; }
}

/// <summary>Is written once and never changed.</summary>
public sealed class ScriptVersionRow
{
    public Guid ScriptId { get; set; }
    public int Number { get; set; }

    /// <summary>The <see cref="CommandSpec"/> as JSON.</summary>
    public string Command { get; set; } = "";

    /// <summary>A list of <see cref="ScriptParameter"/> as JSON.</summary>
    public string Parameters { get; set; } = "[]";
    public int Lines { get; set; }

    /// <summary>How many steps a runbook has; null for a script.</summary>
    public int? Steps { get; set; }
    public string? Note { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public string CreatedBy { get; set; } = "";
}

public sealed class RunRow
{
    public Guid Id { get; set; }
    public Guid JobId { get; set; }
    public Guid HostId { get; set; }
    public RunState State { get; set; }

    /// <summary>Its turn has not come: it is not sent, linked or not.</summary>
    public bool Held { get; set; }
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


    /// <summary>A list of <see cref="StepStatus"/> as JSON; null where the job is no runbook, or no step has begun.</summary>
    public string? Steps { get; set; }

    public RunStatus ToStatus() => new(State, AcceptedAt, StartedAt, EndedAt, ExitStatus, Reason, User, LastSequence, StdoutBytes, StderrBytes, ReadSteps());

    public IReadOnlyList<StepStatus>? ReadSteps() => Steps is null ? null : JsonSerializer.Deserialize(Steps, WireJson.Default.IReadOnlyListStepStatus);

    internal static string? WriteSteps(IReadOnlyList<StepStatus>? steps) => steps is null ? null : JsonSerializer.Serialize(steps, WireJson.Default.IReadOnlyListStepStatus);
}

public sealed class RunOutputRow
{
    public Guid RunId { get; set; }
    public long Sequence { get; set; }
    public RunEventKind Stream { get; set; }

    /// <summary>Whether the data is packed; see <see cref="OutputPacking"/>.</summary>
    public bool Packed { get; set; }
    public byte[] Data { get; set; } = [];
}
