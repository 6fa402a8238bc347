using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

/// <summary>
/// The tree out and in again. An import is all or nothing, and its preview is the import itself, taken back at the end. Hosts join
/// by installers; an import puts them in their places, it makes none.
/// </summary>
public sealed class TreeExchange(IDatabase database, EstateIndex index, GroupService groups, HostService hosts, AccessIndex access, Gate gate, AuditLog audit, TimeProvider time)
{
    public const int MostLines = 20_000;
    private const int MostShown = 500;

    public async Task<List<TreeLine>> ExportAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var places = await db.Groups.AsNoTracking().OrderBy(g => g.PathKey).ToListAsync(cancel).ConfigureAwait(false);
        var customers = await db.Customers.AsNoTracking().ToDictionaryAsync(c => c.GroupId, cancel).ConfigureAwait(false);
        var rows = (await db.Hosts.AsNoTracking().Where(h => h.RetiredAt == null).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(h => h.GroupId);
        var own = await EstateIndex.ReadOwnAsync(db, null, cancel).ConfigureAwait(false);
        var lines = new List<TreeLine>();
        foreach (var place in places.Where(p => by.Reach.May(Permission.See, p.Path)))
        {
            var customer = customers.GetValueOrDefault(place.Id);
            lines.Add(new TreeLine(place.Path, Notes: customer?.Notes, Contact: customer?.Contact, Address: customer?.Address, Colour: customer?.Colour, Emblem: customer?.Emblem));
            lines.AddRange(rows[place.Id].OrderBy(h => h.Label, StringComparer.OrdinalIgnoreCase).Select(h => new TreeLine(
                place.Path, h.Label, h.SystemName, h.Id, index.Find(h.Id)?.Tags ?? [], h.Notes, Own: own[h.Id].ToDictionary(o => o.Field, o => o.Text))));
        }
        return lines;
    }

