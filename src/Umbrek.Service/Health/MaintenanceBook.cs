using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Health;

/// <summary>Whether a host's alerts make no noise now.</summary>
/// <param name="Until">Null when they do.</param>
/// <param name="LastEnd">When its last window ended, of late.</param>
public readonly record struct MaintenanceQuiet(DateTimeOffset? Until, DateTimeOffset? LastEnd, string? Name);

/// <summary>Maintenance windows in memory: which of them hold for a host.</summary>
public sealed class MaintenanceBook(IDatabase database, SelectionService selections, AccessIndex access)
{
    private volatile IReadOnlyList<Window> windows = [];
    private long turns;

    /// <summary>How often the windows were read: another figure means that they may be others.</summary>
    public long Turns => Interlocked.Read(ref turns);

    private sealed record Window(MaintenanceRow Row, Selection? On, MaintenanceTimes Times);

    public async Task LoadAsync()
    {
        await using var db = database.Open();
        windows = [.. (await db.Maintenance.AsNoTracking().OrderBy(m => m.Id).ToListAsync().ConfigureAwait(false)).Select(row => TryRead(row.On, out var on) ? new Window(row, on, new MaintenanceTimes(row)) : null).OfType<Window>()];
        Interlocked.Increment(ref turns);
    }

    public MaintenanceTimes? TimesOf(Guid id) => windows.FirstOrDefault(w => w.Row.Id == id)?.Times;

    public MaintenanceQuiet For(Guid hostId, SelectableHost host, DateTimeOffset now)
    {
        var quiet = new MaintenanceQuiet();
        foreach (var window in windows)
        {
            if ((window.Times.Now(now), window.Times.LastEnd(now)) is var (current, last) && (current ?? (object?)last) is not null && Holds(window.Row, window.On, hostId, host, now))
            {
                if (current is { } time && !(quiet.Until > time.To))
                {
                    quiet = quiet with { Until = time.To, Name = window.Row.Name };
                }
                quiet = quiet with { LastEnd = quiet.LastEnd > last ? quiet.LastEnd : last ?? quiet.LastEnd };
            }
        }
        return quiet;
    }

    /// <summary>Whether a window is about a host, whatever the time.</summary>
    public bool Holds(MaintenanceRow row, Selection? on, Guid hostId, SelectableHost host, DateTimeOffset now) =>
        (row.HostId is { } one ? one == hostId : row.GroupId is not { } group || (access.PathOf(group) is { } path && GroupPath.IsAtOrBelow(host.GroupPath, path)))
        && on?.Matches(host, now) != false;

    /// <summary>A saved selection in it may be gone meanwhile: such a window silences nobody.</summary>
    public bool TryRead(string? text, out Selection? selection)
    {
        selection = null;
        try
        {
            selection = text is null ? null : selections.Read(text);
            return true;
        }
        catch (ProblemException)
        {
            return false;
        }
    }
}
