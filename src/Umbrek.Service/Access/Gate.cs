using Umbrek.Core.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Access;

/// <summary>
/// Where a technician is let through, or told why not and who could change that. What he may not even see is for him as if it
/// were not there.
/// </summary>
public sealed class Gate(AccessIndex access, EstateIndex estate, TimeProvider time)
{
    /// <summary>The host, if he may do this with it.</summary>
    /// <exception cref="ProblemException">404 for one that he may not see, 403 for one that he may.</exception>
    public HostSummary Host(Asker by, Guid id, Permission permission)
    {
        var host = estate.Find(id);
        if (host is null || !by.Reach.May(Permission.See, host.GroupPath))
        {
            throw ProblemException.NotFound("host");
        }
        return by.Reach.May(permission, host.GroupPath) ? host : throw Refuse(by, permission, host.GroupPath, host.Label);
    }

    /// <summary>The group's path, if he may do this there.</summary>
    /// <exception cref="ProblemException">404 for one that he is not shown, 403 for one that he is.</exception>
    public string Group(Asker by, Guid id, Permission permission, string what = "group")
    {
        var path = access.PathOf(id);
        return path is not null && by.Reach.Shows(path) ? Place(by, path, permission) : throw ProblemException.NotFound(what);
    }

    /// <summary>Lets through who may do this at a group.</summary>
    public string Place(Asker by, string path, Permission permission) => by.Reach.May(permission, path) ? path : throw Refuse(by, permission, path, path);

    /// <summary>Lets through who may do this everywhere.</summary>
    public void Everywhere(Asker by, Permission permission)
    {
        if (!by.Reach.Everywhere.Contains(permission))
        {
            throw Refuse(by, permission, null, null);
        }
    }

    /// <summary>Lets through who may do this on every one of the hosts; otherwise nothing is begun.</summary>
    public void All(Asker by, Permission permission, IReadOnlyCollection<HostSummary> hosts)
    {
        var refused = hosts.Where(h => !by.Reach.May(permission, h.GroupPath)).ToList();
        if (refused.Count == 0)
        {
            return;
        }
        if (refused.Find(h => by.Reach.May(Permission.See, h.GroupPath)) is not { } named)
        {
            throw new ProblemException(403, ProblemTypes.NotAllowed, $"This is also about hosts that you may not see; you may not {PermissionWords.Verb(permission)} them, so nothing was done on any. {Remedy(new AccessDecision(permission, AccessReason.NoGrant, null), null)}");
        }
        var problem = Refuse(by, permission, named.GroupPath, named.Label);
        throw refused.Count == 1 && hosts.Count == 1 ? problem
            : new ProblemException(403, ProblemTypes.NotAllowed, $"{problem.Message} The same goes for {refused.Count} of the {hosts.Count} hosts that were named; nothing was done on any. Name only those where you may.");
    }

    /// <summary>Lets through who may move what stands at one place to another.</summary>
    public void Move(Asker by, string from, string to, string what)
    {
        Place(by, from, Permission.Configure);
        Place(by, to, Permission.Configure);
        if (!AccessRules.MayMove(by.Reach, from, to))
        {
            var more = by.Reach.At(to).Without(by.Reach.At(from)).List();
            throw new ProblemException(403, ProblemTypes.NotAllowed, $"You may not move {what} from {from} to {to}: there you may do more with it ({string.Join(", ", more.Select(PermissionWords.Word))}). {Remedy(new AccessDecision(Permission.Administer, AccessReason.RoleLacks, null), from)}");
        }
    }

    /// <summary>Why not, and who could change that.</summary>
    /// <param name="path">Where; null is everything.</param>
    /// <param name="place">Its name for people.</param>
    public ProblemException Refuse(Asker by, Permission permission, string? path, string? place)
    {
        var decision = AccessRules.Decide(permission, path, by.Reach.Held, time.GetUtcNow(), limit: by.Reach.Limit);
        return new ProblemException(403, ProblemTypes.NotAllowed, $"{AccessWords.Explain(decision, null, place)} {Remedy(decision, path)}");
    }

    /// <summary>For what he may nowhere do.</summary>
    public ProblemException RefuseAnywhere(Asker by, Permission permission) => !by.Reach.Limit.Contains(permission)
        ? new(403, ProblemTypes.NotAllowed, $"The token of this sign-in is not for '{PermissionWords.Word(permission)}', and this needs it. Sign in without a limit, or use a token that is for it.")
        : new(403, ProblemTypes.NotAllowed, $"None of your grants holds '{PermissionWords.Word(permission)}' anywhere, and this needs it. {Remedy(new AccessDecision(permission, AccessReason.NoGrant, null), null)}");

    private string Remedy(AccessDecision decision, string? path) => AccessWords.Remedy(decision, access.WhoAdministers(path));
}
