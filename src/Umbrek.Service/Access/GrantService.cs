using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>Grants: given, changed and revoked by whoever administers the place, and in effect at once.</summary>
public sealed class GrantService(IDatabase database, AccessIndex access, GroupService groups, Gate gate, AuditLog audit, TimeProvider time)
{
    /// <summary>The caller's own grants, and those at places that he administers.</summary>
    /// <param name="technicianId">Only those that reach this one, by a team too.</param>
    public async Task<List<GrantInfo>> ListAsync(Asker by, Guid? technicianId, CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = await db.Grants.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false);
        var teams = await db.Teams.AsNoTracking().ToDictionaryAsync(t => t.Id, t => t.Name, cancel).ConfigureAwait(false);
        var members = (await db.TeamMembers.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false)).ToLookup(m => m.TechnicianId, m => m.TeamId);
        bool Reaches(GrantRow g, Guid technician) => g.TechnicianId == technician || (g.TeamId is { } team && members[technician].Contains(team));
        return [.. rows.Where(g => technicianId is not { } one || Reaches(g, one))
            .Where(g => Reaches(g, by.Id) || Administers(by, PathOf(g)))
            .Select(g => ToInfo(g, by, g.TeamId is { } team ? teams[team] : access.Find(g.TechnicianId!.Value)?.Name ?? ""))
            .OrderBy(g => g.Holder, StringComparer.OrdinalIgnoreCase).ThenBy(g => g.GroupPath ?? "", StringComparer.OrdinalIgnoreCase).ThenBy(g => g.Role, StringComparer.OrdinalIgnoreCase)];
    }

    public async Task<GrantInfo> CreateAsync(NewGrant wish, Asker by, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        CheckEnd(wish.EndsAt, now);
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var (technician, team, holder) = await HolderAsync(db, wish, cancel).ConfigureAwait(false);
        var role = FindRole(wish.Role);
        var group = await PlaceAsync(db, wish, by, cancel).ConfigureAwait(false);
        CheckMayGive(by, role, group?.Path);
        if (await db.Grants.AsNoTracking().FirstOrDefaultAsync(g => g.TechnicianId == technician && g.TeamId == team && g.RoleId == role.Id && g.GroupId == (group == null ? null : group.Id), cancel).ConfigureAwait(false) is { } same)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"{holder} has {role.Name} on {group?.Path ?? "everything"} already{(same.EndsAt is { } end ? $", until {end.UtcDateTime:yyyy-MM-dd HH:mm} UTC. Change when it ends instead" : "")}.");
        }
        var note = string.IsNullOrWhiteSpace(wish.Note) ? null : Names.Clean(wish.Note, "note", out var problem) ?? throw ProblemException.Invalid(problem);
        var row = new GrantRow { Id = Guid.CreateVersion7(), TechnicianId = technician, TeamId = team, RoleId = role.Id, GroupId = group?.Id, EndsAt = wish.EndsAt, Note = note, CreatedAt = now, CreatedBy = by.Name };
        db.Grants.Add(row);
        await audit.AddAsync(db, by, "grant.create", holder, cancel, ("id", $"{row.Id}"), ("role", role.Name), ("on", group?.Path ?? "everything"), ("ends", row.EndsAt is { } ends ? $"{ends:O}" : null), ("note", note)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
        return ToInfo(row, by, holder);
    }

    /// <summary>Changes when a grant ends.</summary>
    public async Task<GrantInfo> ChangeAsync(Guid id, GrantChange change, Asker by, CancellationToken cancel)
    {
        CheckEnd(change.EndsAt, time.GetUtcNow());
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var (row, holder, role) = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        // A longer time is as much as a new grant.
        CheckMayGive(by, role, PathOf(row));
        var before = row.EndsAt;
        row.EndsAt = change.EndsAt;
        await audit.AddAsync(db, by, "grant.change", holder, cancel, ("id", $"{id}"), ("role", role.Name), ("on", PathOf(row) ?? "everything"), ("ended", before is { } b ? $"{b:O}" : "never"), ("ends", row.EndsAt is { } e ? $"{e:O}" : "never")).ConfigureAwait(false);
        await LastLead.KeepAsync(db, cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
        return ToInfo(row, by, holder);
    }

    public async Task RevokeAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var (row, holder, role) = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        var path = PathOf(row);
        if (path is null)
        {
            gate.Everywhere(by, Permission.Administer);
        }
        else
        {
            gate.Place(by, path, Permission.Administer);
        }
        db.Grants.Remove(row);
        await audit.AddAsync(db, by, "grant.revoke", holder, cancel, ("id", $"{id}"), ("role", role.Name), ("on", path ?? "everything"), ("ended", row.EndsAt is { } e ? $"{e:O}" : null)).ConfigureAwait(false);
        await LastLead.KeepAsync(db, cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
    }

    private async Task<(GrantRow Row, string Holder, Role Role)> FindAsync(UmbrekContext db, Guid id, Asker by, CancellationToken cancel)
    {
        var row = await db.Grants.FirstOrDefaultAsync(g => g.Id == id, cancel).ConfigureAwait(false);
        if (row is null || (!Administers(by, PathOf(row)) && !by.Reach.Held.Any(h => h.Id == id)))
        {
            throw ProblemException.NotFound("grant");
        }
        var holder = row.TeamId is { } team ? await db.Teams.Where(t => t.Id == team).Select(t => t.Name).FirstAsync(cancel).ConfigureAwait(false) : access.Find(row.TechnicianId!.Value)?.Name ?? "";
        return (row, holder, access.Roles.First(r => r.Id == row.RoleId));
    }

    private async Task<(Guid? Technician, Guid? Team, string Name)> HolderAsync(UmbrekContext db, NewGrant wish, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(wish.Technician) == string.IsNullOrWhiteSpace(wish.Team))
        {
            throw ProblemException.Invalid("A grant is for somebody: name a technician, or else a team.");
        }
        if (!string.IsNullOrWhiteSpace(wish.Technician))
        {
            var key = Wildcard.Fold(wish.Technician.Trim());
            return access.Seats.FirstOrDefault(s => Wildcard.Fold(s.Name) == key) is { } seat
                ? (seat.Id, null, seat.Name)
                : throw Unknown("technician", wish.Technician, access.Seats.Select(s => s.Name), "umbrek technician list");
        }
        var teamKey = Wildcard.Fold(wish.Team!.Trim());
        var teams = await db.Teams.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false);
        return teams.Find(t => t.NameKey == teamKey) is { } team
            ? (null, team.Id, team.Name)
            : throw Unknown("team", wish.Team, teams.Select(t => t.Name), "umbrek team list");
    }

    private Role FindRole(string? name) =>
        access.Roles.FirstOrDefault(r => Wildcard.Fold(r.Name) == Wildcard.Fold((name ?? "").Trim())) ?? throw Unknown("role", name ?? "", access.Roles.Select(r => r.Name), "umbrek role list");

    private async Task<GroupRow?> PlaceAsync(UmbrekContext db, NewGrant wish, Asker by, CancellationToken cancel)
    {
        if (wish.Everything == !string.IsNullOrWhiteSpace(wish.GroupPath))
        {
            throw ProblemException.Invalid(wish.Everything ? "A grant on everything names no group." : "Say where the grant holds: a customer, a group, or everything.");
        }
        return wish.Everything ? null : await groups.FindAsync(db, wish.GroupPath!, by, cancel).ConfigureAwait(false);
    }

    private void CheckMayGive(Asker by, Role role, string? path)
    {
        if (path is null)
        {
            gate.Everywhere(by, Permission.Administer);
        }
        else
        {
            gate.Place(by, path, Permission.Administer);
        }
        if (!AccessRules.MayGive(by.Reach, role.Permissions, path))
        {
            var more = role.Permissions.Without(path is null ? by.Reach.Everywhere : by.Reach.At(path)).List();
            throw new ProblemException(403, ProblemTypes.NotAllowed, $"The role {role.Name} holds what you don't have on {path ?? "everything"} yourself ({string.Join(", ", more.Select(PermissionWords.Word))}), and nobody gives away more than he has.");
        }
    }

    private static void CheckEnd(DateTimeOffset? end, DateTimeOffset now)
    {
        if (end <= now)
        {
            throw ProblemException.Invalid($"The grant would end at {end:yyyy-MM-dd HH:mm 'UTC'}, which is over. Give a time to come, or none.");
        }
    }

    private static ProblemException Unknown(string what, string name, IEnumerable<string> known, string command) =>
        new(404, ProblemTypes.NotFound, $"There is no {what} '{name}'. {(Similarity.Closest(name, known) is { } close ? $"Did you mean '{close}'? " : "")}'{command}' shows all.");

    private static bool Administers(Asker by, string? path) => (path is null ? by.Reach.Everywhere : by.Reach.At(path)).Contains(Permission.Administer);

    private string? PathOf(GrantRow row) => row.GroupId is { } group ? access.PathOf(group) ?? "" : null;

    private GrantInfo ToInfo(GrantRow row, Asker by, string holder)
    {
        var role = access.Roles.First(r => r.Id == row.RoleId);
        var path = PathOf(row);
        return new GrantInfo(row.Id, row.TechnicianId, row.TeamId, holder, role.Name, path, row.EndsAt, row.EndsAt <= time.GetUtcNow(), row.Note, row.CreatedAt, row.CreatedBy, Administers(by, path));
    }
}
