using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Jobs;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Health;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Health;

/// <summary>Keeps reactions. Whoever writes one must be let do there what it does: it runs with his grants.</summary>
public sealed class ReactionService(IDatabase database, ReactionBook book, CheckService checks, ScriptLibrary library, EstateIndex estate, AccessIndex access, Gate gate, AuditLog audit, TimeProvider time)
{
    private const int Most = 200;

    public async Task<List<ReactionInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = (await db.Reactions.AsNoTracking().OrderBy(r => r.NameKey).ToListAsync(cancel).ConfigureAwait(false)).Where(r => IsShown(r, by)).ToList();
        return await ToInfosAsync(db, rows, by, cancel).ConfigureAwait(false);
    }

    public async Task<ReactionInfo> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        return (await ToInfosAsync(db, [await FindAsync(db, id, by, cancel).ConfigureAwait(false)], by, cancel).ConfigureAwait(false))[0];
    }

    public async Task<ReactionInfo> CreateAsync(NewReaction wish, Asker by, CancellationToken cancel)
    {
        var row = new ReactionRow { Id = Guid.CreateVersion7(time.GetUtcNow()), Version = 1 };
        var place = await FillAsync(row, wish, by, cancel).ConfigureAwait(false);
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        if (await db.Reactions.CountAsync(cancel).ConfigureAwait(false) >= Most)
        {
            throw ProblemException.Invalid($"There are {Most} reactions already; remove some that nobody needs.");
        }
        db.Reactions.Add(row);
        await StoreAsync(db, row, place, "reaction.create", by, cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
        return await GetAsync(row.Id, by, cancel).ConfigureAwait(false);
    }

    public async Task<ReactionInfo> ChangeAsync(Guid id, NewReaction wish, long version, Asker by, CancellationToken cancel)
    {
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
            Ask(by, row.GroupId, row.HostId, Permission.Configure);
            if (row.Version != version)
            {
                throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed '{row.Name}' meanwhile. Read it again and repeat the change if it is still right.");
            }
            var place = await FillAsync(row, wish, by, cancel).ConfigureAwait(false);
            row.Version++;
            await StoreAsync(db, row, place, "reaction.change", by, cancel).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        await book.LoadAsync().ConfigureAwait(false);
        return await GetAsync(id, by, cancel).ConfigureAwait(false);
    }

    public async Task RemoveAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        Ask(by, row.GroupId, row.HostId, Permission.Configure);
        db.Reactions.Remove(row);
        await audit.AddAsync(db, by, "reaction.remove", row.Name, cancel, ("check", row.Check)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
    }

    /// <returns>What the place is called; null is everything.</returns>
    private string? Ask(Asker by, Guid? groupId, Guid? hostId, Permission permission)
    {
        if (hostId is { } host)
        {
            return gate.Host(by, host, permission).Label;
        }
        if (groupId is { } group)
        {
            return gate.Group(by, group, permission);
        }
        gate.Everywhere(by, permission);
        return null;
    }

    private async Task<string?> FillAsync(ReactionRow row, NewReaction wish, Asker by, CancellationToken cancel)
    {
        if (wish is { GroupId: not null, HostId: not null })
        {
            throw ProblemException.Invalid("Name a group or a host, not both.");
        }
        var place = Ask(by, wish.GroupId, wish.HostId, Permission.Configure);
        Ask(by, wish.GroupId, wish.HostId, Permission.Run);
        if (wish.UsesVault)
        {
            Ask(by, wish.GroupId, wish.HostId, Permission.UseSecrets);
        }
        row.Name = Names.Clean(wish.Name, "reaction's name", out var problem) ?? throw ProblemException.Invalid(problem);
        row.NameKey = Wildcard.Fold(row.Name);
        var check = await checks.GetAsync(wish.Check, by, cancel).ConfigureAwait(false);
        if (!(wish.WaitSeconds >= 0 && wish.WaitSeconds <= ReactionTerms.MostWait.TotalSeconds))
        {
            throw ProblemException.Invalid($"It can wait 0 s to {Units.Span(ReactionTerms.MostWait)} for the alert to clear by itself.");
        }
        if (!(wish.SpacingSeconds >= ReactionTerms.LeastSpacing.TotalSeconds && wish.SpacingSeconds <= ReactionTerms.MostSpacing.TotalSeconds))
        {
            throw ProblemException.Invalid($"On one host it runs again after {Units.Span(ReactionTerms.LeastSpacing)} at least and {Units.Span(ReactionTerms.MostSpacing)} at most: what does not help is not done again and again.");
        }
        var values = wish.Values ?? new Dictionary<string, string>();
        var filled = await library.FillAsync(new ScriptUse(wish.ScriptId, wish.Number, values), by, cancel).ConfigureAwait(false);
        if (filled.Command.User is not null)
        {
            Ask(by, wish.GroupId, wish.HostId, Permission.ChooseUser);
        }
        (row.Check, row.GroupId, row.HostId, row.ScriptId, row.Number, row.Values) = (check.Key, wish.GroupId, wish.HostId, wish.ScriptId, wish.Number, JsonSerializer.Serialize(values, WireJson.Default.IReadOnlyDictionaryStringString));
        (row.WaitSeconds, row.SpacingSeconds, row.UsesVault, row.Off, row.OwnerId, row.Owner, row.Since) = (wish.WaitSeconds, wish.SpacingSeconds, wish.UsesVault, wish.Off, by.Id, by.Name, time.GetUtcNow());
        return place;
    }

    private async Task StoreAsync(UmbrekContext db, ReactionRow row, string? place, string action, Asker by, CancellationToken cancel)
    {
        try
        {
            await audit.AddAsync(db, by, action, row.Name, cancel, ("check", row.Check), ("place", place ?? "everything"), ("script", $"{row.ScriptId}"), ("version", row.Number?.ToString(System.Globalization.CultureInfo.InvariantCulture)), ("values", row.Values), ("off", row.Off ? "true" : null)).ConfigureAwait(false);
        }
        catch (DbUpdateConcurrencyException)
        {
            throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed '{row.Name}' meanwhile. Read it again and repeat the change if it is still right.");
        }
        catch (DbUpdateException)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"There is a reaction '{row.Name}' already, perhaps at a place that you may not see. Choose another name.");
        }
    }

    private async Task<ReactionRow> FindAsync(UmbrekContext db, Guid id, Asker by, CancellationToken cancel) =>
        await db.Reactions.FirstOrDefaultAsync(r => r.Id == id, cancel).ConfigureAwait(false) is { } row && IsShown(row, by) ? row : throw ProblemException.NotFound("reaction");

    private bool IsShown(ReactionRow row, Asker by) =>
        row.HostId is { } host ? estate.Find(host, by.Reach) is not null : row.GroupId is not { } group || (access.PathOf(group) is { } path && by.Reach.Shows(path));

    private async Task<List<ReactionInfo>> ToInfosAsync(UmbrekContext db, List<ReactionRow> rows, Asker by, CancellationToken cancel)
    {
        var names = (await checks.ListAsync(by, cancel).ConfigureAwait(false)).ToDictionary(c => c.Key, c => c.Name);
        var ids = rows.ConvertAll(r => r.ScriptId);
        var scripts = await db.Scripts.Where(s => ids.Contains(s.Id)).Join(db.ScriptVersions, s => new { Id = s.Id, Number = s.Latest }, v => new { Id = v.ScriptId, v.Number }, (s, v) => new { s.Id, s.Name, v.Steps }).ToDictionaryAsync(s => s.Id, cancel).ConfigureAwait(false);
        var infos = new List<ReactionInfo>();
        foreach (var row in rows)
        {
            var done = db.ReactionsDone.Where(d => d.ReactionId == row.Id);
            var ran = await done.CountAsync(d => d.JobId != null, cancel).ConfigureAwait(false);
            var last = await done.OrderByDescending(d => d.At).Select(d => new { d.At, d.Problem }).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
            var script = scripts.GetValueOrDefault(row.ScriptId);
            var place = row.HostId is { } host ? estate.Find(host)?.Label : row.GroupId is { } group ? access.PathOf(group) : null;
            // What a value is may be a secret, and is for those who may run commands there, as with a job.
            var mayRun = place is null ? by.Reach.Everywhere.Contains(Permission.Run) : by.Reach.May(Permission.Run, row.HostId is { } one ? estate.Find(one)?.GroupPath ?? "" : place);
            var values = mayRun ? row.ReadValues() : row.ReadValues().ToDictionary(v => v.Key, _ => "");
            infos.Add(new ReactionInfo(
                row.Id, row.Name, row.Check, names.GetValueOrDefault(row.Check, row.Check), row.GroupId, row.HostId, place, row.ScriptId, script?.Name, script?.Steps is not null, row.Number, values,
                row.WaitSeconds, row.SpacingSeconds, row.UsesVault, row.Off, access.Find(row.OwnerId)?.Name ?? row.Owner, ran, last?.At, last?.Problem, row.Version));
        }
        return infos;
    }
}
