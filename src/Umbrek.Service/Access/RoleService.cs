using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>Roles: those that every service has, and one's own.</summary>
public sealed class RoleService(IDatabase database, AccessIndex access, AuditLog audit)
{
    private const int Most = 100;
    private const int MaxNote = 500;

    public static Role ToRole(RoleRow row) => new(row.Id, row.Name, Read(row.Permissions));

    public async Task<List<RoleInfo>> ListAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        var counts = await db.Grants.GroupBy(g => g.RoleId).Select(g => new { g.Key, Count = g.Count() }).ToDictionaryAsync(g => g.Key, g => g.Count, cancel).ConfigureAwait(false);
        var own = await db.OwnRoles.AsNoTracking().OrderBy(r => r.NameKey).ToListAsync(cancel).ConfigureAwait(false);
        return
        [
            .. Role.BuiltIn.Select(r => new RoleInfo(r.Id, r.Name, r.Permissions.List(), true, null, counts.GetValueOrDefault(r.Id), 1)),
            .. own.Select(r => ToInfo(r, counts.GetValueOrDefault(r.Id))),
        ];
    }

    public async Task<RoleInfo> CreateAsync(NewRole wish, Asker by, CancellationToken cancel)
    {
        var row = new RoleRow { Id = Guid.CreateVersion7(), Version = 1 };
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        if (await db.OwnRoles.CountAsync(cancel).ConfigureAwait(false) >= Most)
        {
            throw ProblemException.Invalid($"There are {Most} roles already; remove some that nobody holds.");
        }
        Fill(row, wish);
        db.OwnRoles.Add(row);
        await StoreAsync(db, row, () => audit.AddAsync(db, by, "role.create", row.Name, cancel, ("id", $"{row.Id}"), ("permissions", row.Permissions))).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
        return ToInfo(row, 0);
    }

    /// <summary>Changes a role for everybody who holds it, at once.</summary>
    public async Task<RoleInfo> ChangeAsync(Guid id, NewRole wish, long version, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, cancel).ConfigureAwait(false);
        if (row.Version != version)
        {
            throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed the role {row.Name} meanwhile. Read it again and repeat the change if it is still right.");
        }
        var before = (row.Name, row.Permissions);
        Fill(row, wish);
        row.Version++;
        await StoreAsync(db, row, () => audit.AddAsync(db, by, "role.change", before.Name, cancel, ("id", $"{id}"), ("name", row.Name), ("from", before.Permissions), ("to", row.Permissions))).ConfigureAwait(false);
        await LastLead.KeepAsync(db, cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
        return ToInfo(row, await db.Grants.CountAsync(g => g.RoleId == id, cancel).ConfigureAwait(false));
    }

    public async Task RemoveAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, cancel).ConfigureAwait(false);
        var held = await db.Grants.CountAsync(g => g.RoleId == id, cancel).ConfigureAwait(false);
        if (held > 0)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"{(held == 1 ? "A grant gives" : $"{held} grants give")} the role {row.Name}. Revoke {(held == 1 ? "it" : "them")} first: 'umbrek access grants' lists {(held == 1 ? "it" : "them")}.");
        }
        db.OwnRoles.Remove(row);
        await audit.AddAsync(db, by, "role.remove", row.Name, cancel, ("id", $"{id}"), ("permissions", row.Permissions)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
    }

    private static void Fill(RoleRow row, NewRole wish)
    {
        row.Name = Names.Clean(wish.Name, "role's name", out var problem) ?? throw ProblemException.Invalid(problem);
        row.NameKey = Wildcard.Fold(row.Name);
        if (Role.BuiltIn.Any(r => Wildcard.Fold(r.Name) == row.NameKey))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"Every service has a role '{row.Name}', which can't be changed. Choose another name.");
        }
        if (wish.Permissions is not { Count: > 0 })
        {
            throw ProblemException.Invalid($"The role holds no permission; name some of {string.Join(", ", PermissionSet.All.List().Select(PermissionWords.Word))}.");
        }
        row.Permissions = Write(PermissionSet.Of([.. wish.Permissions]) | Role.Least);
        row.Note = string.IsNullOrWhiteSpace(wish.Note) ? null : wish.Note.Trim() is { Length: <= MaxNote } note ? note : throw ProblemException.Invalid($"The note has more than {MaxNote} characters.");
    }

    private static async Task<RoleRow> FindAsync(UmbrekContext db, Guid id, CancellationToken cancel) =>
        Role.BuiltIn.FirstOrDefault(r => r.Id == id) is { } builtIn
            ? throw new ProblemException(409, ProblemTypes.Conflict, $"The role {builtIn.Name} is one that every service has; it can't be changed. Make one of your own.")
            : await db.OwnRoles.FirstOrDefaultAsync(r => r.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("role");

    private static async Task StoreAsync(UmbrekContext db, RoleRow row, Func<Task> audited)
    {
        try
        {
            await audited().ConfigureAwait(false);
        }
        catch (DbUpdateConcurrencyException)
        {
            throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed the role {row.Name} meanwhile. Read it again and repeat the change if it is still right.");
        }
        catch (DbUpdateException)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"There is a role '{row.Name}' already. Choose another name.");
        }
    }

    /// <summary>Words that are not known (any more) give nothing.</summary>
    public static PermissionSet Read(string words) => PermissionSet.Of([.. words.Split(' ', StringSplitOptions.RemoveEmptyEntries).Select(PermissionWords.Read).OfType<Permission>()]);

    private static string Write(PermissionSet set) => string.Join(' ', set.List().Select(PermissionWords.Word));

    private static RoleInfo ToInfo(RoleRow row, int grants) => new(row.Id, row.Name, Read(row.Permissions).List(), false, row.Note, grants, row.Version);
}
