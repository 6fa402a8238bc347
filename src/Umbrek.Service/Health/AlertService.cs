using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>Shows alerts and does what people decide about them.</summary>
public sealed class AlertService(IDatabase database, AlertBook book, CheckBook checks, EstateIndex estate, SelectionService selections, TimelineReader timeline, AlertLines lines, MaintenanceBook maintenance, AlertNotices notices, ReactionBook reactions, Gate gate, AuditLog audit, TimeProvider time)
{
    private const int MostOver = 500;
    private const int MostActed = 1000;
    private const int MostNote = 500;
    private const int MostTrendDays = 30;
    private const int MostFilling = 5;
    private static readonly TimeSpan LongestSnooze = TimeSpan.FromDays(90);

    /// <summary>Alerts with one cause as one line, the worst first.</summary>
    /// <param name="on">Of hosts of this selection; null is all that one may see.</param>
    /// <param name="all">Those that are over too, the newest.</param>
    public async Task<List<AlertLine>> ListAsync(string? on, AlertState? state, Severity? atLeast, Subsystem? subsystem, string? check, bool all, Asker by, CancellationToken cancel)
    {
        var hosts = string.IsNullOrWhiteSpace(on) ? null : (await selections.SelectAsync(on, by.Reach, cancel).ConfigureAwait(false)).Select(h => h.Id).ToHashSet();
        var rows = book.Current.Where(a => a.State != AlertState.Dismissed || all || state == AlertState.Dismissed).ToList();
        if (all || state?.IsOver() == true)
        {
            await using var db = database.Open();
            var current = rows.Select(r => r.Id).ToHashSet();
            rows.AddRange((await db.Alerts.AsNoTracking().Where(a => a.State >= AlertState.Cleared).OrderByDescending(a => a.Id).Take(MostOver).ToListAsync(cancel).ConfigureAwait(false)).Where(a => !current.Contains(a.Id)));
        }
        var shown = rows
            .Where(a => (hosts is null || hosts.Contains(a.HostId)) && (state is null || a.State == state) && (atLeast is null || a.Severity >= atLeast) && (subsystem is null || a.Subsystem == subsystem) && (check is null || a.Check == check))
            .Select(a => ToInfo(a, by)).OfType<AlertInfo>().ToList();
        // What asks, what somebody is at, what is quiet and what is over are never one line.
        return [.. shown.GroupBy(a => a.State).OrderBy(g => g.Key).SelectMany(g => lines.Fold([.. g], () => estate.SeenBy(by.Reach)))];
    }

