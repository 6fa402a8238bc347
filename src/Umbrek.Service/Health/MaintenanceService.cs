using System.Globalization;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>Keeps maintenance windows.</summary>
public sealed class MaintenanceService(IDatabase database, MaintenanceBook book, EstateIndex estate, SelectionService selections, AccessIndex access, Gate gate, AuditLog audit, TimeProvider time)
{
    private const int Most = 500;
    private const int MostNote = 500;

    /// <summary>How long one that is over is still shown.</summary>
    private static readonly TimeSpan ShownAfter = TimeSpan.FromDays(7);

    /// <param name="hostId">Only those that hold for this host.</param>
    public async Task<List<MaintenanceInfo>> ListAsync(Guid? hostId, Asker by, CancellationToken cancel)
    {
        if (hostId is { } id && estate.Find(id, by.Reach) is null)
        {
            throw ProblemException.NotFound("host");
        }
        await using var db = database.Open();
        var rows = await db.Maintenance.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false);
        var now = time.GetUtcNow();
        return [.. rows.Where(r => IsShown(r, by) && (hostId is null || IsFor(r, hostId.Value, now))).Select(r => ToInfo(r, by, now))
            .Where(i => i.From is not null || book.TimesOf(i.Id)?.LastEnd(now) > now - ShownAfter).OrderByDescending(i => i.Now).ThenBy(i => i.From ?? DateTimeOffset.MaxValue).ThenBy(i => i.Name, StringComparer.OrdinalIgnoreCase)];
    }

    public async Task<MaintenanceInfo> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        return ToInfo(await FindAsync(db, id, by, cancel).ConfigureAwait(false), by, time.GetUtcNow());
    }

    /// <summary>The window as an iCalendar file (RFC 5545).</summary>
    public async Task<string> CalendarAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        return new MaintenanceTimes(await FindAsync(db, id, by, cancel).ConfigureAwait(false)).ToCalendar();
    }

    public async Task<MaintenanceInfo> CreateAsync(NewMaintenance wish, Asker by, CancellationToken cancel)
    {
        var row = new MaintenanceRow { Id = Guid.CreateVersion7(), CreatedAt = time.GetUtcNow(), CreatedBy = by.Name, Version = 1 };
        var place = Fill(row, wish, by);
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        if (await db.Maintenance.CountAsync(cancel).ConfigureAwait(false) >= Most)
        {
            throw ProblemException.Invalid($"There are {Most} maintenance windows already; remove some that are over.");
        }
        db.Maintenance.Add(row);
        await audit.AddAsync(db, by, "maintenance.create", row.Name, cancel, ("place", place ?? "everything"), ("on", row.On), ("starts", $"{row.Starts} {row.Zone}"), ("minutes", $"{row.Minutes}"), ("rule", row.Rule)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
        return ToInfo(row, by, time.GetUtcNow());
    }

    public async Task<MaintenanceInfo> ChangeAsync(Guid id, NewMaintenance wish, long version, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        Ask(by, row.GroupId, row.HostId);
        if (row.Version != version)
        {
            throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed '{row.Name}' meanwhile. Read it again and repeat the change if it is still right.");
        }
        var place = Fill(row, wish, by);
        row.EndedAt = null;
        row.Version++;
        await audit.AddAsync(db, by, "maintenance.change", row.Name, cancel, ("place", place ?? "everything"), ("on", row.On), ("starts", $"{row.Starts} {row.Zone}"), ("minutes", $"{row.Minutes}"), ("rule", row.Rule)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
        return ToInfo(row, by, time.GetUtcNow());
    }

    /// <summary>Ends a window: what goes on is over now, and it does not come again.</summary>
    public async Task<MaintenanceInfo> EndAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        Ask(by, row.GroupId, row.HostId);
        if (row.EndedAt is null)
        {
            row.EndedAt = time.GetUtcNow();
            row.Version++;
            await audit.AddAsync(db, by, "maintenance.end", row.Name, cancel).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
            await book.LoadAsync().ConfigureAwait(false);
        }
        return ToInfo(row, by, time.GetUtcNow());
    }

    public async Task RemoveAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        Ask(by, row.GroupId, row.HostId);
        db.Maintenance.Remove(row);
        await audit.AddAsync(db, by, "maintenance.remove", row.Name, cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
    }

    /// <summary>Lets through who may configure the host, at the group, or everywhere.</summary>
    /// <returns>What it is called.</returns>
    private string? Ask(Asker by, Guid? groupId, Guid? hostId)
    {
        if (hostId is { } host)
        {
            return gate.Host(by, host, Permission.Configure).Label;
        }
        if (groupId is { } group)
        {
            return gate.Group(by, group, Permission.Configure);
        }
        gate.Everywhere(by, Permission.Configure);
        return null;
    }

    private string? Fill(MaintenanceRow row, NewMaintenance wish, Asker by)
    {
        if (wish is { GroupId: not null, HostId: not null } or { HostId: not null, On: not null })
        {
            throw ProblemException.Invalid("Name a group, with a selection or without, or one host.");
        }
        var place = Ask(by, wish.GroupId, wish.HostId);
        row.Name = Names.Clean(wish.Name, "window's name", out var problem) ?? throw ProblemException.Invalid(problem);
        if (wish.Minutes is < 1 or > MaintenanceTimes.MostMinutes)
        {
            throw ProblemException.Invalid("A maintenance window lasts 1 minute to 7 days. What is quiet for longer is better switched off as a check, or snoozed.");
        }
        var zone = Zones.Find(wish.Zone);
        if (wish.Starts is null && wish.Rule is not null)
        {
            throw ProblemException.Invalid("Say when the first one starts, for example 2026-11-29T22:00.");
        }
        var starts = wish.Starts is null ? TimeZoneInfo.ConvertTime(time.GetUtcNow(), zone).DateTime
            : DateTime.TryParseExact(wish.Starts, [MaintenanceTimes.StartsFormat, "yyyy-MM-dd HH:mm"], CultureInfo.InvariantCulture, DateTimeStyles.None, out var at) && at.Year is > 2000 and < 2100 ? at
            : throw ProblemException.Invalid($"'{TerminalText.Line(wish.Starts)}' is no time to start; write it like 2026-11-29T22:00, in the window's own zone.");
        var on = string.IsNullOrWhiteSpace(wish.On) ? null : selections.Read(wish.On);
        if (on is not null && !EstateIndex.CanAnswer(on))
        {
            throw ProblemException.Invalid($"A maintenance window can't look at {string.Join(", ", on.FactsRead.Where(f => !EstateIndex.Holds(f)))}: only facts that have a key of their own are at hand all the time.");
        }
        var rule = string.IsNullOrWhiteSpace(wish.Rule) ? null : MaintenanceTimes.ReadRule(wish.Rule, out problem) ?? throw ProblemException.Invalid(problem);
        if (wish.Note?.Trim().Length > MostNote)
        {
            throw ProblemException.Invalid($"The note has more than {MostNote} characters.");
        }
        (row.GroupId, row.HostId, row.On, row.Starts, row.Zone, row.Minutes, row.Rule, row.Note) =
            (wish.GroupId, wish.HostId, on?.ToString(), starts.ToString(MaintenanceTimes.StartsFormat, CultureInfo.InvariantCulture), zone.Id, wish.Minutes, rule, string.IsNullOrWhiteSpace(wish.Note) ? null : wish.Note.Trim());
        var times = new MaintenanceTimes(row);
        if (times.Now(time.GetUtcNow()) is null && times.Next(time.GetUtcNow()) is null)
        {
            throw ProblemException.Invalid(rule is null ? "That is over already. Say a time that is still to come." : "By that rule there is no time to come. Look at its days, its months and its end.");
        }
        return place;
    }

    private async Task<MaintenanceRow> FindAsync(UmbrekContext db, Guid id, Asker by, CancellationToken cancel) =>
        await db.Maintenance.FirstOrDefaultAsync(m => m.Id == id, cancel).ConfigureAwait(false) is { } row && IsShown(row, by) ? row : throw ProblemException.NotFound("maintenance window");

    private bool IsShown(MaintenanceRow row, Asker by) =>
        row.HostId is { } host ? estate.Find(host, by.Reach) is not null : row.GroupId is not { } group || (access.PathOf(group) is { } path && by.Reach.Shows(path));

    private bool IsFor(MaintenanceRow row, Guid hostId, DateTimeOffset now) =>
        estate.FindSelectable(hostId) is { } host && book.TryRead(row.On, out var on) && book.Holds(row, on, hostId, host, now);

    private MaintenanceInfo ToInfo(MaintenanceRow row, Asker by, DateTimeOffset now)
    {
        var times = new MaintenanceTimes(row);
        var current = times.Now(now);
        var shown = current ?? times.Next(now);
        var place = row.HostId is { } host ? estate.Find(host)?.Label : row.GroupId is { } group ? access.PathOf(group) : null;
        var hosts = book.TryRead(row.On, out var on) ? estate.SeenBy(by.Reach).Count(h => h.RetiredAt is null && estate.FindSelectable(h.Id) is { } selectable && book.Holds(row, on, h.Id, selectable, now)) : 0;
        return new MaintenanceInfo(row.Id, row.Name, row.GroupId, row.HostId, place, row.On, row.Starts, row.Zone, row.Minutes, row.Rule, row.Note, current is not null, shown?.From, shown?.To, hosts, row.CreatedBy, row.Version);
    }
}
