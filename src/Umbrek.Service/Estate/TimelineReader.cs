using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Core.Enrolment;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

/// <summary>What happened to a host, newest first, put together from what each area keeps.</summary>
public sealed class TimelineReader(IDatabase database, EstateIndex index)
{
    /// <param name="before">Only what is older.</param>
    public async Task<Page<TimelineEntry>> ReadAsync(Guid hostId, DateTimeOffset? before, int? limit, CancellationToken cancel)
    {
        _ = index.Find(hostId) ?? throw ProblemException.NotFound("host");
        var size = Paging.Size(limit ?? 50);
        var until = before ?? DateTimeOffset.MaxValue.AddYears(-1);
        await using var db = database.Open();
        var events = await db.HostEvents.AsNoTracking().Where(e => e.HostId == hostId && e.At < until).OrderByDescending(e => e.At).Take(size)
            .Select(e => new TimelineEntry(e.At, e.Kind, e.By, e.Text, null)).ToListAsync(cancel).ConfigureAwait(false);
        var runs = await db.Runs.AsNoTracking().Where(r => r.HostId == hostId).Join(db.Jobs, r => r.JobId, j => j.Id, (r, j) => new { r.State, r.ExitStatus, j.Id, j.CreatedAt, j.CreatedBy, j.Command })
            .Where(j => j.CreatedAt < until).OrderByDescending(j => j.CreatedAt).Take(size).ToListAsync(cancel).ConfigureAwait(false);
        var joined = await db.Enrolments.AsNoTracking().Where(e => e.HostId == hostId && e.At < until && (e.State == EnrolmentState.Joined || e.State == EnrolmentState.TookOver)).OrderByDescending(e => e.At).Take(size).ToListAsync(cancel).ConfigureAwait(false);
        var updates = await db.RolloutHosts.AsNoTracking().Where(h => h.HostId == hostId && h.State == UpdateState.Updated && h.Attempts > 0 && h.At < until).Join(db.Rollouts, h => h.RolloutId, r => r.Id, (h, r) => new { h.At, r.CreatedBy, r.ReleaseId })
            .Join(db.Releases, h => h.ReleaseId, r => r.Id, (h, r) => new { h.At, h.CreatedBy, r.Version }).OrderByDescending(h => h.At).Take(size).ToListAsync(cancel).ConfigureAwait(false);
        var alerts = await db.Alerts.AsNoTracking().Where(a => a.HostId == hostId && a.RaisedAt < until).OrderByDescending(a => a.RaisedAt).Take(size).Select(a => new { a.RaisedAt, a.CheckName, a.What }).ToListAsync(cancel).ConfigureAwait(false);
        var all = events
            .Concat(runs.Select(r => new TimelineEntry(r.CreatedAt, HostEventKind.Ran, r.CreatedBy, $"{JsonSerializer.Deserialize(r.Command, WireJson.Default.CommandSpec)!.Display()}: {Word(r.State)}{(r.ExitStatus is { } exit && r.State == RunState.Failed ? $", exit status {exit}" : "")}", r.Id)))
            .Concat(joined.Select(e => new TimelineEntry(e.At, HostEventKind.Joined, e.DecidedBy ?? "", e.State == EnrolmentState.TookOver ? $"taken over by {e.SystemName} from {e.Address}" : $"from {e.Address}", null)))
            .Concat(updates.Select(u => new TimelineEntry(u.At!.Value, HostEventKind.Updated, u.CreatedBy, $"agent {u.Version}", null)))
            .Concat(alerts.Select(a => new TimelineEntry(a.RaisedAt, HostEventKind.Alerted, "", $"{a.CheckName}: {a.What}", null)))
            .OrderByDescending(e => e.At).Take(size).ToList();
        return new Page<TimelineEntry>(all, all.Count == size ? all[^1].At.ToString("O") : null, all.Count);
    }

    private static string Word(RunState state) => JsonSerializer.Serialize(state, WireJson.Default.RunState).Trim('"');
}
