using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

/// <summary>What each technician keeps for himself: pinned and coloured hosts, those opened lately, how pages are liked. And quick find, which ranks by it.</summary>
public sealed class OwnMarkService(IDatabase database, EstateIndex index, TimeProvider time)
{
    private const int MostRecent = 30;
    private const int MostHits = 50;
    private const int MaxPreference = 16 * 1024;

    private readonly ConcurrentDictionary<Guid, IReadOnlyDictionary<Guid, OwnMark>> marks = new();

    public static OwnMark ToMark(OwnMarkRow? row) => row is null ? new OwnMark(false) : new OwnMark(row.Pinned, row.Colour, row.OpenedAt);

    /// <summary>The marks of hosts that one may (still) see.</summary>
    public async Task<List<MarkedHost>> ListAsync(Asker by, CancellationToken cancel) =>
        [.. (await OfAsync(by.Id, cancel).ConfigureAwait(false)).Where(m => index.Find(m.Key, by.Reach) is not null).Select(m => new MarkedHost(m.Key, m.Value))];

    private async Task<IReadOnlyDictionary<Guid, OwnMark>> OfAsync(Guid technicianId, CancellationToken cancel)
    {
        if (marks.TryGetValue(technicianId, out var known))
        {
            return known;
        }
        await using var db = database.Open();
        var read = await db.OwnMarks.AsNoTracking().Where(m => m.TechnicianId == technicianId).ToDictionaryAsync(m => m.HostId, ToMark, cancel).ConfigureAwait(false);
        return marks[technicianId] = read;
    }

    /// <summary>Pins or colours a host; what is null stays, an empty colour removes it.</summary>
    public async Task<OwnMark> SetAsync(Asker by, Guid hostId, bool? pinned, string? colour, CancellationToken cancel)
    {
        var clean = colour is null ? null : CustomerService.OneOf(colour, "colour", CustomerMark.Colours);
        return await ChangeAsync(by.Id, hostId, row =>
        {
            row.Pinned = pinned ?? row.Pinned;
            row.Colour = colour is null ? row.Colour : clean;
        }, cancel).ConfigureAwait(false);
    }

    /// <summary>The technician has opened the host's page.</summary>
    public Task<OwnMark> OpenedAsync(Asker by, Guid hostId, CancellationToken cancel) => ChangeAsync(by.Id, hostId, row => row.OpenedAt = time.GetUtcNow(), cancel);

    /// <summary>Hosts by anything that is known of them, best first; nothing typed gives the pinned and the recent ones.</summary>
    public async Task<List<FindHit>> FindAsync(Asker by, string? typed, int? limit, CancellationToken cancel)
    {
        var most = limit ?? 10;
        if (most is < 1 or > MostHits)
        {
            throw ProblemException.Invalid($"Quick find gives 1 to {MostHits} hosts, not {limit}.");
        }
        if (typed is { Length: > 200 })
        {
            throw ProblemException.Invalid("Quick find takes at most 200 characters. A selection may be longer.");
        }
        var mine = await OfAsync(by.Id, cancel).ConfigureAwait(false);
        var find = new QuickFind(typed ?? "");
        var now = time.GetUtcNow();
        var found = find.IsEmpty
            ? mine.Where(m => m.Value.Pinned || m.Value.OpenedAt is not null).Select(m => (Host: index.Find(m.Key, by.Reach), Score: 1)).Where(h => h.Host is { RetiredAt: null }).Select(h => (Host: h.Host!, h.Score))
            : index.Find(find, by.Reach, most);
        return [.. found.Select(f => (f.Host, Mark: mine.GetValueOrDefault(f.Host.Id) ?? new OwnMark(false), f.Score))
            .Select(f => new FindHit(f.Host, f.Mark, f.Score + (f.Mark.Pinned ? 25 : 0) + Recent(f.Mark, now)))
            .OrderByDescending(h => h.Score).ThenByDescending(h => h.Mine.OpenedAt).ThenBy(h => h.Host.Label, StringComparer.OrdinalIgnoreCase).ThenBy(h => h.Host.Id).Take(most)];
    }

    public async Task<string?> PreferenceAsync(Guid technicianId, string name, CancellationToken cancel)
    {
        await using var db = database.Open();
        return await db.Preferences.AsNoTracking().Where(p => p.TechnicianId == technicianId && p.Name == name).Select(p => p.Value).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
    }

    public async Task SetPreferenceAsync(Guid technicianId, string name, string value, CancellationToken cancel)
    {
        if (name.Length is 0 or > 60 || value.Length > MaxPreference)
        {
            throw ProblemException.Invalid($"A preference has a name of up to 60 characters and a text of up to {MaxPreference}.");
        }
        try
        {
            using var _ = System.Text.Json.JsonDocument.Parse(value);
        }
        catch (System.Text.Json.JsonException)
        {
            throw ProblemException.Invalid("A preference is JSON.");
        }
        await using var db = database.Open();
        var row = await db.Preferences.FirstOrDefaultAsync(p => p.TechnicianId == technicianId && p.Name == name, cancel).ConfigureAwait(false);
        if (row is null)
        {
            if (await db.Preferences.CountAsync(p => p.TechnicianId == technicianId, cancel).ConfigureAwait(false) >= 100)
            {
                throw ProblemException.Invalid("A technician keeps at most 100 preferences.");
            }
            row = new PreferenceRow { TechnicianId = technicianId, Name = name };
            db.Preferences.Add(row);
        }
        row.Value = value;
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
    }

    private static int Recent(OwnMark mark, DateTimeOffset now) => mark.OpenedAt is not { } at ? 0 : (now - at).TotalDays switch { < 1 => 15, < 7 => 8, _ => 2 };

    private async Task<OwnMark> ChangeAsync(Guid technicianId, Guid hostId, Action<OwnMarkRow> change, CancellationToken cancel)
    {
        _ = index.Find(hostId) ?? throw ProblemException.NotFound("host");
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var all = await db.OwnMarks.Where(m => m.TechnicianId == technicianId).ToListAsync(cancel).ConfigureAwait(false);
        var row = all.FirstOrDefault(m => m.HostId == hostId);
        if (row is null)
        {
            row = new OwnMarkRow { TechnicianId = technicianId, HostId = hostId };
            db.OwnMarks.Add(row);
            all.Add(row);
        }
        change(row);
        foreach (var old in all.Where(m => m is { OpenedAt: not null }).OrderByDescending(m => m.OpenedAt).Skip(MostRecent))
        {
            old.OpenedAt = null;
        }
        foreach (var empty in all.Where(m => m is { Pinned: false, Colour: null, OpenedAt: null }).ToList())
        {
            db.OwnMarks.Remove(empty);
            all.Remove(empty);
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        marks[technicianId] = all.ToDictionary(m => m.HostId, ToMark);
        return ToMark(row);
    }
}
