using Umbrek.Core.Access;

namespace Umbrek.Wire.Access;

/// <summary>The host policy at a place.</summary>
/// <param name="Id">The group's or host's; null for everything.</param>
/// <param name="Place">The group's path or the host's label; null for everything.</param>
/// <param name="Own">What the place itself says.</param>
/// <param name="Wanted">What comes of it with all that is said above.</param>
/// <param name="From">Where each part of that comes from.</param>
/// <param name="Side">At a host: what its own side says, and allows.</param>
/// <param name="SameKeyAs">At a host: others that have the same access key, as far as the caller may see them.</param>
/// <param name="Version">For <c>If-Match</c> when it is changed; 0 where nothing was ever said.</param>
public sealed record PolicyInfo(
    Guid? Id, string? Place, HostPolicyPart Own, HostPolicy Wanted, PolicyFrom From, HostSide? Side, long Version, DateTimeOffset? ChangedAt = null, string? ChangedBy = null,
    IReadOnlyList<string>? SameKeyAs = null);

/// <summary>Places by name: "everything", a group's path or a host's label; null where nobody has said anything.</summary>
public sealed record PolicyFrom(string? Allowed, string? Consent, string? Notice, string? KeyFor, string? PutOffMinutes, string? Record, string? FileRoots, string? GiveScreen);

/// <summary>A place that says something of the policy.</summary>
/// <param name="IsHost">A host's own policy; otherwise a group's, or with no id everything's.</param>
public sealed record PolicyPlace(Guid? Id, bool IsHost, string Place, string? GroupPath, HostPolicyPart Own, HostPolicy Wanted, DateTimeOffset ChangedAt, string ChangedBy);