    public async Task<AlertDetail> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = book.Current.FirstOrDefault(a => a.Id == id) ?? await db.Alerts.AsNoTracking().FirstOrDefaultAsync(a => a.Id == id, cancel).ConfigureAwait(false);
        if (row is null || ToInfo(row, by) is not { } info)
        {
            throw ProblemException.NotFound("alert");
        }
        var before = (await timeline.ReadAsync(row.HostId, row.RaisedAt, 20, cancel).ConfigureAwait(false)).Items.Where(e => e.At > row.RaisedAt - TimeSpan.FromDays(1)).ToList();
        var same = book.Current.Where(a => a.Check == row.Check && a.Id != id && !a.State.IsOver()).Select(a => ToInfo(a, by)).OfType<AlertInfo>().OrderBy(a => a.Label, StringComparer.OrdinalIgnoreCase).ToList();
        return new AlertDetail(info, GraphOf(row), before, same, await notices.OfAsync(row, by, cancel).ConfigureAwait(false), await reactions.OfAsync(row, by, cancel).ConfigureAwait(false));
    }

    public async Task<List<AlertInfo>> ActAsync(AlertAct act, Asker by, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        var note = act.Note?.Trim() is { Length: > 0 } said ? said : null;
        if (act.Ids is not { Count: > 0 and <= MostActed })
        {
            throw ProblemException.Invalid($"Name 1 to {MostActed} alerts.");
        }
        if (note is { Length: > MostNote })
        {
            throw ProblemException.Invalid($"The note has more than {MostNote} characters.");
        }
        if (act.Act == AlertActKind.Dismiss && note is null)
        {
            throw ProblemException.Invalid("Say why it is dismissed: whoever finds it later has to know. An alert that somebody is at is acknowledged; one that can wait is snoozed.");
        }
        if (act.Act == AlertActKind.Snooze && !(act.Until > now && act.Until <= now + LongestSnooze))
        {
            throw ProblemException.Invalid($"A snooze ends in the future, at most {LongestSnooze.TotalDays:0} days from now; say until when.");
        }
        var ids = act.Ids.Distinct().ToList();
        var rows = book.Current.Where(a => ids.Contains(a.Id)).ToList();
        var known = rows.Where(a => estate.Find(a.HostId, by.Reach) is not null).ToList();
        if (known.Count < ids.Count)
        {
            await using var db = database.Open();
            var missing = ids.Except(known.Select(k => k.Id)).ToList();
            var over = (await db.Alerts.AsNoTracking().Where(a => missing.Contains(a.Id)).ToListAsync(cancel).ConfigureAwait(false)).Find(a => estate.Find(a.HostId, by.Reach) is not null);
            throw over is null ? ProblemException.NotFound("alert") : new ProblemException(409, Wire.Api.ProblemTypes.Conflict, $"'{over.CheckName}' on {estate.Find(over.HostId)?.Label} has cleared by itself meanwhile; nothing was changed. Leave it out.");
        }
        var hosts = known.Select(a => estate.Find(a.HostId)!).DistinctBy(h => h.Id).ToList();
        gate.All(by, Permission.Configure, hosts);
        await book.ChangeAsync(
            ids,
            a =>
            {
                a.State = act.Act switch { AlertActKind.Acknowledge => AlertState.Acknowledged, AlertActKind.Snooze => AlertState.Snoozed, AlertActKind.Dismiss => AlertState.Dismissed, _ => AlertState.Open };
                a.StateAt = now;
                a.StateBy = by.Name;
                a.SnoozedUntil = act.Act == AlertActKind.Snooze ? act.Until?.ToUniversalTime() : null;
                a.Note = note;
            },
            async (db, changed) =>
            {
                foreach (var a in changed)
                {
                    var host = estate.Find(a.HostId);
                    await audit.AddAsync(db, by, $"alert.{act.Act.ToString().ToLowerInvariant()}", $"{a.CheckName} on {host?.Label} in {host?.GroupPath}", cancel, ("id", $"{a.Id}"), ("until", act.Until is { } until && act.Act == AlertActKind.Snooze ? $"{until:O}" : null), ("note", note)).ConfigureAwait(false);
                }
            },
            cancel).ConfigureAwait(false);
        return [.. book.Current.Where(a => ids.Contains(a.Id)).Select(a => ToInfo(a, by)).OfType<AlertInfo>()];
    }

    /// <summary>How the estate, or a place in it, fares: by severity, and by the places directly below it.</summary>
    public HealthOverview Overview(string? path, Asker by)
    {
        var hosts = SeenAt(path, by, out var place);
        var alerts = book.Current.Where(a => !a.State.IsOver()).ToLookup(a => a.HostId);
        var depth = place is null ? 0 : GroupPath.Split(place).Length;
        var below = hosts.Where(h => GroupPath.Split(h.GroupPath).Length > depth).GroupBy(h => GroupPath.Join(GroupPath.Split(h.GroupPath).Take(depth + 1)), StringComparer.OrdinalIgnoreCase)
            .OrderBy(g => g.Key, StringComparer.OrdinalIgnoreCase).Select(g => HealthOf(g.Key, [.. g], alerts));
        return new HealthOverview(HealthOf(place ?? "", hosts, alerts), [.. below]);
    }

    /// <summary>How many alerts there were in each hour of the last days, and whose storage fills up next.</summary>
    public async Task<HealthTrend> TrendAsync(string? path, int days, Asker by, CancellationToken cancel)
    {
        if (days is < 1 or > MostTrendDays)
        {
            throw ProblemException.Invalid($"A trend looks back 1 to {MostTrendDays} days.");
        }
        var hosts = SeenAt(path, by, out _).ToDictionary(h => h.Id);
        var step = TimeSpan.FromHours(days <= 7 ? 1 : 6);
        var from = new DateTimeOffset(time.GetUtcNow().UtcTicks / step.Ticks * step.Ticks, TimeSpan.Zero) - TimeSpan.FromDays(days) + step;
        var points = (int)(TimeSpan.FromDays(days) / step);
        await using var db = database.Open();
        var rows = await db.Alerts.AsNoTracking().Where(a => a.State < AlertState.Cleared || a.StateAt >= from).Select(a => new { a.HostId, a.Severity, a.RaisedAt, a.State, a.StateAt }).ToListAsync(cancel).ConfigureAwait(false);
        var counts = Enum.GetValues<Severity>().ToDictionary(s => s, _ => new int[points]);
        foreach (var row in rows.Where(r => hosts.ContainsKey(r.HostId)))
        {
            var first = Math.Max(0, (int)((row.RaisedAt - from) / step));
            var last = row.State.IsOver() ? Math.Min(points - 1, (int)((row.StateAt - from) / step)) : points - 1;
            for (var i = first; i <= last; i++)
            {
                counts[row.Severity][i]++;
            }
        }
        var filling = hosts.Values.Select(h => (Host: h, FullAt: estate.FindSelectable(h.Id)?.StorageFullAt)).Where(f => f.FullAt is not null).OrderBy(f => f.FullAt).Take(MostFilling)
            .Select(f => new FillingHost(f.Host.Id, f.Host.Label, f.Host.GroupPath, f.Host.StorageMount, f.Host.StorageUsedPercent, f.FullAt!.Value));
        return new HealthTrend(from, (int)step.TotalSeconds, [.. Enumerable.Range(0, points).Select(i => (from + i * step).ToUnixTimeSeconds())], counts[Severity.Critical], counts[Severity.Warning], counts[Severity.Information], [.. filling]);
    }

    /// <summary>Hosts at a place, or everywhere, that are under care and that somebody may see.</summary>
    private List<HostSummary> SeenAt(string? path, Asker by, out string? place)
    {
        var at = place = string.IsNullOrWhiteSpace(path) ? null : GroupPath.Join(GroupPath.Split(path));
        var hosts = estate.SeenBy(by.Reach).Where(h => h.RetiredAt is null && (at is null || GroupPath.IsAtOrBelow(h.GroupPath, at))).ToList();
        return at is not null && hosts.Count == 0 && !by.Reach.Shows(at) ? throw ProblemException.NotFound("group") : hosts;
    }

    /// <summary>How many ask for somebody.</summary>
    public AlertsChanged Count(Asker by)
    {
        var open = book.Current.Where(a => a.State.Asks() && estate.Find(a.HostId, by.Reach) is { RetiredAt: null }).ToList();
        return new AlertsChanged(open.Count, open.Count(a => a.Severity == Severity.Critical));
    }

    private static PlaceHealth HealthOf(string path, List<HostSummary> hosts, ILookup<Guid, AlertRow> alerts)
    {
        var linked = hosts.Count(h => h.Presence.State == PresenceState.Linked);
        var lost = hosts.Count(h => h.Presence is { State: PresenceState.Away, Reason: AwayReason.LostContact });
        return new PlaceHealth(path, hosts.Count, linked, hosts.Count - linked, lost,
            [.. hosts.SelectMany(h => alerts[h.Id]).GroupBy(a => a.Subsystem).OrderBy(g => g.Key).Select(g => new SubsystemState(g.Key, g.Max(a => a.Severity), g.Count(), g.Select(a => a.HostId).Distinct().Count()))]);
    }

    private AlertInfo? ToInfo(AlertRow a, Asker by) => estate.Find(a.HostId, by.Reach) is not { } host ? null
        : ToInfo(a, host) with { QuietUntil = !a.State.IsOver() && estate.FindSelectable(a.HostId) is { } selectable ? maintenance.For(a.HostId, selectable, time.GetUtcNow()).Until : null };

    public static AlertInfo ToInfo(AlertRow a, HostSummary host) => new(
        a.Id, a.HostId, host.Label, host.SystemName, host.GroupPath, a.Check, a.CheckName, a.Subsystem, a.Severity, a.State, a.RaisedAt, a.What, a.Follows, a.Fix, a.StateAt, a.StateBy, a.SnoozedUntil, a.Note);

    /// <summary>The figure that the check compares first, when it is one that is kept over time.</summary>
    private AlertGraph? GraphOf(AlertRow alert)
    {
        if (estate.Find(alert.HostId) is not { } host || checks.For(alert.HostId, host.GroupPath).FirstOrDefault(c => c.Key == alert.Check) is not { } check)
        {
            return null;
        }
        foreach (var compared in check.Rule.When.Flatten().OfType<Selection.Compared>())
        {
            if (compared.Key.Name == "storage.full-in")
            {
                return new AlertGraph("storage.used", host.StorageMount, 100, Relation.AtLeast);
            }
            var (name, than) = compared.Key.Name == "memory.free" && compared.Than.Unit.Dimension == Dimension.Percent ? ("memory.used", 100 - compared.Than.Value) : (compared.Key.Name, compared.Than.Value);
            if (Metric.Find(name) is { } metric)
            {
                return new AlertGraph(metric.Name, name.StartsWith("storage.", StringComparison.Ordinal) ? host.StorageMount : null, than, compared.Relation);
            }
        }
        return null;
    }
}