    /// <param name="csv">CSV, or else a JSON list of <see cref="TreeLine"/>.</param>
    public async Task<ImportOutcome> ImportAsync(string text, bool csv, bool preview, Asker by, CancellationToken cancel)
    {
        var (lines, problems) = csv ? TreeCsv.Read(text, MostLines) : (ReadJson(text), []);
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var work = new Work(db, by, time.GetUtcNow());
        await work.LoadAsync(cancel).ConfigureAwait(false);
        foreach (var (number, line) in lines)
        {
            var marked = work.Changes.Count;
            try
            {
                await ImportLineAsync(work, number, line, cancel).ConfigureAwait(false);
            }
            catch (ProblemException e)
            {
                problems.Add(new ImportProblem(number, e.Message));
                work.Changes.RemoveRange(marked, work.Changes.Count - marked);
            }
        }
        var outcome = new ImportOutcome(preview, lines.Count, [.. work.Changes.Take(MostShown)], [.. problems.OrderBy(p => p.Line).Take(MostShown)]);
        if (preview || problems.Count > 0 || work.Changes.Count == 0)
        {
            return outcome with { Preview = true };
        }
        await audit.AddAsync(db, by, "estate.import", $"{lines.Count} lines", cancel, ("changes", $"{work.Changes.Count}"), ("hosts", $"{work.Touched.Count}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
        foreach (var (row, path) in work.Touched.Values)
        {
            await hosts.ShowAsync(db, row, path).ConfigureAwait(false);
        }
        return outcome;
    }

    private static List<(int, TreeLine)> ReadJson(string text)
    {
        try
        {
            var lines = JsonSerializer.Deserialize(text, WireJson.Default.ListTreeLine) ?? [];
            return lines.Count <= MostLines ? [.. lines.Select((l, i) => (i + 1, l))] : throw ProblemException.Invalid($"The list has {lines.Count} lines; {MostLines} is the most. Import it by parts.");
        }
        catch (JsonException e)
        {
            throw ProblemException.Invalid($"The text is no JSON list of lines: see line {e.LineNumber + 1}. 'umbrek estate export --output json' shows what one looks like.");
        }
    }

    private async Task ImportLineAsync(Work work, int number, TreeLine line, CancellationToken cancel)
    {
        var names = GroupPath.Split(line.Group ?? "").Select(GroupService.CleanName).ToArray();
        if (names.Length == 0)
        {
            throw ProblemException.Invalid("The line has no group; write the whole path, from the customer down.");
        }
        var isHost = line.Id is not null || !string.IsNullOrWhiteSpace(line.Host) || !string.IsNullOrWhiteSpace(line.SystemName);
        var (row, path) = isHost ? work.Host(number, line) : default;
        var group = Place(work, number, names);
        if (isHost)
        {
            await ImportHostAsync(work, number, line, row!, path!, group, cancel).ConfigureAwait(false);
            return;
        }
        var change = new CustomerChange(line.Contact, line.Address, line.Notes, line.Colour, line.Emblem);
        if (group.ParentId is not null && new[] { line.Contact, line.Address, line.Notes, line.Colour, line.Emblem }.Any(t => !string.IsNullOrEmpty(t)))
        {
            throw ProblemException.Invalid($"Only customers have contact, address, notes, colour and emblem; {group.Path} is a group of one.");
        }
        if (group.ParentId is null)
        {
            var customer = work.Customers.GetValueOrDefault(group.Id) ?? new CustomerRow { GroupId = group.Id };
            var said = CustomerService.Fill(customer, change);
            if (said.Count > 0)
            {
                gate.Place(work.By, group.Path, Permission.Configure);
                customer.Version++;
                if (work.Customers.TryAdd(group.Id, customer))
                {
                    work.Db.Customers.Add(customer);
                }
                said.ForEach(s => work.Say(number, $"{group.Path}: {s.Name} {s.Value}"));
            }
        }
    }

    private async Task ImportHostAsync(Work work, int number, TreeLine line, HostRow row, string path, GroupRow group, CancellationToken cancel)
    {
        var before = work.Changes.Count;
        var label = string.IsNullOrWhiteSpace(line.Host) ? row.Label : Names.Clean(line.Host, "label", out var problem) ?? throw ProblemException.Invalid(problem);
        var notes = line.Notes is null ? row.Notes : HostEdits.CleanNotes(line.Notes);
        if (label != row.Label)
        {
            HostEdits.Tell(work.Db, row.Id, HostEventKind.Labelled, work.By.Name, $"from {row.Label} to {label}", work.Now);
            work.Say(number, $"{row.Label}: label {label}");
            row.Label = label;
        }
        if (group.Id != row.GroupId)
        {
            gate.Move(work.By, path, group.Path, row.Label);
            await HostEdits.CarryOwnAsync(work.Db, row.Id, GroupPath.Customer(group.Path), cancel).ConfigureAwait(false);
            HostEdits.Tell(work.Db, row.Id, HostEventKind.Moved, work.By.Name, $"from {path} to {group.Path}", work.Now);
            work.Say(number, $"{row.Label}: from {path} to {group.Path}");
            row.GroupId = group.Id;
        }
        if (notes != row.Notes)
        {
            work.Say(number, $"{row.Label}: notes {(notes is null ? "removed" : "changed")}");
            row.Notes = notes;
        }
        if (line.Tags is not null && await HostEdits.SetTagsAsync(work.Db, row.Id, line.Tags, cancel).ConfigureAwait(false) is { } tagged)
        {
            HostEdits.Tell(work.Db, row.Id, HostEventKind.Tagged, work.By.Name, tagged, work.Now);
            work.Say(number, $"{row.Label}: tags {tagged}");
        }
        // A table has a column for every customer's fields; those that this one has not are empty in its lines.
        if (line.Own?.Where(o => o.Value.Length > 0 || work.FieldsOf(group.Path).Any(f => f.NameKey == Wildcard.Fold(o.Key))).ToDictionary(o => o.Key, o => (string?)o.Value) is { Count: > 0 } own)
        {
            await work.Db.SaveChangesAsync(cancel).ConfigureAwait(false);
            foreach (var (field, from, to) in await HostEdits.SetOwnAsync(work.Db, row.Id, work.FieldsOf(group.Path), own, cancel).ConfigureAwait(false))
            {
                work.Say(number, $"{row.Label}: {field} {from ?? "–"} → {to ?? "–"}");
            }
        }
        if (work.Changes.Count > before)
        {
            gate.Place(work.By, path, Permission.Configure);
            row.Version++;
            work.Touched[row.Id] = (row, group.Path);
        }
    }

    private GroupRow Place(Work work, int number, string[] names)
    {
        GroupRow? at = null;
        for (var depth = 1; depth <= names.Length; depth++)
        {
            var key = GroupPath.Join(names.Take(depth)).ToUpperInvariant();
            if (!work.Groups.TryGetValue(key, out var next))
            {
                if (at is null)
                {
                    gate.Everywhere(work.By, Permission.Configure);
                }
                else
                {
                    gate.Place(work.By, at.Path, Permission.Configure);
                }
                next = groups.Make(work.Db, names[depth - 1], at);
                work.Groups[key] = next;
                work.Say(number, $"{next.Path}: new {(depth == 1 ? "customer" : "group")}");
            }
            at = next;
        }
        return at!;
    }

    /// <summary>Everything that lines may name, read once.</summary>
    private sealed class Work(UmbrekContext db, Asker by, DateTimeOffset now)
    {
        private readonly Dictionary<Guid, int> named = [];
        private Dictionary<Guid, HostRow> byId = [];
        private ILookup<string, HostRow> byLabel = Enumerable.Empty<HostRow>().ToLookup(h => "");
        private ILookup<string, HostRow> bySystemName = Enumerable.Empty<HostRow>().ToLookup(h => "");
        private ILookup<Guid, OwnFieldRow> fields = Enumerable.Empty<OwnFieldRow>().ToLookup(f => Guid.Empty);

        public UmbrekContext Db => db;
        public Asker By => by;
        public DateTimeOffset Now => now;
        public Dictionary<string, GroupRow> Groups { get; private set; } = [];
        public Dictionary<Guid, CustomerRow> Customers { get; private set; } = [];
        public List<ImportChange> Changes { get; } = [];
        public Dictionary<Guid, (HostRow Row, string Path)> Touched { get; } = [];

        public async Task LoadAsync(CancellationToken cancel)
        {
            Groups = await db.Groups.ToDictionaryAsync(g => g.PathKey, cancel).ConfigureAwait(false);
            Customers = await db.Customers.ToDictionaryAsync(c => c.GroupId, cancel).ConfigureAwait(false);
            var paths = Groups.Values.ToDictionary(g => g.Id, g => g.Path);
            byId = (await db.Hosts.Where(h => h.RetiredAt == null).ToListAsync(cancel).ConfigureAwait(false)).Where(h => by.Reach.May(Permission.See, paths[h.GroupId])).ToDictionary(h => h.Id);
            byLabel = byId.Values.ToLookup(h => h.LabelKey);
            bySystemName = byId.Values.ToLookup(h => h.SystemNameKey);
            fields = (await db.OwnFields.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false)).ToLookup(f => f.CustomerId);
        }

        public void Say(int line, string what) => Changes.Add(new ImportChange(line, what));

        public List<OwnFieldRow> FieldsOf(string path) => [.. fields[Groups[Wildcard.Fold(GroupPath.Customer(path))].Id]];

        /// <summary>The one host that the line names: by id, else by system name, else by label.</summary>
        public (HostRow Row, string Path) Host(int number, TreeLine line)
        {
            List<HostRow> found = line.Id is { } id ? byId.TryGetValue(id, out var one) ? [one] : []
                : !string.IsNullOrWhiteSpace(line.SystemName) ? [.. bySystemName[Wildcard.Fold(line.SystemName.Trim())]]
                : [.. byLabel[Wildcard.Fold(line.Host!.Trim())]];
            var name = line.Host ?? line.SystemName ?? $"{line.Id}";
            var row = found switch
            {
                [var only] => only,
                [] => throw ProblemException.Invalid($"There is no host '{name}'. Hosts join by an installer; an import only puts them in their places."),
                _ => throw ProblemException.Invalid($"'{name}' are {found.Count} hosts; add the column 'id' to say which."),
            };
            return named.TryAdd(row.Id, number) || named[row.Id] == number
                ? (row, Groups.Values.First(g => g.Id == row.GroupId).Path)
                : throw ProblemException.Invalid($"'{name}' stands in line {named[row.Id]} already.");
        }
    }
}
