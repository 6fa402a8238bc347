using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Health;
using Umbrek.Service.Estate;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Health;

/// <summary>
/// The alerts whose cause is there, in memory by host and check: filled from the database at start, changed only here, after the database has the change.
/// </summary>
public sealed class AlertBook(IDatabase database, EstateIndex estate, TimeProvider time) : IDisposable
{
    private readonly ConcurrentDictionary<(Guid HostId, string Check), AlertRow> current = new();
    private readonly SemaphoreSlim turn = new(1, 1);
    private long turns;

    public void Dispose() => turn.Dispose();

    /// <summary>Ids of alerts that changed.</summary>
    public ChangeFeed<Guid> Changes { get; } = new();

    /// <summary>Counts up with every change: whoever looks again and again sees whether there is anything new.</summary>
    public long Turns => Interlocked.Read(ref turns);

    /// <summary>Not over, and dismissed ones whose cause is still there.</summary>
    public ICollection<AlertRow> Current => current.Values;

    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        // A dismissed one stays with its cause: the newest of a host and check says whether it is still there.
        var rows = await db.Alerts.AsNoTracking().Where(a => a.State != AlertState.Cleared).OrderBy(a => a.RaisedAt).ToListAsync(cancel).ConfigureAwait(false);
        foreach (var row in rows)
        {
            current[(row.HostId, row.Check)] = row;
        }
        Show(rows.Select(r => r.HostId));
    }

    /// <summary>Listings of hosts show how many alerts each has, and how bad the worst is.</summary>
    private void Show(IEnumerable<Guid> hosts)
    {
        var ofHosts = current.Values.Where(a => a.State is AlertState.Open or AlertState.Acknowledged).ToLookup(a => a.HostId);
        foreach (var host in hosts.Distinct())
        {
            var shown = ofHosts[host].ToList();
            estate.Alarmed(host, shown.Count, shown.Count == 0 ? null : shown.Max(a => a.Severity));
        }
    }

    public AlertRow? Find(Guid hostId, string check) => current.GetValueOrDefault((hostId, check));

    /// <summary>Stores what was raised and what has cleared, as one.</summary>
    public async Task TurnAsync(IReadOnlyList<AlertRow> raised, IReadOnlyList<(AlertRow Row, string? Note)> cleared, CancellationToken cancel)
    {
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            var now = time.GetUtcNow();
            await using var db = database.Open();
            db.Alerts.AddRange(raised);
            foreach (var (row, note) in cleared)
            {
                var stored = await db.Alerts.FirstOrDefaultAsync(a => a.Id == row.Id, cancel).ConfigureAwait(false);
                if (stored is null)
                {
                    continue;
                }
                // What somebody dismissed stays dismissed in what is told of it later; that its cause is gone shows in the note.
                if (stored.State != AlertState.Dismissed)
                {
                    (stored.State, stored.StateAt, stored.StateBy, stored.SnoozedUntil) = (AlertState.Cleared, now, null, null);
                    stored.Note = note ?? stored.Note;
                }
                else
                {
                    stored.State = AlertState.Cleared;
                }
            }
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        }
        finally
        {
            turn.Release();
        }
        foreach (var row in raised)
        {
            current[(row.HostId, row.Check)] = row;
            Changes.Publish(row.Id);
        }
        foreach (var (row, _) in cleared)
        {
            current.TryRemove((row.HostId, row.Check), out _);
            Changes.Publish(row.Id);
        }
        Interlocked.Increment(ref turns);
        Show([.. raised.Select(r => r.HostId), .. cleared.Select(c => c.Row.HostId)]);
    }

    /// <summary>Changes alerts that are there, in one transaction with what the caller adds to it.</summary>
    public async Task ChangeAsync(IReadOnlyCollection<Guid> ids, Action<AlertRow> change, Func<UmbrekContext, IReadOnlyList<AlertRow>, Task>? also, CancellationToken cancel)
    {
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        List<AlertRow> rows;
        try
        {
            await using var db = database.Open();
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            rows = await db.Alerts.Where(a => ids.Contains(a.Id) && a.State < AlertState.Cleared).ToListAsync(cancel).ConfigureAwait(false);
            rows.ForEach(change);
            if (also is not null)
            {
                await also(db, rows).ConfigureAwait(false);
            }
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
            // Within the turn: a clearing that follows finds them as they are now.
            foreach (var row in rows)
            {
                db.Entry(row).State = EntityState.Detached;
                current[(row.HostId, row.Check)] = row;
            }
        }
        finally
        {
            turn.Release();
        }
        foreach (var row in rows)
        {
            Changes.Publish(row.Id);
        }
        Interlocked.Increment(ref turns);
        Show(rows.Select(r => r.HostId));
    }

    /// <summary>Opens again what was quiet until now.</summary>
    public async Task WakeAsync(CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        if (current.Values.Where(a => a.State == AlertState.Snoozed && a.SnoozedUntil <= now).Select(a => a.Id).ToList() is { Count: > 0 } due)
        {
            await ChangeAsync(
                due,
                a =>
                {
                    // Somebody may have decided otherwise in this very moment.
                    if (a.State == AlertState.Snoozed && a.SnoozedUntil <= now)
                    {
                        (a.State, a.StateAt, a.StateBy, a.SnoozedUntil) = (AlertState.Open, now, null, null);
                    }
                },
                null, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>The host is no more; the database has let its alerts go.</summary>
    public void Forget(Guid hostId)
    {
        foreach (var key in current.Keys.Where(k => k.HostId == hostId))
        {
            current.TryRemove(key, out _);
        }
    }
}
