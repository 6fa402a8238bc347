using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

/// <summary>The tree of customers and groups.</summary>
public sealed class GroupService(IDatabase database, EstateIndex index, TimeProvider time)
{
    private const int MaxDepth = 16;

    public async Task<List<GroupInfo>> ListAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = await db.Groups.AsNoTracking().OrderBy(g => g.PathKey).ToListAsync(cancel).ConfigureAwait(false);
        var counts = index.All.CountBy(h => h.GroupPath).ToDictionary(c => c.Key, c => c.Value);
        return [.. rows.Select(g => ToInfo(g, counts.GetValueOrDefault(g.Path)))];
    }

    public async Task<GroupInfo> CreateAsync(NewGroup group, CancellationToken cancel)
    {
        var name = Names.Clean(group.Name, "group's name", out var problem) ?? throw ProblemException.Invalid(problem);
        if (name.Contains(GroupPath.Separator))
        {
            throw ProblemException.Invalid($"A group's name holds no '{GroupPath.Separator}'; it separates the names in a path. Make the groups one after the other.");
        }
        await using var db = database.Open();
        var parent = string.IsNullOrWhiteSpace(group.ParentPath) ? null : await FindAsync(db, group.ParentPath, cancel).ConfigureAwait(false);
        var names = parent is null ? [name] : GroupPath.Split(parent.Path).Append(name).ToArray();
        if (names.Length > MaxDepth)
        {
            throw ProblemException.Invalid($"Groups nest at most {MaxDepth} deep.");
        }
        var path = GroupPath.Join(names);
        var row = new GroupRow { Id = Guid.CreateVersion7(), ParentId = parent?.Id, Name = name, Path = path, PathKey = path.ToUpperInvariant(), CreatedAt = time.GetUtcNow() };
        db.Groups.Add(row);
        try
        {
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        }
        catch (DbUpdateException)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"There is a group '{path}' already. Use it, or choose another name.");
        }
        return ToInfo(row, 0);
    }

    /// <exception cref="ProblemException">There is no such group.</exception>
    public async Task<GroupRow> FindAsync(UmbrekContext db, string path, CancellationToken cancel)
    {
        var key = GroupPath.Join(GroupPath.Split(path)).ToUpperInvariant();
        return await db.Groups.FirstOrDefaultAsync(g => g.PathKey == key, cancel).ConfigureAwait(false)
            ?? throw new ProblemException(404, ProblemTypes.NotFound, $"There is no group '{path}'. Write its whole path, for example \"Saltmarsh Ferry/Quay/Office\"; 'umbrek group list' shows all.");
    }

    private static GroupInfo ToInfo(GroupRow g, int hosts) => new(g.Id, g.ParentId, g.Name, g.Path, hosts);
}
