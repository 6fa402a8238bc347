using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Storage;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>Reactions in memory, with the alerts that each is done with: changed only after the database has the change.</summary>
public sealed class ReactionBook(IDatabase database, EstateIndex estate, MaintenanceBook maintenance, AccessIndex access, TimeProvider time)
{
    private volatile IReadOnlyList<ReactionRow> all = [];
    private long turns;

    public IReadOnlyList<ReactionRow> All => all;

    /// <summary>Counts up with every change.</summary>
    public long Turns => Interlocked.Read(ref turns);

    /// <summary>Of alerts that are not over.</summary>
    public ConcurrentDictionary<(Guid ReactionId, Guid AlertId), byte> Done { get; } = new();

    public async Task LoadAsync()
    {
        await using var db = database.Open();
        all = await db.Reactions.AsNoTracking().OrderBy(r => r.Id).ToListAsync().ConfigureAwait(false);
        var done = await db.ReactionsDone.AsNoTracking().Where(d => db.Alerts.Any(a => a.Id == d.AlertId && a.State < AlertState.Cleared)).Select(d => new { d.ReactionId, d.AlertId }).ToListAsync().ConfigureAwait(false);
        var keys = done.Select(d => (d.ReactionId, d.AlertId)).ToHashSet();
        foreach (var key in keys)
        {
            Done.TryAdd(key, 0);
        }
        foreach (var key in Done.Keys.Where(k => !keys.Contains(k)))
        {
            Done.TryRemove(key, out _);
        }
        Interlocked.Increment(ref turns);
    }

    /// <summary>Whether a reaction is for a host.</summary>
    public bool IsFor(ReactionRow row, Guid hostId, SelectableHost host) =>
        row.HostId is { } one ? one == hostId : row.GroupId is not { } group || (access.PathOf(group) is { } path && GroupPath.IsAtOrBelow(host.GroupPath, path));

    /// <summary>What is to come of a reaction for an alert now.</summary>
    public async Task<ReactionVerdict> JudgeAsync(ReactionRow row, AlertRow alert, SelectableHost host, DateTimeOffset now, CancellationToken cancel)
    {
        var quiet = maintenance.For(alert.HostId, host, now);
        var known = new ReactedAlert(alert.State, alert.RaisedAt, quiet.Until, null, 0);
        if (row.Terms.Judge(known, now) is { Step: not ReactionStep.Run } verdict)
        {
            return verdict;
        }
        await using var db = database.Open();
        var ran = db.ReactionsDone.Where(d => d.ReactionId == row.Id && d.JobId != null);
        var last = await ran.Where(d => d.HostId == alert.HostId).MaxAsync(d => (DateTimeOffset?)d.At, cancel).ConfigureAwait(false);
        var from = now - ReactionTerms.LookBack;
        var lately = await ran.CountAsync(d => d.At > from, cancel).ConfigureAwait(false);
        return row.Terms.Judge(known with { LastRun = last, RunsOfLate = lately }, now);
    }

    /// <summary>What ran because of an alert, is going to, or did not.</summary>
    public async Task<List<AlertReaction>> OfAsync(AlertRow alert, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var done = await db.ReactionsDone.AsNoTracking().Where(d => d.AlertId == alert.Id).ToDictionaryAsync(d => d.ReactionId, cancel).ConfigureAwait(false);
        var jobs = done.Values.Select(d => d.JobId).OfType<Guid>().ToList();
        var states = await db.Runs.Where(r => jobs.Contains(r.JobId)).Select(r => new { r.JobId, r.State }).ToDictionaryAsync(r => r.JobId, r => r.State, cancel).ConfigureAwait(false);
        var now = time.GetUtcNow();
        var said = new List<AlertReaction>();
        foreach (var row in all.Where(r => r.Check == alert.Check && (r.GroupId is not { } group || (access.PathOf(group) is { } path && by.Reach.Shows(path)))))
        {
            if (done.TryGetValue(row.Id, out var came))
            {
                said.Add(new AlertReaction(row.Id, row.Name, came.At, came.JobId, came.JobId is { } job && states.TryGetValue(job, out var state) ? state : (RunState?)null, came.Problem));
            }
            else if (!alert.State.IsOver() && estate.FindSelectable(alert.HostId) is { Retired: false } host && IsFor(row, alert.HostId, host))
            {
                var says = row.Off ? "It is switched off." : (await JudgeAsync(row, alert, host, now, cancel).ConfigureAwait(false)).Says;
                said.Add(new AlertReaction(row.Id, row.Name, null, null, null, says ?? "It is about to run."));
            }
        }
        return said;
    }
}
