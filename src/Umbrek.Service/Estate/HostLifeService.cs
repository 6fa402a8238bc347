using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Jobs;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

/// <summary>Hosts that leave care, come back, or turn out to be one machine. What becomes of their history is said before.</summary>
public sealed class HostLifeService(IDatabase database, EstateIndex index, HostService hosts, Gate gate, LinkRegistry links, JobService jobs, AuditLog audit, TimeProvider time)
{
    /// <summary>Takes a host out of care: it is no longer listed or linked, and all that is known of it stays.</summary>
    public async Task<HostOutlook> RetireAsync(Guid id, HostEnd wish, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var (row, path) = await FindAsync(db, id, cancel).ConfigureAwait(false);
        if (row.RetiredAt is not null)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"{row.Label} is retired already.");
        }
        if (wish.Reason is { Length: > 300 })
        {
            throw ProblemException.Invalid("The reason has more than 300 characters.");
        }
        var waiting = await db.Runs.CountAsync(r => r.HostId == id && r.State == RunState.Waiting, cancel).ConfigureAwait(false);
        var runs = await db.Runs.CountAsync(r => r.HostId == id, cancel).ConfigureAwait(false);
        List<string> says =
        [
            $"{row.Label} of {GroupPath.Customer(path)} leaves the lists, and selections name it only with 'is retired'.",
            links.Find(id) is null ? "Its agent is not let in again until it is restored." : "It is linked now: its link ends, and its agent is not let in again until it is restored.",
            waiting > 0 ? $"{waiting} {(waiting == 1 ? "run that waits for it is" : "runs that wait for it are")} cancelled." : "No run waits for it.",
            $"Its facts, notes, tags and time line stay, with {(runs == 1 ? "one run" : $"{runs} runs")} of jobs. Samples are kept as long as those of any host.",
        ];
        if (wish.Preview)
        {
            return new HostOutlook(false, says);
        }
        row.RetiredAt = time.GetUtcNow();
        row.RetiredBy = by.Name;
        row.Version++;
        HostEdits.Tell(db, id, HostEventKind.Retired, by.Name, wish.Reason ?? "", time.GetUtcNow());
        await StoreAsync(db, transaction, row, () => audit.AddAsync(db, by, "host.retire", $"{row.Label} in {path}", cancel, ("id", $"{id}"), ("reason", wish.Reason)), cancel).ConfigureAwait(false);
        await hosts.ShowAsync(db, row, path).ConfigureAwait(false);
        links.Find(id)?.Caller.Abort();
        await jobs.CancelWaitingAsync(id, $"{row.Label} was retired", cancel).ConfigureAwait(false);
        return new HostOutlook(true, says);
    }

    public async Task<HostOutlook> RestoreAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var (row, path) = await FindAsync(db, id, cancel).ConfigureAwait(false);
        if (row.RetiredAt is null)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"{row.Label} is not retired.");
        }
        row.RetiredAt = null;
        row.RetiredBy = null;
        row.Version++;
        HostEdits.Tell(db, id, HostEventKind.Restored, by.Name, "", time.GetUtcNow());
        await StoreAsync(db, transaction, row, () => audit.AddAsync(db, by, "host.restore", $"{row.Label} in {path}", cancel, ("id", $"{id}")), cancel).ConfigureAwait(false);
        await hosts.ShowAsync(db, row, path).ConfigureAwait(false);
        return new HostOutlook(true, [$"{row.Label} of {GroupPath.Customer(path)} is under care again. If its agent still runs, it links within minutes."]);
    }

    /// <summary>Two entries of one machine become one: the one that stays takes over all history of the other, which goes.</summary>
    public async Task<HostOutlook> MergeAsync(Guid id, HostMerge wish, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var (gone, gonePath) = await FindAsync(db, id, cancel).ConfigureAwait(false);
        gate.Host(by, wish.Into, Permission.Configure);
        gate.Move(by, gonePath, index.Find(wish.Into)!.GroupPath, gone.Label);
        var (stays, staysPath) = await FindAsync(db, wish.Into, cancel).ConfigureAwait(false);
        if (id == wish.Into)
        {
            throw ProblemException.Invalid($"{gone.Label} can't be put together with itself; name the other entry.");
        }
        if (links.Find(id) is not null)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"{gone.Label} is linked, so it is a machine of its own. Only an entry whose machine is away can go.");
        }
        var runs = await db.Runs.Where(r => r.HostId == id).Select(r => r.Id).ToListAsync(cancel).ConfigureAwait(false);
        if (await db.Runs.AnyAsync(r => r.HostId == id && r.State < RunState.Succeeded, cancel).ConfigureAwait(false))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"A run on {gone.Label} has not ended yet. Cancel it, or wait for it.");
        }
        var samples = await db.Samples.CountAsync(s => s.HostId == id, cancel).ConfigureAwait(false);
        List<string> says =
        [
            $"{stays.Label} in {staysPath} stays, with its own label, group and key.",
            $"It takes over from {gone.Label} in {gonePath}: {(runs.Count == 1 ? "one run" : $"{runs.Count} runs")} of jobs, {(samples == 1 ? "one sample" : $"{samples} samples")}, the time line, the tags, and the notes below its own.",
            $"The entry {gone.Label} goes, and can't be brought back. Its facts and own fields go with it.",
        ];
        if (wish.Preview)
        {
            return new HostOutlook(false, says);
        }
        await MoveHistoryAsync(db, gone, stays, cancel).ConfigureAwait(false);
        HostEdits.Tell(db, stays.Id, HostEventKind.Merged, by.Name, $"with {gone.Label} of {gonePath}", time.GetUtcNow());
        stays.Version++;
        db.Hosts.Remove(gone);
        await StoreAsync(db, transaction, stays, () => audit.AddAsync(db, by, "host.merge", $"{gone.Label} in {gonePath}", cancel, ("id", $"{id}"), ("into", $"{wish.Into}"), ("runs", $"{runs.Count}")), cancel).ConfigureAwait(false);
        index.Remove(id);
        await hosts.ShowAsync(db, stays, staysPath).ConfigureAwait(false);
        return new HostOutlook(true, says);
    }

    private static async Task MoveHistoryAsync(UmbrekContext db, HostRow gone, HostRow stays, CancellationToken cancel)
    {
        var (from, to) = (gone.Id, stays.Id);
        await db.Runs.Where(r => r.HostId == from).ExecuteUpdateAsync(r => r.SetProperty(x => x.HostId, to), cancel).ConfigureAwait(false);
        // Where both have a sample of one moment, the staying one's counts.
        await db.Samples.Where(s => s.HostId == from && db.Samples.Any(o => o.HostId == to && o.At == s.At)).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        await db.Samples.Where(s => s.HostId == from).ExecuteUpdateAsync(s => s.SetProperty(x => x.HostId, to), cancel).ConfigureAwait(false);
        await db.HostEvents.Where(e => e.HostId == from).ExecuteUpdateAsync(e => e.SetProperty(x => x.HostId, to), cancel).ConfigureAwait(false);
        await db.Enrolments.Where(e => e.HostId == from).ExecuteUpdateAsync(e => e.SetProperty(x => x.HostId, to), cancel).ConfigureAwait(false);
        await db.Secrets.Where(s => s.HostId == from).ExecuteUpdateAsync(s => s.SetProperty(x => x.HostId, to), cancel).ConfigureAwait(false);
        await db.RolloutHosts.Where(r => r.HostId == from && !db.RolloutHosts.Any(o => o.RolloutId == r.RolloutId && o.HostId == to)).ExecuteUpdateAsync(r => r.SetProperty(x => x.HostId, to), cancel).ConfigureAwait(false);
        await db.RolloutHosts.Where(r => r.HostId == from).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        await db.Scans.Where(s => s.HostId == from).ExecuteUpdateAsync(s => s.SetProperty(x => x.HostId, to), cancel).ConfigureAwait(false);
        await db.HostTags.Where(t => t.HostId == from && !db.HostTags.Any(o => o.HostId == to && o.Key == t.Key)).ExecuteUpdateAsync(t => t.SetProperty(x => x.HostId, to), cancel).ConfigureAwait(false);
        await db.Facts.Where(f => f.HostId == from).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        await db.FactValues.Where(f => f.HostId == from).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        if (gone.Notes is not null)
        {
            var joined = stays.Notes is null ? gone.Notes : $"{stays.Notes}\n\n{gone.Label}:\n{gone.Notes}";
            stays.Notes = joined.Length <= HostEdits.MaxNotes ? joined : joined[..HostEdits.MaxNotes];
        }
    }

    private static async Task<(HostRow Row, string Path)> FindAsync(UmbrekContext db, Guid id, CancellationToken cancel)
    {
        var row = await db.Hosts.FirstOrDefaultAsync(h => h.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("host");
        return (row, await db.Groups.Where(g => g.Id == row.GroupId).Select(g => g.Path).FirstAsync(cancel).ConfigureAwait(false));
    }

    private static async Task StoreAsync(UmbrekContext db, Microsoft.EntityFrameworkCore.Storage.IDbContextTransaction transaction, HostRow row, Func<Task> audited, CancellationToken cancel)
    {
        try
        {
            await audited().ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        catch (DbUpdateConcurrencyException)
        {
            throw HostService.Stale(row);
        }
    }
}
