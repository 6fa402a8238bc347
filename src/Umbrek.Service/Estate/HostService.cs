using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Inventory;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Estate;

/// <summary>Reading and changing one host.</summary>
public sealed class HostService(IDatabase database, EstateIndex index, GroupService groups, Gate gate, AuditLog audit, IAgentLinks links, TimeProvider time)
{
    public static readonly TimeSpan AnswerWithin = TimeSpan.FromSeconds(15);

    public async Task<HostDetail> GetAsync(Guid id, Guid technicianId, CancellationToken cancel)
    {
        var summary = index.Find(id) ?? throw ProblemException.NotFound("host");
        await using var db = database.Open();
        var row = await db.Hosts.AsNoTracking().FirstOrDefaultAsync(h => h.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("host");
        var facts = await db.Facts.AsNoTracking().Where(f => f.HostId == id).OrderBy(f => f.Name).ToListAsync(cancel).ConfigureAwait(false);
        var own = (await EstateIndex.ReadOwnAsync(db, id, cancel).ConfigureAwait(false))[id];
        var fields = await HostEdits.FieldsOfAsync(db, summary.GroupPath, cancel).ConfigureAwait(false);
        var mine = await db.OwnMarks.AsNoTracking().FirstOrDefaultAsync(m => m.HostId == id && m.TechnicianId == technicianId, cancel).ConfigureAwait(false);
        return new HostDetail(
            summary, row.EnrolledAt, [.. facts.Select(ToFact)], index.LatestSample(id), index.FindSide(id)?.InForce ?? HostPolicy.Nothing, row.Notes,
            row.Links is null ? [] : JsonSerializer.Deserialize(row.Links, WireJson.Default.ListHostLink)!, own.ToDictionary(o => o.Field, o => o.Text),
            [.. fields.Select(HostEdits.ToInfo)], OwnMarkService.ToMark(mine), row.Version);
    }

    /// <exception cref="ProblemException">Somebody else changed the host since <paramref name="version"/>, or the change is not possible.</exception>
    public async Task ChangeAsync(Guid id, HostChange change, long version, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await db.Hosts.FirstOrDefaultAsync(h => h.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("host");
        if (row.Version != version)
        {
            throw Stale(row);
        }
        var said = new List<(string Name, string? Value)>();
        if (change.Label is not null)
        {
            var label = Names.Clean(change.Label, "label", out var problem) ?? throw ProblemException.Invalid(problem);
            if (label != row.Label)
            {
                HostEdits.Tell(db, id, HostEventKind.Labelled, by.Name, $"from {row.Label} to {label}", time.GetUtcNow());
                said.Add(("label", $"{row.Label} → {label}"));
                row.Label = label;
            }
        }
        var path = await db.Groups.Where(g => g.Id == row.GroupId).Select(g => g.Path).FirstAsync(cancel).ConfigureAwait(false);
        if (change.GroupPath is not null)
        {
            var target = await groups.FindAsync(db, change.GroupPath, by, cancel).ConfigureAwait(false);
            if (target.Id != row.GroupId)
            {
                gate.Move(by, path, target.Path, row.Label);
                HostEdits.Tell(db, id, HostEventKind.Moved, by.Name, $"from {path} to {target.Path}", time.GetUtcNow());
                said.Add(("group", $"{path} → {target.Path}"));
                await HostEdits.CarryOwnAsync(db, id, GroupPath.Customer(target.Path), cancel).ConfigureAwait(false);
                await db.SaveChangesAsync(cancel).ConfigureAwait(false);
                (row.GroupId, path) = (target.Id, target.Path);
            }
        }
        await ChangeDetailsAsync(db, row, path, change, by, said, cancel).ConfigureAwait(false);
        row.Version++;
        try
        {
            await audit.AddAsync(db, by, "host.change", $"{row.Label} in {path}", cancel, [("id", $"{id}"), .. said]).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        catch (DbUpdateConcurrencyException)
        {
            throw Stale(row);
        }
        await ShowAsync(db, row, path).ConfigureAwait(false);
    }

    /// <summary>Brings listings up to date with what is stored of a host; it moved even when whoever moved it has hung up.</summary>
    public async Task ShowAsync(UmbrekContext db, HostRow row, string path)
    {
        var tags = await db.HostTags.AsNoTracking().Where(t => t.HostId == row.Id).OrderBy(t => t.Key).Select(t => t.Tag).ToListAsync().ConfigureAwait(false);
        var own = await EstateIndex.ReadOwnAsync(db, row.Id, CancellationToken.None).ConfigureAwait(false);
        index.Edited(row.Id, row.Label, path, tags, [.. own[row.Id]], row.RetiredAt);
    }

    /// <summary>Asks the host to report all its facts now.</summary>
    public async Task RefreshFactsAsync(Guid id, CancellationToken cancel)
    {
        if (index.Find(id) is null)
        {
            throw ProblemException.NotFound("host");
        }
        try
        {
            var answer = await links.AskAsync(id, new HostRequest(HostRequest.Facts), AnswerWithin, cancel).ConfigureAwait(false);
            if (answer.Error is { } error)
            {
                throw new ProblemException(502, ProblemTypes.Failed, error);
            }
        }
        catch (HostUnreachableException e)
        {
            throw new ProblemException(409, ProblemTypes.HostAway, e.Message);
        }
    }

    public static ProblemException Stale(HostRow row) =>
        new(412, ProblemTypes.Changed, $"Somebody else changed {row.Label} meanwhile. Read it again and repeat the change if it is still right.");

    private async Task ChangeDetailsAsync(UmbrekContext db, HostRow row, string path, HostChange change, Asker by, List<(string Name, string? Value)> said, CancellationToken cancel)
    {
        if (change.Notes is not null && HostEdits.CleanNotes(change.Notes) is var notes && notes != row.Notes)
        {
            row.Notes = notes;
            HostEdits.Tell(db, row.Id, HostEventKind.Noted, by.Name, notes is null ? "notes removed" : "notes changed", time.GetUtcNow());
            said.Add(("notes", notes is null ? "removed" : $"{notes.Length} characters"));
        }
        if (change.Links is not null)
        {
            row.Links = HostEdits.CleanLinks(change.Links);
            said.Add(("links", $"{change.Links.Count}"));
        }
        if (change.Tags is not null && await HostEdits.SetTagsAsync(db, row.Id, change.Tags, cancel).ConfigureAwait(false) is { } tagged)
        {
            HostEdits.Tell(db, row.Id, HostEventKind.Tagged, by.Name, tagged, time.GetUtcNow());
            said.Add(("tags", tagged));
        }
        if (change.Own is { Count: > 0 })
        {
            var fields = await HostEdits.FieldsOfAsync(db, path, cancel).ConfigureAwait(false);
            said.AddRange((await HostEdits.SetOwnAsync(db, row.Id, fields, change.Own, cancel).ConfigureAwait(false)).Select(c => (c.Field, (string?)$"{c.Before ?? "–"} → {c.After ?? "–"}")));
        }
    }

    private static Fact ToFact(FactRow f)
    {
        using var value = JsonDocument.Parse(f.Value);
        return new Fact(f.Name, value.RootElement.Clone(), f.LearntAt);
    }
}
