using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

/// <summary>What is kept of customers: contact, address, notes, their mark, and the fields of their own.</summary>
public sealed class CustomerService(IDatabase database, EstateIndex index, Gate gate, AuditLog audit)
{
    private const int MaxText = 500;

    /// <summary>Of a customer that only leads to a group which one may see there is the name and the mark.</summary>
    public async Task<List<CustomerInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var groups = await db.Groups.AsNoTracking().Where(g => g.ParentId == null).OrderBy(g => g.PathKey).ToListAsync(cancel).ConfigureAwait(false);
        var rows = await db.Customers.AsNoTracking().ToDictionaryAsync(c => c.GroupId, cancel).ConfigureAwait(false);
        var fields = (await db.OwnFields.AsNoTracking().OrderBy(f => f.NameKey).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(f => f.CustomerId);
        var counts = index.SeenBy(by.Reach).Where(h => h.RetiredAt is null).CountBy(h => GroupPath.Customer(h.GroupPath)).ToDictionary(c => c.Key, c => c.Value);
        return [.. groups.Where(g => by.Reach.Shows(g.Path)).Select(g => ToInfo(g, Told(rows.GetValueOrDefault(g.Id), by.Reach.May(Permission.See, g.Path)), fields[g.Id], counts.GetValueOrDefault(g.Name)))];

        static CustomerRow? Told(CustomerRow? row, bool all) => all || row is null ? row : new CustomerRow { GroupId = row.GroupId, Colour = row.Colour, Emblem = row.Emblem, Version = row.Version };
    }

    public async Task<CustomerInfo> GetAsync(Guid id, Asker by, CancellationToken cancel) =>
        (await ListAsync(by, cancel).ConfigureAwait(false)).FirstOrDefault(c => c.Id == id) ?? throw ProblemException.NotFound("customer");

