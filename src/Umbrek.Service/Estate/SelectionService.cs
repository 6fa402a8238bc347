using System.Collections.Concurrent;
using System.Data.Common;
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

/// <summary>Reads selections, answers them, and keeps those that have a name.</summary>
public sealed class SelectionService(IDatabase database, EstateIndex index, AuditLog audit, TimeProvider time)
{
    private const int MostSaved = 500;

    /// <summary>Meanings by folded name; a small table that every reading needs.</summary>
    private ConcurrentDictionary<string, SavedSelectionRow> saved = new();

    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        saved = new(await db.SavedSelections.AsNoTracking().ToDictionaryAsync(s => s.NameKey, cancel).ConfigureAwait(false));
    }

    /// <summary>What the text means, with saved selections put in; empty text means all.</summary>
    /// <exception cref="ProblemException">It can't be read; the position says where.</exception>
    public Selection Read(string? text) => Resolve(Parse(text));

    /// <summary>The hosts of a selection now, by label, of those that one may see.</summary>
    /// <exception cref="ProblemException">It can't be read.</exception>
    public Task<List<HostSummary>> SelectAsync(string? text, Reach reach, CancellationToken cancel) => SelectAsync(Read(text), reach, cancel);

    public async Task<List<HostSummary>> SelectAsync(Selection selection, Reach reach, CancellationToken cancel) => EstateIndex.CanAnswer(selection)
        ? index.Select(selection, reach)
        : index.Select(selection, reach, await QueryAsync(selection, cancel).ConfigureAwait(false));

    /// <summary>The ids that the database finds.</summary>
    public async Task<HashSet<Guid>> QueryAsync(Selection selection, CancellationToken cancel)
    {
        await using var db = database.Open();
        await db.Database.OpenConnectionAsync(cancel).ConfigureAwait(false);
        await using var command = db.Database.GetDbConnection().CreateCommand();
        SelectionSql.Write(command, selection, database.Dialect, index.AgentVersions, time.GetUtcNow());
        await using var reader = await command.ExecuteReaderAsync(cancel).ConfigureAwait(false);
        return await ReadIdsAsync(reader, cancel).ConfigureAwait(false);
    }

    /// <summary>The selection as it was understood, and how many it names.</summary>
    public async Task<SelectionCheck> CheckAsync(string? text, Reach reach, CancellationToken cancel)
    {
        var read = Parse(text);
        CheckGroups(read, text ?? "", reach);
        return new SelectionCheck(read.ToString()!, (await SelectAsync(Resolve(read), reach, cancel).ConfigureAwait(false)).Count);
    }

    /// <summary>How the text can go on at the cursor.</summary>
    public async Task<Completions> CompleteAsync(string text, int cursor, Reach reach, CancellationToken cancel)
    {
        await using var db = database.Open();
        var groups = (await db.Groups.AsNoTracking().OrderBy(g => g.PathKey).Select(g => g.Path).ToListAsync(cancel).ConfigureAwait(false)).Where(reach.Shows);
        var fields = (await db.OwnFields.AsNoTracking().Join(db.Groups, f => f.CustomerId, g => g.Id, (f, g) => new { f.Name, g.Path }).OrderBy(f => f.Name).ToListAsync(cancel).ConfigureAwait(false))
            .Where(f => reach.Shows(f.Path)).Select(f => f.Name).Distinct();
        var hosts = index.SeenBy(reach).Where(h => h.RetiredAt is null);
        return SelectionCompletion.At(text, cursor, new SelectionOffers(
            hosts.Select(h => h.Label).Order(StringComparer.OrdinalIgnoreCase), groups,
            hosts.SelectMany(h => h.Tags).Order(StringComparer.OrdinalIgnoreCase), hosts.SelectMany(h => h.Users).Order(StringComparer.OrdinalIgnoreCase),
            SavedFor(reach).Select(s => s.Name).Order(StringComparer.OrdinalIgnoreCase), fields, Core.Inventory.FactNames.All, key => index.ValuesOf(key, reach)));
    }

    /// <summary>Those that speak of no group which is not shown to the one who asks: another customer's name is not his to know.</summary>
    private IEnumerable<SavedSelectionRow> SavedFor(Reach reach) =>
        saved.Values.Where(s => SelectionParser.Parse(s.Text, out _) is not { } read || read.Flatten().OfType<Selection.In>().All(g => reach.Shows(g.Path)));

    public async Task<List<SavedSelectionInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        var all = new List<SavedSelectionInfo>();
        foreach (var row in SavedFor(by.Reach).OrderBy(s => s.Name, StringComparer.OrdinalIgnoreCase))
        {
            all.Add(await ToInfoAsync(row, by.Reach, cancel).ConfigureAwait(false));
        }
        return all;
    }

    public async Task<SavedSelectionInfo> SaveAsync(NewSavedSelection wish, Asker by, CancellationToken cancel)
    {
        var row = new SavedSelectionRow { Id = Guid.CreateVersion7(), CreatedAt = time.GetUtcNow(), CreatedBy = by.Name, Version = 1 };
        Fill(row, wish);
        if (saved.Count >= MostSaved)
        {
            throw ProblemException.Invalid($"{MostSaved} selections are saved already; remove some that nobody uses.");
        }
        if (saved.ContainsKey(row.NameKey))
        {
            throw Taken(row.Name);
        }
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        db.SavedSelections.Add(row);
        return await StoreAsync(db, transaction, row, by, "selection.save", null, cancel).ConfigureAwait(false);
    }

    public async Task<SavedSelectionInfo> ChangeAsync(Guid id, NewSavedSelection wish, long version, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await db.SavedSelections.FirstOrDefaultAsync(s => s.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("saved selection");
        CheckOwner(row, by);
        if (row.Version != version)
        {
            throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed '{row.Name}' meanwhile. Read it again and repeat the change if it is still right.");
        }
        var before = row.NameKey;
        Fill(row, wish);
        if (before != row.NameKey && saved.ContainsKey(row.NameKey))
        {
            throw Taken(row.Name);
        }
        row.Version++;
        return await StoreAsync(db, transaction, row, by, "selection.change", before, cancel).ConfigureAwait(false);
    }

    public async Task RemoveAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await db.SavedSelections.FirstOrDefaultAsync(s => s.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("saved selection");
        CheckOwner(row, by);
        var users = saved.Values.Where(s => s.Id != id && SelectionParser.Parse(s.Text, out _) is { } other && other.Flatten().Any(p => p is Selection.Saved u && Wildcard.Fold(u.Name) == row.NameKey)).Select(s => s.Name).ToList();
        if (users.Count > 0)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"'{row.Name}' is used in {string.Join(", ", users)}. Change those first.");
        }
        db.SavedSelections.Remove(row);
        await audit.AddAsync(db, by, "selection.remove", row.Name, cancel, ("selection", row.Text)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        saved.TryRemove(row.NameKey, out _);
    }

    /// <summary>Others use it under its name; only who saved it, or who administers everything, changes what it means.</summary>
    private static void CheckOwner(SavedSelectionRow row, Asker by)
    {
        if (row.CreatedBy != by.Name && !by.Reach.Everywhere.Contains(Permission.Administer))
        {
            throw new ProblemException(403, ProblemTypes.NotAllowed, $"{row.CreatedBy} saved '{row.Name}', and others use it. Ask {row.CreatedBy} to change it, or save one of your own under another name.");
        }
    }

    private static Selection Parse(string? text)
    {
        if (string.IsNullOrWhiteSpace(text))
        {
            return new Selection.Everything();
        }
        return SelectionParser.Parse(text, out var problem) ?? throw Unreadable($"{problem!.Message} (at character {problem.Position + 1})", problem.Position);
    }

    private Selection Resolve(Selection selection) =>
        SavedSelections.Resolve(selection, name => saved.GetValueOrDefault(Wildcard.Fold(name)) is { } row ? SelectionParser.Parse(row.Text, out _) : null, out var problem)
        ?? throw Unreadable($"{problem}{Meant(selection)}", null);

    private string Meant(Selection selection) =>
        selection.Flatten().OfType<Selection.Saved>().FirstOrDefault(s => !saved.ContainsKey(Wildcard.Fold(s.Name))) is { } unknown && Similarity.Closest(unknown.Name, saved.Values.Select(s => s.Name)) is { } close ? $" Did you mean '{close}'?" : "";

    /// <summary>A group that is not there is most likely a slip; a saved selection may outlive a group, so only who types is told.</summary>
    private void CheckGroups(Selection selection, string text, Reach reach)
    {
        foreach (var group in selection.Flatten().OfType<Selection.In>())
        {
            var paths = index.SeenBy(reach).Select(h => h.GroupPath).Distinct().SelectMany(Above).Distinct(StringComparer.OrdinalIgnoreCase).ToList();
            if (!paths.Contains(GroupPath.Join(GroupPath.Split(group.Path)), StringComparer.OrdinalIgnoreCase))
            {
                var close = paths.Where(p => GroupPath.Split(p)[^1].Equals(GroupPath.Split(group.Path).LastOrDefault(), StringComparison.OrdinalIgnoreCase)).Order(StringComparer.Ordinal).FirstOrDefault() ?? Similarity.Closest(group.Path, paths);
                throw Unreadable($"No host stands in a group '{group.Path}'.{(close is null ? " Write the whole path, from the customer down." : $" Did you mean {SelectionWords.Quote(close)}?")}", Math.Max(0, text.IndexOf(group.Path, StringComparison.OrdinalIgnoreCase)));
            }
        }
    }

    private static IEnumerable<string> Above(string path)
    {
        var names = GroupPath.Split(path);
        return Enumerable.Range(1, names.Length).Select(n => GroupPath.Join(names.Take(n)));
    }

    private void Fill(SavedSelectionRow row, NewSavedSelection wish)
    {
        row.Name = Names.Clean(wish.Name, "selection's name", out var problem) ?? throw ProblemException.Invalid(problem);
        row.NameKey = Wildcard.Fold(row.Name);
        if (string.IsNullOrWhiteSpace(wish.Text))
        {
            throw ProblemException.Invalid("The selection is empty; write what it names, for example: storage.used > 90 %.");
        }
        var read = Parse(wish.Text);
        if (SavedSelections.Resolve(read, name => Wildcard.Fold(name) == row.NameKey ? read : saved.GetValueOrDefault(Wildcard.Fold(name)) is { } other ? SelectionParser.Parse(other.Text, out _) : null, out var trouble) is null)
        {
            throw Unreadable(trouble!, null);
        }
        row.Text = read.ToString()!;
        row.Note = string.IsNullOrWhiteSpace(wish.Note) ? null : wish.Note.Trim() is { Length: <= 500 } note ? note : throw ProblemException.Invalid("The note has more than 500 characters.");
    }

    private async Task<SavedSelectionInfo> StoreAsync(UmbrekContext db, Microsoft.EntityFrameworkCore.Storage.IDbContextTransaction transaction, SavedSelectionRow row, Asker by, string action, string? replaced, CancellationToken cancel)
    {
        try
        {
            await audit.AddAsync(db, by, action, row.Name, cancel, ("selection", row.Text)).ConfigureAwait(false);
        }
        catch (DbUpdateException)
        {
            throw Taken(row.Name);
        }
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        if (replaced is not null)
        {
            saved.TryRemove(replaced, out _);
        }
        db.Entry(row).State = EntityState.Detached;
        saved[row.NameKey] = row;
        return await ToInfoAsync(row, by.Reach, cancel).ConfigureAwait(false);
    }

    private async Task<SavedSelectionInfo> ToInfoAsync(SavedSelectionRow row, Reach reach, CancellationToken cancel)
    {
        int? hosts = null;
        string? problem = null;
        try
        {
            hosts = (await SelectAsync(row.Text, reach, cancel).ConfigureAwait(false)).Count;
        }
        catch (ProblemException e)
        {
            problem = e.Message;
        }
        return new SavedSelectionInfo(row.Id, row.Name, row.Text, row.Note, hosts, problem, row.CreatedAt, row.CreatedBy, row.Version);
    }

    private static async Task<HashSet<Guid>> ReadIdsAsync(DbDataReader reader, CancellationToken cancel)
    {
        var ids = new HashSet<Guid>();
        while (await reader.ReadAsync(cancel).ConfigureAwait(false))
        {
            ids.Add(reader.GetValue(0) is byte[] bytes ? new Guid(bytes, bigEndian: true) : reader.GetGuid(0));
        }
        return ids;
    }

    private static ProblemException Taken(string name) => new(409, ProblemTypes.Conflict, $"A selection is saved as '{name}' already. Change that one, or choose another name.");

    private static ProblemException Unreadable(string detail, int? position) => new(400, ProblemTypes.SelectionUnreadable, detail, position);
}
