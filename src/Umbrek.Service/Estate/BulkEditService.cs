using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

/// <summary>
/// One edit of many hosts, all or none. A preview is the edit itself, done in a transaction that is then taken back: it can't say
/// anything else than what would happen.
/// </summary>
public sealed class BulkEditService(IDatabase database, EstateIndex index, SelectionService selections, GroupService groups, HostService hosts, Gate gate, AuditLog audit, TimeProvider time)
{
    public const int Most = 5000;
    private const int MostShown = 500;

    public async Task<BulkOutcome> EditAsync(BulkEdit wish, Asker by, CancellationToken cancel)
    {
        if (wish is { GroupPath: null, AddTags: null or { Count: 0 }, RemoveTags: null or { Count: 0 }, Own: null or { Count: 0 } })
        {
            throw ProblemException.Invalid("The edit changes nothing; name a group, tags or own fields.");
        }
        var chosen = await ChooseAsync(wish, by, cancel).ConfigureAwait(false);
        gate.All(by, Permission.Configure, chosen);
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var target = wish.GroupPath is { } path ? await groups.FindAsync(db, path, by, cancel).ConfigureAwait(false) : null;
        var rows = new List<HostRow>();
        var changes = new List<BulkChange>();
        var problems = new List<BulkProblem>();
        foreach (var part in chosen.Chunk(500))
        {
            var ids = part.Select(h => h.Id).ToList();
            var known = await db.Hosts.Where(h => ids.Contains(h.Id)).ToDictionaryAsync(h => h.Id, cancel).ConfigureAwait(false);
            foreach (var host in part.Where(h => known.ContainsKey(h.Id)))
            {
                try
                {
                    var before = changes.Count;
                    await EditOneAsync(db, known[host.Id], host, target, wish, by, changes, cancel).ConfigureAwait(false);
                    if (changes.Count > before)
                    {
                        known[host.Id].Version++;
                        rows.Add(known[host.Id]);
                    }
                }
                catch (ProblemException e)
                {
                    problems.Add(new BulkProblem(host.Id, host.Label, host.GroupPath, e.Message));
                }
            }
        }
        var outcome = new BulkOutcome(wish.Preview, chosen.Count, rows.Count, [.. changes.Take(MostShown)], [.. problems.Take(MostShown)]);
        if (wish.Preview || problems.Count > 0 || rows.Count == 0)
        {
            return outcome with { Preview = true };
        }
        await audit.AddAsync(db, by, "host.edit-many", wish.Selection ?? $"{chosen.Count} hosts", cancel,
            ("hosts", $"{rows.Count}"), ("group", target?.Path), ("add-tags", Join(wish.AddTags)), ("remove-tags", Join(wish.RemoveTags)), ("fields", Join(wish.Own?.Select(o => $"{o.Key}={o.Value}"))), ("ids", string.Join(' ', rows.Take(100).Select(r => r.Id)))).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        foreach (var row in rows)
        {
            await hosts.ShowAsync(db, row, target?.Path ?? index.Find(row.Id)!.GroupPath).ConfigureAwait(false);
        }
        return outcome;
    }

    private async Task<List<HostSummary>> ChooseAsync(BulkEdit wish, Asker by, CancellationToken cancel)
    {
        if ((wish.HostIds is null) == string.IsNullOrWhiteSpace(wish.Selection))
        {
            throw ProblemException.Invalid("Say which hosts: by a selection, or by their ids.");
        }
        var chosen = wish.HostIds is { } ids ? ids.Distinct().Select(id => index.Find(id, by.Reach)).OfType<HostSummary>().ToList() : await selections.SelectAsync(wish.Selection, by.Reach, cancel).ConfigureAwait(false);
        return chosen.Count switch
        {
            0 => throw new ProblemException(422, Wire.Api.ProblemTypes.SelectionEmpty, "No host matches; nothing was changed."),
            > Most => throw ProblemException.Invalid($"{chosen.Count} hosts are more than the {Most} that one edit changes. Edit them by parts."),
            _ => chosen,
        };
    }

    private async Task EditOneAsync(UmbrekContext db, HostRow row, HostSummary host, GroupRow? target, BulkEdit wish, Asker by, List<BulkChange> changes, CancellationToken cancel)
    {
        void Say(string what, string? before, string? after) => changes.Add(new BulkChange(host.Id, host.Label, host.GroupPath, what, before, after));
        if (wish.AddTags is { Count: > 0 } || wish.RemoveTags is { Count: > 0 })
        {
            var gone = (wish.RemoveTags ?? []).Select(Wildcard.Fold).ToHashSet();
            var after = host.Tags.Where(t => !gone.Contains(Wildcard.Fold(t))).Concat((wish.AddTags ?? []).Select(HostEdits.CleanTag)).DistinctBy(Wildcard.Fold).ToList();
            if (await HostEdits.SetTagsAsync(db, row.Id, after, cancel).ConfigureAwait(false) is { } tagged)
            {
                HostEdits.Tell(db, row.Id, HostEventKind.Tagged, by.Name, tagged, time.GetUtcNow());
                Say("tags", Join(host.Tags), Join(after));
            }
        }
        if (target is not null && target.Id != row.GroupId)
        {
            gate.Move(by, host.GroupPath, target.Path, host.Label);
            var dropped = await HostEdits.CarryOwnAsync(db, row.Id, GroupPath.Customer(target.Path), cancel).ConfigureAwait(false);
            HostEdits.Tell(db, row.Id, HostEventKind.Moved, by.Name, $"from {host.GroupPath} to {target.Path}", time.GetUtcNow());
            row.GroupId = target.Id;
            Say("group", host.GroupPath, target.Path + (dropped.Count > 0 ? $" (which has no field {string.Join(", ", dropped)})" : ""));
        }
        if (wish.Own is { Count: > 0 })
        {
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
            var fields = await HostEdits.FieldsOfAsync(db, target?.Path ?? host.GroupPath, cancel).ConfigureAwait(false);
            foreach (var (field, before, after) in await HostEdits.SetOwnAsync(db, row.Id, fields, wish.Own, cancel).ConfigureAwait(false))
            {
                Say(field, before, after);
            }
        }
    }

    private static string? Join(IEnumerable<string>? texts) => texts is null ? null : string.Join(", ", texts) is { Length: > 0 } joined ? joined : null;
}
