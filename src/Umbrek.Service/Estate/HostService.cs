using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Inventory;
using Umbrek.Core.Text;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Estate;

/// <summary>Reading and changing hosts.</summary>
public sealed class HostService(IDatabase database, EstateIndex index, GroupService groups, IAgentLinks links)
{
    public static readonly TimeSpan AnswerWithin = TimeSpan.FromSeconds(15);

    /// <summary>The selection's hosts; empty text means all.</summary>
    /// <exception cref="ProblemException">The selection can't be read.</exception>
    public List<HostSummary> Select(string? selection) => index.Select(Read(selection));

    public static Selection Read(string? selection)
    {
        if (string.IsNullOrWhiteSpace(selection))
        {
            return new Selection.Everything();
        }
        return SelectionParser.Parse(selection, out var problem)
            ?? throw new ProblemException(400, ProblemTypes.SelectionUnreadable, $"{problem!.Message} (at character {problem.Position + 1})", problem.Position);
    }

    public async Task<HostDetail> GetAsync(Guid id, CancellationToken cancel)
    {
        var summary = index.Find(id) ?? throw ProblemException.NotFound("host");
        await using var db = database.Open();
        var row = await db.Hosts.AsNoTracking().FirstAsync(h => h.Id == id, cancel).ConfigureAwait(false);
        var facts = await db.Facts.AsNoTracking().Where(f => f.HostId == id).OrderBy(f => f.Name).ToListAsync(cancel).ConfigureAwait(false);
        return new HostDetail(summary, row.EnrolledAt, [.. facts.Select(ToFact)], index.LatestSample(id), Enrolment.InstallerService.ReadPolicy(row.Policy), row.Version);
    }

    /// <exception cref="ProblemException">Somebody else changed the host since <paramref name="version"/>, or the change is not possible.</exception>
    public async Task<HostDetail> ChangeAsync(Guid id, HostChange change, long version, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Hosts.FirstOrDefaultAsync(h => h.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("host");
        if (row.Version != version)
        {
            throw Stale(row);
        }
        if (change.Label is not null)
        {
            row.Label = Names.Clean(change.Label, "label", out var problem) ?? throw ProblemException.Invalid(problem);
        }
        if (change.GroupPath is not null)
        {
            row.GroupId = (await groups.FindAsync(db, change.GroupPath, cancel).ConfigureAwait(false)).Id;
        }
        row.Version++;
        try
        {
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        }
        catch (DbUpdateConcurrencyException)
        {
            throw Stale(row);
        }
        var path = await db.Groups.Where(g => g.Id == row.GroupId).Select(g => g.Path).FirstAsync(cancel).ConfigureAwait(false);
        index.Edited(id, row.Label, path);
        return await GetAsync(id, cancel).ConfigureAwait(false);
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

    private static ProblemException Stale(HostRow row) =>
        new(412, ProblemTypes.Changed, $"Somebody else changed {row.Label} meanwhile. Read it again and repeat the change if it is still right.");

    private static Fact ToFact(FactRow f)
    {
        using var value = JsonDocument.Parse(f.Value);
        return new Fact(f.Name, value.RootElement.Clone(), f.LearntAt);
    }
}
