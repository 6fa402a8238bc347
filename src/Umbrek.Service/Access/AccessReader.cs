using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;

namespace Umbrek.Service.Access;

/// <summary>Says who may do what, and why or why not.</summary>
public sealed class AccessReader(IDatabase database, AccessIndex access, EstateIndex estate, GrantService grants, Gate gate, Devices devices, TimeProvider time)
{
    public async Task<Me> MeAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Users.AsNoTracking().FirstOrDefaultAsync(u => u.Id == by.Id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("technician");
        return new Me(
            by.Id, by.Name, await grants.ListAsync(by, by.Id, cancel).ConfigureAwait(false), by.Reach.Anywhere.List(), by.Reach.Everywhere.List(), access.WhoAdministers(null),
            row.TwoFactorEnabled, by.Seat.FactorMissing, SecondFactorService.CodesLeft(row),
            [.. (await devices.ListAsync(by, cancel).ConfigureAwait(false)).Where(d => d.IsNew && !d.Here)]);
    }

    /// <param name="technicianId">Another than the caller only for whoever administers the place.</param>
    public AccessExplanation ExplainHost(Asker by, Guid hostId, Guid? technicianId)
    {
        var host = gate.Host(by, hostId, Permission.See);
        return Explain(by, technicianId, host.Label, host.GroupPath, hostId, estate.FindSide(hostId)?.InForce);
    }

    public AccessExplanation ExplainGroup(Asker by, Guid groupId, Guid? technicianId)
    {
        var path = gate.Group(by, groupId, Permission.See);
        return Explain(by, technicianId, path, path, null, null);
    }

    /// <summary>Technicians against customers: at each crossing the grants that reach the customer or a part of it.</summary>
    public async Task<AccessMatrix> MatrixAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var customers = (await db.Groups.AsNoTracking().Where(g => g.ParentId == null).OrderBy(g => g.PathKey).Select(g => g.Path).ToListAsync(cancel).ConfigureAwait(false))
            .Where(c => by.Reach.May(Permission.Administer, c)).ToList();
        var now = time.GetUtcNow();
        return new AccessMatrix(customers, [.. access.Seats.OrderBy(s => s.Name, StringComparer.OrdinalIgnoreCase).Select(s => new AccessMatrixRow(s.Id, s.Name, [.. customers.Select(c => new AccessMatrixCell(
            [.. s.Reach.Held.Where(g => g.GroupPath is null || GroupPath.IsAtOrBelow(g.GroupPath, c)).Select(g => new MatrixGrant(g.Id, g.Role.Name, g.GroupPath, g.Team, g.EndsAt, !g.IsLive(now)))]))]))]);
    }

    private AccessExplanation Explain(Asker by, Guid? technicianId, string place, string path, Guid? hostId, HostPolicy? policy)
    {
        var other = technicianId is { } id && id != by.Id;
        if (other)
        {
            gate.Place(by, path, Permission.Administer);
        }
        var seat = other ? access.Find(technicianId!.Value) ?? throw ProblemException.NotFound("technician") : by.Seat;
        var reach = other ? seat.Reach : by.Reach;
        var who = access.WhoAdministers(path);
        var now = time.GetUtcNow();
        var answers = PermissionSet.All.List().Select(p =>
        {
            var decision = AccessRules.Decide(p, path, reach.Held, now, policy, reach.Limit);
            return new AccessAnswer(p, decision.Allowed, decision.Reason, AccessWords.Why(decision, other ? seat.Name : null, place), AccessWords.Explain(decision, other ? seat.Name : null, place), decision.Allowed ? null : AccessWords.Remedy(decision, who));
        });
        return new AccessExplanation(seat.Name, place, path, hostId, [.. answers], who);
    }
}