    public async Task<CustomerInfo> ChangeAsync(Guid id, CustomerChange change, long version, Asker by, CancellationToken cancel)
    {
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            gate.Group(by, id, Permission.Configure, "customer");
            var group = await FindAsync(db, id, cancel).ConfigureAwait(false);
            var row = await db.Customers.FirstOrDefaultAsync(c => c.GroupId == id, cancel).ConfigureAwait(false);
            if ((row?.Version ?? 0) != version)
            {
                throw Stale(group);
            }
            if (row is null)
            {
                row = new CustomerRow { GroupId = id };
                db.Customers.Add(row);
            }
            var said = Fill(row, change);
            row.Version++;
            try
            {
                await audit.AddAsync(db, by, "customer.change", group.Name, cancel, [("id", $"{id}"), .. said]).ConfigureAwait(false);
                await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
            }
            catch (DbUpdateException)
            {
                throw Stale(group);
            }
        }
        return await GetAsync(id, by, cancel).ConfigureAwait(false);
    }

    public async Task<CustomerInfo> AddFieldAsync(Guid id, NewOwnField wish, Asker by, CancellationToken cancel)
    {
        var field = OwnField.Clean(wish.Name, wish.Kind, wish.Choices, out var problem) ?? throw ProblemException.Invalid(problem);
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            gate.Group(by, id, Permission.Configure, "customer");
            var group = await FindAsync(db, id, cancel).ConfigureAwait(false);
            if (await db.OwnFields.CountAsync(f => f.CustomerId == id, cancel).ConfigureAwait(false) >= OwnField.MaxFields)
            {
                throw ProblemException.Invalid($"A customer has at most {OwnField.MaxFields} fields of its own.");
            }
            db.OwnFields.Add(new OwnFieldRow { Id = Guid.CreateVersion7(), CustomerId = id, Name = field.Name, NameKey = Wildcard.Fold(field.Name), Kind = field.Kind, Choices = JsonSerializer.Serialize([.. field.Choices], WireJson.Default.ListString) });
            try
            {
                await audit.AddAsync(db, by, "customer.add-field", group.Name, cancel, ("field", field.Name), ("kind", $"{field.Kind}")).ConfigureAwait(false);
            }
            catch (DbUpdateException)
            {
                throw new ProblemException(409, ProblemTypes.Conflict, $"{group.Name} has a field '{field.Name}' already.");
            }
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        return await GetAsync(id, by, cancel).ConfigureAwait(false);
    }

    /// <summary>Removes a field with all its values.</summary>
    public async Task<CustomerInfo> RemoveFieldAsync(Guid id, Guid fieldId, Asker by, CancellationToken cancel)
    {
        List<Guid> had;
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            gate.Group(by, id, Permission.Configure, "customer");
            var group = await FindAsync(db, id, cancel).ConfigureAwait(false);
            var field = await db.OwnFields.FirstOrDefaultAsync(f => f.Id == fieldId && f.CustomerId == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("field");
            had = await db.OwnValues.Where(v => v.FieldId == fieldId).Select(v => v.HostId).ToListAsync(cancel).ConfigureAwait(false);
            db.OwnFields.Remove(field);
            await audit.AddAsync(db, by, "customer.remove-field", group.Name, cancel, ("field", field.Name), ("values", $"{had.Count}")).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
            var left = await EstateIndex.ReadOwnAsync(db, null, CancellationToken.None).ConfigureAwait(false);
            foreach (var host in had.Select(index.Find).OfType<HostSummary>())
            {
                index.Edited(host.Id, host.Label, host.GroupPath, host.Tags, [.. left[host.Id]], host.RetiredAt);
            }
        }
        return await GetAsync(id, by, cancel).ConfigureAwait(false);
    }

    /// <summary>Takes over what the change says.</summary>
    /// <returns>What changed.</returns>
    public static List<(string Name, string? Value)> Fill(CustomerRow row, CustomerChange change)
    {
        var said = new List<(string, string?)>();
        void Set(string name, string? wish, string? before, Action<string?> set, Func<string, string?> clean)
        {
            if (wish is not null && clean(wish) is var after && after != before)
            {
                set(after);
                said.Add((name, after ?? "removed"));
            }
        }
        Set("contact", change.Contact, row.Contact, v => row.Contact = v, t => Short(t, "contact"));
        Set("address", change.Address, row.Address, v => row.Address = v, t => Short(t, "address"));
        Set("notes", change.Notes, row.Notes, v => row.Notes = v, HostEdits.CleanNotes);
        Set("colour", change.Colour, row.Colour, v => row.Colour = v, t => OneOf(t, "colour", CustomerMark.Colours));
        Set("emblem", change.Emblem, row.Emblem, v => row.Emblem = v, t => OneOf(t, "emblem", CustomerMark.Emblems));
        return said;
    }

    public static string? OneOf(string text, string what, IReadOnlyList<string> words)
    {
        var word = text.Trim().ToLowerInvariant();
        return word.Length == 0 ? null : words.Contains(word) ? word : throw ProblemException.Invalid($"'{text}' is no {what}; it is one of {string.Join(", ", words)}.");
    }

    private static string? Short(string text, string what) =>
        HostEdits.CleanNotes(text) is not { Length: > MaxText } clean ? HostEdits.CleanNotes(text) : throw ProblemException.Invalid($"The {what} has {clean.Length} characters; {MaxText} is the most.");

    private static async Task<GroupRow> FindAsync(UmbrekContext db, Guid id, CancellationToken cancel) =>
        await db.Groups.AsNoTracking().FirstOrDefaultAsync(g => g.Id == id && g.ParentId == null, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("customer");

    private static ProblemException Stale(GroupRow group) => new(412, ProblemTypes.Changed, $"Somebody else changed {group.Name} meanwhile. Read it again and repeat the change if it is still right.");

    private static CustomerInfo ToInfo(GroupRow g, CustomerRow? c, IEnumerable<OwnFieldRow> fields, int hosts) =>
        new(g.Id, g.Name, c?.Contact, c?.Address, c?.Notes, c?.Colour, c?.Emblem, [.. fields.Select(HostEdits.ToInfo)], hosts, c?.Version ?? 0);
}
