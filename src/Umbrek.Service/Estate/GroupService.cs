using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

/// <summary>The tree of customers and groups.</summary>
public sealed class GroupService(IDatabase database, EstateIndex index, AccessIndex access, Gate gate, AuditLog audit, TimeProvider time)
{
    private const int MaxDepth = 16;

    /// <summary>Groups that one may see, and those that lead to them.</summary>
    public async Task<List<GroupInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = await db.Groups.AsNoTracking().OrderBy(g => g.PathKey).ToListAsync(cancel).ConfigureAwait(false);
        var counts = index.SeenBy(by.Reach).Where(h => h.RetiredAt is null).CountBy(h => h.GroupPath).ToDictionary(c => c.Key, c => c.Value);
        return [.. rows.Where(g => by.Reach.Shows(g.Path)).Select(g => ToInfo(g, counts.GetValueOrDefault(g.Path), by))];
    }

    public async Task<GroupInfo> CreateAsync(NewGroup group, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var parent = string.IsNullOrWhiteSpace(group.ParentPath) ? null : await FindAsync(db, group.ParentPath, by, cancel).ConfigureAwait(false);
        if (parent is null)
        {
            gate.Everywhere(by, Permission.Configure);
        }
        else
        {
            gate.Place(by, parent.Path, Permission.Configure);
        }
        var row = Make(db, CleanName(group.Name), parent);
        await StoreAsync(db, row.Path, async () =>
        {
            await audit.AddAsync(db, by, "group.create", row.Path, cancel, ("id", $"{row.Id}")).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
        return ToInfo(row, 0, by);
    }

    /// <summary>Renames a group or moves it, with everything below.</summary>
    public async Task<GroupInfo> ChangeAsync(Guid id, GroupChange change, long version, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        gate.Group(by, id, Permission.Configure);
        var row = await db.Groups.FirstOrDefaultAsync(g => g.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("group");
        if (row.Version != version)
        {
            throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed {row.Path} meanwhile. Read it again and repeat the change if it is still right.");
        }
        var before = row.Path;
        row.Name = change.Name is null ? row.Name : CleanName(change.Name);
        var parent = row.ParentId is { } p ? await db.Groups.FirstAsync(g => g.Id == p, cancel).ConfigureAwait(false) : null;
        if (change.ParentPath is not null)
        {
            parent = await MoveBelowAsync(db, row, change.ParentPath, by, cancel).ConfigureAwait(false);
        }
        row.Version++;
        var path = GroupPath.Join([.. parent is null ? [] : GroupPath.Split(parent.Path), row.Name]);
        var below = await db.Groups.Where(g => g.PathKey.StartsWith(row.PathKey + "/")).ToListAsync(cancel).ConfigureAwait(false);
        if (GroupPath.Split(path).Length + below.Select(g => GroupPath.Split(g.Path).Length - GroupPath.Split(before).Length).DefaultIfEmpty(0).Max() > MaxDepth)
        {
            throw ProblemException.Invalid($"Groups nest at most {MaxDepth} deep; there {before} with what is below it would go deeper.");
        }
        SetPath(row, path);
        below.ForEach(g => SetPath(g, path + g.Path[before.Length..]));
        await StoreAsync(db, path, async () =>
        {
            if (GroupPath.Customer(before) != GroupPath.Customer(path))
            {
                foreach (var host in index.All.Where(h => GroupPath.IsAtOrBelow(h.GroupPath, before)).ToList())
                {
                    await HostEdits.CarryOwnAsync(db, host.Id, GroupPath.Customer(path), cancel).ConfigureAwait(false);
                }
            }
            await audit.AddAsync(db, by, "group.change", before, cancel, ("to", path), ("id", $"{id}")).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }).ConfigureAwait(false);
        // First who may see what stands there now, then that it stands there: nobody is shown it in between who may not see it.
        await access.LoadAsync().ConfigureAwait(false);
        foreach (var host in index.All.Where(h => GroupPath.IsAtOrBelow(h.GroupPath, before)).ToList())
        {
            index.Regrouped(host.Id, path + host.GroupPath[before.Length..]);
        }
        return ToInfo(row, index.All.Count(h => h.GroupPath == path), by);
    }

    /// <param name="hostsTo">Where the hosts in it go; without it the group must hold none.</param>
    public async Task RemoveAsync(Guid id, string? hostsTo, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        gate.Group(by, id, Permission.Configure);
        var row = await db.Groups.FirstOrDefaultAsync(g => g.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("group");
        if (row.ParentId is null)
        {
            gate.Everywhere(by, Permission.Configure);
        }
        var groups = await db.Groups.Where(g => g.Id == id || g.PathKey.StartsWith(row.PathKey + "/")).ToListAsync(cancel).ConfigureAwait(false);
        var ids = groups.ConvertAll(g => g.Id);
        var hosts = await db.Hosts.Where(h => ids.Contains(h.GroupId)).ToListAsync(cancel).ConfigureAwait(false);
        if (hosts.Count > 0 && string.IsNullOrWhiteSpace(hostsTo))
        {
            var retired = hosts.Count(h => h.RetiredAt is not null);
            throw new ProblemException(409, ProblemTypes.Conflict, $"{(hosts.Count == 1 ? "A host stands" : $"{hosts.Count} hosts stand")} in {row.Path}{(retired > 0 ? $" ({retired} of them retired)" : "")}. Move {(hosts.Count == 1 ? "it" : "them")} first, or say which group takes {(hosts.Count == 1 ? "it" : "them")}.");
        }
        if (hosts.Count > 0)
        {
            var target = await FindAsync(db, hostsTo!, by, cancel).ConfigureAwait(false);
            gate.Move(by, row.Path, target.Path, hosts.Count == 1 ? hosts[0].Label : $"{hosts.Count} hosts");
            if (ids.Contains(target.Id))
            {
                throw ProblemException.Invalid($"{target.Path} is itself removed; the hosts need another place.");
            }
            foreach (var host in hosts)
            {
                host.GroupId = target.Id;
                host.Version++;
                await HostEdits.CarryOwnAsync(db, host.Id, GroupPath.Customer(target.Path), cancel).ConfigureAwait(false);
                HostEdits.Tell(db, host.Id, HostEventKind.Moved, by.Name, $"from {row.Path}, which was removed, to {target.Path}", time.GetUtcNow());
            }
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
            hostsTo = target.Path;
        }
        if (await db.Secrets.AnyAsync(s => s.GroupId != null && ids.Contains(s.GroupId.Value), cancel).ConfigureAwait(false))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"The vault keeps secrets of {row.Path}, which would be lost. Remove them first, or put them elsewhere: 'umbrek secret list'.");
        }
        if (await db.Shelves.Where(s => ids.Contains(s.GroupId)).Select(s => s.Name).FirstOrDefaultAsync(cancel).ConfigureAwait(false) is { } shelf)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"The service keeps the shelf '{shelf}' of {row.Path}. Remove it first, or keep the group: 'umbrek shelf list'.");
        }
        var grants = await db.Grants.CountAsync(g => g.GroupId != null && ids.Contains(g.GroupId.Value), cancel).ConfigureAwait(false);
        var installers = await db.Installers.Where(i => ids.Contains(i.GroupId)).CountAsync(i => i.RevokedAt == null, cancel).ConfigureAwait(false);
        // Deepest first: a group may not go while another stands in it.
        foreach (var group in groups.OrderByDescending(g => g.Path.Length))
        {
            db.Groups.Remove(group);
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        }
        await audit.AddAsync(db, by, "group.remove", row.Path, cancel, ("id", $"{id}"), ("groups", $"{groups.Count}"), ("hosts", $"{hosts.Count}"), ("hosts-to", hostsTo), ("installers", $"{installers}"), ("grants", $"{grants}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
        hosts.ForEach(h => index.Regrouped(h.Id, hostsTo!));
    }

    /// <exception cref="ProblemException">There is no such group, or the one who asks is not shown it.</exception>
    public async Task<GroupRow> FindAsync(UmbrekContext db, string path, Asker by, CancellationToken cancel)
    {
        var key = GroupPath.Join(GroupPath.Split(path)).ToUpperInvariant();
        if (await db.Groups.FirstOrDefaultAsync(g => g.PathKey == key, cancel).ConfigureAwait(false) is { } found && by.Reach.Shows(found.Path))
        {
            return found;
        }
        var all = (await db.Groups.AsNoTracking().Select(g => g.Path).ToListAsync(cancel).ConfigureAwait(false)).Where(by.Reach.Shows).ToList();
        var close = all.Where(p => GroupPath.Split(p)[^1].Equals(GroupPath.Split(path).LastOrDefault(), StringComparison.OrdinalIgnoreCase)).Order(StringComparer.Ordinal).FirstOrDefault() ?? Similarity.Closest(path, all);
        throw new ProblemException(404, ProblemTypes.NotFound, $"There is no group '{path}'. {(close is null ? "Write its whole path, for example \"Saltmarsh Ferry/Quay/Office\"" : $"Did you mean \"{close}\"")}{(close is null ? ";" : "?")} 'umbrek group list' shows all.");
    }

    /// <summary>A row for a new group; whoever calls stores it.</summary>
    public GroupRow Make(UmbrekContext db, string name, GroupRow? parent)
    {
        var names = parent is null ? [name] : GroupPath.Split(parent.Path).Append(name).ToArray();
        if (names.Length > MaxDepth)
        {
            throw ProblemException.Invalid($"Groups nest at most {MaxDepth} deep.");
        }
        var row = new GroupRow { Id = Guid.CreateVersion7(), ParentId = parent?.Id, Name = name, CreatedAt = time.GetUtcNow(), Version = 1 };
        SetPath(row, GroupPath.Join(names));
        db.Groups.Add(row);
        return row;
    }

    public static string CleanName(string text)
    {
        var name = Names.Clean(text, "group's name", out var problem) ?? throw ProblemException.Invalid(problem);
        return name.Contains(GroupPath.Separator)
            ? throw ProblemException.Invalid($"A group's name holds no '{GroupPath.Separator}'; it separates the names in a path. Make the groups one after the other.")
            : name;
    }

    private async Task<GroupRow> MoveBelowAsync(UmbrekContext db, GroupRow row, string parentPath, Asker by, CancellationToken cancel)
    {
        if (row.ParentId is null)
        {
            throw ProblemException.Invalid($"{row.Path} is a customer and stays at the top. Move its groups or its hosts instead.");
        }
        if (string.IsNullOrWhiteSpace(parentPath))
        {
            throw ProblemException.Invalid("A group stands below a customer. To make a customer of it, make a new customer and move its hosts there.");
        }
        var parent = await FindAsync(db, parentPath, by, cancel).ConfigureAwait(false);
        gate.Move(by, row.Path, parent.Path, row.Path);
        if (GroupPath.IsAtOrBelow(parent.Path, row.Path))
        {
            throw ProblemException.Invalid($"{row.Path} can't go below itself; {parent.Path} is in it.");
        }
        row.ParentId = parent.Id;
        return parent;
    }

    private static async Task StoreAsync(UmbrekContext db, string path, Func<Task> audited)
    {
        try
        {
            await audited().ConfigureAwait(false);
        }
        catch (DbUpdateConcurrencyException)
        {
            throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed the groups around {path} meanwhile. Read them again and repeat the change if it is still right.");
        }
        catch (DbUpdateException)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"There is a group '{path}' already. Use it, or choose another name.");
        }
    }

    private static void SetPath(GroupRow row, string path)
    {
        row.Path = path;
        row.PathKey = path.ToUpperInvariant();
    }

    private static GroupInfo ToInfo(GroupRow g, int hosts, Asker by) => new(g.Id, g.ParentId, g.Name, g.Path, hosts, by.Reach.At(g.Path).List(), g.Version);
}
