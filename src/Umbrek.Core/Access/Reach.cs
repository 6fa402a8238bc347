using System.Collections.Concurrent;
using Umbrek.Core.Estate;

namespace Umbrek.Core.Access;

/// <summary>
/// What one technician may do where, made from his grants for the time until one of them ends. Asked for every host of every
/// listing, so each place is worked out once.
/// </summary>
public sealed class Reach
{
    private readonly ConcurrentDictionary<string, PermissionSet> known = new(StringComparer.Ordinal);
    private readonly HeldGrant[] below;
    private readonly PermissionSet limit;

    /// <param name="limit">What the sign-in is good for; without it, all that the grants give.</param>
    public Reach(IReadOnlyList<HeldGrant> held, DateTimeOffset now, PermissionSet? limit = null)
    {
        this.limit = limit ?? PermissionSet.All;
        Held = held;
        var live = held.Where(g => g.IsLive(now)).ToList();
        below = [.. live.Where(g => g.GroupPath is not null)];
        Everywhere = Join(live.Where(g => g.GroupPath is null));
        Anywhere = Join(live);
        ValidUntil = live.Min(g => g.EndsAt);
    }

    /// <summary>The service's own, for what nobody in particular asks.</summary>
    public static Reach Unlimited { get; } = new([new HeldGrant(Guid.Empty, Role.Lead, null, null, null)], DateTimeOffset.UnixEpoch);

    /// <summary>All grants, ended ones too.</summary>
    public IReadOnlyList<HeldGrant> Held { get; }

    /// <summary>What holds at every place, also at those that are still to be made.</summary>
    public PermissionSet Everywhere { get; }

    /// <summary>What holds at one place at least.</summary>
    public PermissionSet Anywhere { get; }

    /// <summary>When the next grant ends; null if none does.</summary>
    public DateTimeOffset? ValidUntil { get; }

    /// <summary>What the sign-in is good for.</summary>
    public PermissionSet Limit => limit;

    public PermissionSet At(string groupPath)
    {
        if (below.Length == 0)
        {
            return Everywhere;
        }
        return known.TryGetValue(groupPath, out var set) ? set : known[groupPath] = Everywhere | Join(below.Where(g => g.Covers(groupPath)));
    }

    public bool May(Permission permission, string groupPath) => Everywhere.Contains(permission) || At(groupPath).Contains(permission);

    /// <summary>True when the place itself may be seen, or a place below it, to which it leads.</summary>
    public bool Shows(string groupPath) =>
        May(Permission.See, groupPath) || (limit.Contains(Permission.See) && below.Any(g => g.Role.Permissions.Contains(Permission.See) && GroupPath.IsAtOrBelow(g.GroupPath!, groupPath)));

    private PermissionSet Join(IEnumerable<HeldGrant> grants) => grants.Aggregate(PermissionSet.None, (all, g) => all | g.Role.Permissions) & limit;
}
