using System.Collections.Concurrent;
using System.Globalization;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Health;

/// <summary>A notice as it counts.</summary>
/// <param name="DigestAt">Times of day in its zone; null tells at once.</param>
public sealed record EffectiveNotice(NoticeRow Row, NoticeTerms Terms, Selection? On, IReadOnlyList<TimeOnly>? DigestAt)
{
    /// <summary>The first time of day after a moment.</summary>
    public DateTimeOffset NextDigest(DateTimeOffset after)
    {
        var local = TimeZoneInfo.ConvertTime(after, Terms.Zone).DateTime;
        var next = Enumerable.Range(0, 3).SelectMany(day => DigestAt!.Select(at => DateOnly.FromDateTime(local).AddDays(day).ToDateTime(at)))
            .Where(at => !Terms.Zone.IsInvalidTime(at)).Select(at => new DateTimeOffset(at, Terms.Zone.GetUtcOffset(at))).Where(at => at > after).Min();
        return next.ToUniversalTime();
    }
}

/// <summary>Notices in memory, with what each has told of: changed only after the database has the change.</summary>
public sealed class NoticeBook(IDatabase database, SelectionService selections, AccessIndex access)
{
    private volatile IReadOnlyList<EffectiveNotice> notices = [];
    private long turns;

    public IReadOnlyList<EffectiveNotice> All => notices;

    /// <summary>Counts up with every change.</summary>
    public long Turns => Interlocked.Read(ref turns);

    /// <summary>When a notice told of an alert whose end is still to be told.</summary>
    public ConcurrentDictionary<(Guid NoticeId, Guid AlertId), DateTimeOffset> Told { get; } = new();

    public async Task LoadAsync()
    {
        await using var db = database.Open();
        var rows = await db.Notices.AsNoTracking().OrderBy(n => n.Id).ToListAsync().ConfigureAwait(false);
        notices = [.. rows.Select(Read).OfType<EffectiveNotice>()];
        var told = await db.NoticesTold.AsNoTracking().ToListAsync().ConfigureAwait(false);
        foreach (var row in told)
        {
            Told[(row.NoticeId, row.AlertId)] = row.At;
        }
        foreach (var key in Told.Keys.Except(told.Select(t => (t.NoticeId, t.AlertId))))
        {
            Told.TryRemove(key, out _);
        }
        Interlocked.Increment(ref turns);
    }

    /// <summary>Whether a notice is about hosts such as this one.</summary>
    public bool IsAbout(EffectiveNotice notice, SelectableHost host, DateTimeOffset now) =>
        (notice.Row.GroupId is not { } group || (access.PathOf(group) is { } path && GroupPath.IsAtOrBelow(host.GroupPath, path))) && notice.On?.Matches(host, now) != false;

    public static IReadOnlyList<TimeOnly>? ReadTimes(string? text) =>
        string.IsNullOrWhiteSpace(text) ? null : [.. text.Split(' ').Select(t => TimeOnly.ParseExact(t, "HH:mm", CultureInfo.InvariantCulture))];

    public static IReadOnlyList<Subsystem>? ReadAbout(string? text) => text is null ? null : [.. text.Split(' ').Select(Enum.Parse<Subsystem>)];

    /// <summary>A saved selection in it may be gone meanwhile: such a notice tells nobody, and says so.</summary>
    private EffectiveNotice? Read(NoticeRow row)
    {
        try
        {
            var on = row.On is null ? null : selections.Read(row.On);
            var terms = new NoticeTerms(row.AtLeast, ReadAbout(row.About), TimeSpan.FromSeconds(row.AfterSeconds), row.Quiet is null ? null : QuietHours.Parse(row.Quiet, out _), Zones.Kept(row.Zone), row.CriticalAlways);
            return new EffectiveNotice(row, terms, on, ReadTimes(row.DigestAt));
        }
        catch (ProblemException)
        {
            return null;
        }
    }
}
