using Umbrek.Core.Access;

namespace Umbrek.Wire.Access;

/// <summary>A secret for the vault, at a host or at a group.</summary>
/// <param name="Secret">At most 4096 characters; an access key has to pass the same check as on its host.</param>
/// <param name="Name">What a logon is called, like "local administrator"; an access key needs none.</param>
/// <param name="UserName">The name to log on with.</param>
public sealed record NewSecret(SecretKind Kind, string Secret, Guid? HostId = null, Guid? GroupId = null, string? Name = null, string? UserName = null, string? Note = null);

/// <summary>What changes of a secret; null stays. Another text is another version, and the ones before are kept.</summary>
public sealed record SecretChange(string? Secret = null, string? Name = null, string? UserName = null, string? Note = null);

/// <summary>A secret without its text.</summary>
/// <param name="Place">The host's label, or the group's path.</param>
/// <param name="GroupPath">The group that it stands at, or that its host stands in: permissions there count.</param>
/// <param name="Number">Of the version that counts.</param>
/// <param name="Version">For <c>If-Match</c>.</param>
public sealed record SecretInfo(
    Guid Id, SecretKind Kind, string Name, string? UserName, Guid? HostId, Guid? GroupId, string Place, string GroupPath, string? Note,
    int Number, DateTimeOffset CreatedAt, string CreatedBy, DateTimeOffset ChangedAt, string ChangedBy, long Version);

/// <summary>One text that a secret had, or has.</summary>
/// <param name="IsProposed">A key that was on its way to its host when something broke; it is tried first the next time.</param>
public sealed record SecretVersionInfo(int Number, DateTimeOffset CreatedAt, string CreatedBy, bool Counts, bool IsProposed);

public sealed record SecretDetail(SecretInfo Info, IReadOnlyList<SecretVersionInfo> Versions);

/// <param name="Reason">Why it has to be seen; it stands in the audit log.</param>
/// <param name="Number">Which version; null is the one that counts.</param>
public sealed record RevealRequest(string Reason, int? Number = null);

public sealed record RevealedSecret(string Secret, string? UserName, int Number);

/// <summary>How the vault stands.</summary>
/// <param name="Texts">All versions of all secrets.</param>
/// <param name="KeyMadeAt">When the key was made that they are encrypted with.</param>
public sealed record VaultState(int Secrets, int Texts, DateTimeOffset KeyMadeAt);

/// <param name="Passphrase">At least 16 characters; without it the backup is worth nothing.</param>
public sealed record VaultBackupRequest(string Passphrase);

/// <summary>All secrets, encrypted: PBKDF2 (RFC 8018) with HMAC-SHA-256 makes the key, AES-256-GCM encrypts (nonce of 12 bytes in front, tag of 16 behind).</summary>
/// <param name="Format">"umbrek vault backup".</param>
public sealed record VaultBackup(string Format, int FormatVersion, int Iterations, byte[] Salt, byte[] Data);

public sealed record VaultRestore(string Passphrase, VaultBackup Backup);

/// <param name="Kept">Secrets that are there already; they stay as they are.</param>
/// <param name="LeftOut">Places that do not exist here.</param>
public sealed record VaultRestored(int Restored, int Kept, IReadOnlyList<string> LeftOut);

/// <summary>What a backup holds of one secret.</summary>
public sealed record SavedSecret(SecretKind Kind, string Name, string? UserName, string? Note, Guid? HostId, string? HostLabel, string GroupPath, IReadOnlyList<SavedText> Texts);

public sealed record SavedText(string Secret, DateTimeOffset CreatedAt, string CreatedBy);

/// <summary>Other access keys for hosts; the service makes them, and they go into the vault.</summary>
/// <param name="EndSessions">Whether sessions end in which the key before was proven.</param>
public sealed record NewKeyRotation(string Selection, bool EndSessions = false);

/// <param name="Waiting">Hosts that are away; they have another key when they return.</param>
public sealed record KeyRotationInfo(Guid Id, string Selection, bool EndSessions, DateTimeOffset CreatedAt, string CreatedBy, bool IsOver, int Hosts, int Changed, int Failed, int Waiting, int Cancelled);

public sealed record KeyRotationHost(Guid HostId, string Label, string GroupPath, KeyRotationState State, string? Reason, DateTimeOffset? At);

public sealed record KeyRotationDetail(KeyRotationInfo Info, IReadOnlyList<KeyRotationHost> Hosts);
