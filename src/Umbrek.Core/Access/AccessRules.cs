using Umbrek.Core.Estate;

namespace Umbrek.Core.Access;

/// <summary>A grant as it reaches one technician.</summary>
/// <param name="GroupPath">Where, and everything below; null is everything.</param>
/// <param name="EndsAt">From then on it gives nothing.</param>
/// <param name="Team">The team that it comes by; null for one of his own.</param>
public sealed record HeldGrant(Guid Id, Role Role, string? GroupPath, DateTimeOffset? EndsAt, string? Team)
{
    public bool IsLive(DateTimeOffset now) => EndsAt is not { } end || now < end;

    /// <summary>True when it reaches a place; null is everything, which only a grant on everything reaches.</summary>
    public bool Covers(string? place) => GroupPath is null || (place is not null && Estate.GroupPath.IsAtOrBelow(place, GroupPath));
}

public enum AccessReason
{
    Granted,

    /// <summary>No grant reaches the place.</summary>
    NoGrant,

    /// <summary>Grants reach it, and none of their roles holds the permission.</summary>
    RoleLacks,

    /// <summary>The grant that gave it has ended.</summary>
    Ended,

    /// <summary>The sign-in is one for less than its technician may do.</summary>
    SignInLacks,

    /// <summary>The host's own side does not allow it, whatever the technician may.</summary>
    HostPolicy,
}

/// <summary>Whether one thing is allowed, and by which grant or why not.</summary>
public sealed record AccessDecision(Permission Permission, AccessReason Reason, HeldGrant? Grant)
{
    public bool Allowed => Reason == AccessReason.Granted;
}

/// <summary>Who may do what, decided from grants alone.</summary>
public static class AccessRules
{
    /// <summary>May somebody who holds these grants do this at this place, and why (not)?</summary>
    /// <param name="place">A group's path (a host's is that of its group); null is everything.</param>
    /// <param name="policy">What the host's side allows, where the place is a host.</param>
    /// <param name="limit">What the sign-in is good for.</param>
    public static AccessDecision Decide(Permission permission, string? place, IEnumerable<HeldGrant> held, DateTimeOffset now, HostPolicy? policy = null, PermissionSet? limit = null)
    {
        HeldGrant? ended = null;
        HeldGrant? lacking = null;
        foreach (var grant in held.Where(g => g.Covers(place)))
        {
            var holds = grant.Role.Permissions.Contains(permission);
            if (holds && grant.IsLive(now))
            {
                return limit is { } most && !most.Contains(permission) ? new(permission, AccessReason.SignInLacks, grant)
                    : policy is not null && Act(permission) is { } act && !policy.Allows(act) ? new(permission, AccessReason.HostPolicy, grant)
                    : new(permission, AccessReason.Granted, grant);
            }
            if (holds && (ended is null || grant.EndsAt > ended.EndsAt))
            {
                ended = grant;
            }
            if (!holds && grant.IsLive(now))
            {
                lacking ??= grant;
            }
        }
        return ended is not null ? new(permission, AccessReason.Ended, ended)
            : lacking is not null ? new(permission, AccessReason.RoleLacks, lacking)
            : new(permission, AccessReason.NoGrant, null);
    }

    /// <summary>The act of a host policy that a permission is about; null for those that the host's side has no say in.</summary>
    public static HostAct? Act(Permission permission) => permission switch
    {
        Permission.Watch => HostAct.Watch,
        Permission.Control => HostAct.Control,
        Permission.Shell => HostAct.Shell,
        Permission.Run => HostAct.Run,
        Permission.ReadFiles => HostAct.ReadFiles,
        Permission.WriteFiles => HostAct.WriteFiles,
        Permission.Power => HostAct.Power,
        Permission.Software => HostAct.Software,
        _ => null,
    };

    /// <summary>
    /// May somebody move what stands at one place to another? Who configures both may, unless he would come to do more with it than
    /// before: then it takes somebody who says who gets in where it stands.
    /// </summary>
    public static bool MayMove(Reach reach, string from, string to) =>
        reach.May(Permission.Configure, from) && reach.May(Permission.Configure, to) && (reach.May(Permission.Administer, from) || reach.At(from).Includes(reach.At(to)));

    /// <summary>Nobody gives away more than he has himself.</summary>
    public static bool MayGive(Reach reach, PermissionSet permissions, string? place)
    {
        var own = place is null ? reach.Everywhere : reach.At(place);
        return own.Contains(Permission.Administer) && own.Includes(permissions);
    }

    /// <summary>Without somebody who administers everything, and for good, nobody could ever let anybody in again.</summary>
    public static bool IsLead(HeldGrant grant) => grant is { GroupPath: null, EndsAt: null } && grant.Role.Permissions.Contains(Permission.Administer);
}
