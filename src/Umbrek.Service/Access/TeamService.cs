using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>Teams: several technicians who are given the same.</summary>
public sealed class TeamService(IDatabase database, AccessIndex access, AuditLog audit)
{
    private const int Most = 500;

    public async Task<List<TeamInfo>> ListAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        var teams = await db.Teams.AsNoTracking().OrderBy(t => t.NameKey).ToListAsync(cancel).ConfigureAwait(false);
        var members = (await db.TeamMembers.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false)).ToLookup(m => m.TeamId, m => m.TechnicianId);
        var grants = await db.Grants.Where(g => g.TeamId != null).GroupBy(g => g.TeamId!.Value).Select(g => new { g.Key, Count = g.Count() }).ToDictionaryAsync(g => g.Key, g => g.Count, cancel).ConfigureAwait(false);
        return [.. teams.Select(t => new TeamInfo(t.Id, t.Name, [.. members[t.Id].Select(access.Find).OfType<Seat>().OrderBy(s => s.Name, StringComparer.OrdinalIgnoreCase).Select(s => new TeamMember(s.Id, s.Name))], grants.GetValueOrDefault(t.Id)))];
    }

    public async Task<TeamInfo> CreateAsync(NewTeam wish, Asker by, CancellationToken cancel)
    {
        var name = Names.Clean(wish.Name, "team's name", out var problem) ?? throw ProblemException.Invalid(problem);
        var row = new TeamRow { Id = Guid.CreateVersion7(), Name = name, NameKey = Wildcard.Fold(name) };
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        if (await db.Teams.CountAsync(cancel).ConfigureAwait(false) >= Most)
        {
            throw ProblemException.Invalid($"There are {Most} teams already; remove some first.");
        }
        db.Teams.Add(row);
        try
        {
            await audit.AddAsync(db, by, "team.create", name, cancel, ("id", $"{row.Id}")).ConfigureAwait(false);
        }
        catch (DbUpdateException)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"There is a team '{name}' already. Choose another name.");
        }
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return new TeamInfo(row.Id, name, [], 0);
    }

    /// <summary>Puts a technician into a team, or takes him out; what the team is given he has, or has not, at once.</summary>
    public async Task<TeamInfo> SetMemberAsync(Guid id, Guid technicianId, bool member, Asker by, CancellationToken cancel)
    {
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            var team = await FindAsync(db, id, cancel).ConfigureAwait(false);
            var seat = access.Find(technicianId) ?? throw ProblemException.NotFound("technician");
            var known = await db.TeamMembers.FirstOrDefaultAsync(m => m.TeamId == id && m.TechnicianId == technicianId, cancel).ConfigureAwait(false);
            if ((known is not null) != member)
            {
                if (known is null)
                {
                    db.TeamMembers.Add(new TeamMemberRow { TeamId = id, TechnicianId = technicianId });
                }
                else
                {
                    db.TeamMembers.Remove(known);
                }
                await audit.AddAsync(db, by, member ? "team.add" : "team.take-out", team.Name, cancel, ("technician", seat.Name)).ConfigureAwait(false);
                await LastLead.KeepAsync(db, cancel).ConfigureAwait(false);
                await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
                await access.LoadAsync().ConfigureAwait(false);
            }
        }
        return (await ListAsync(cancel).ConfigureAwait(false)).First(t => t.Id == id);
    }

    /// <summary>Removes a team with the grants that it was given.</summary>
    public async Task RemoveAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var team = await FindAsync(db, id, cancel).ConfigureAwait(false);
        var grants = await db.Grants.CountAsync(g => g.TeamId == id, cancel).ConfigureAwait(false);
        db.Teams.Remove(team);
        await audit.AddAsync(db, by, "team.remove", team.Name, cancel, ("id", $"{id}"), ("grants", $"{grants}")).ConfigureAwait(false);
        await LastLead.KeepAsync(db, cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
    }

    private static async Task<TeamRow> FindAsync(UmbrekContext db, Guid id, CancellationToken cancel) =>
        await db.Teams.FirstOrDefaultAsync(t => t.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("team");
}
