using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>
/// Looks which alerts are to be told and writes the deliveries. It goes by what is, not by what happened: what could not be told while the service was down, in
/// quiet hours or in a maintenance window is told afterwards if it is still so, and nothing is told twice.
/// </summary>
public sealed partial class NoticeEngine(
    IDatabase database, EstateIndex estate, AlertBook alerts, AlertLines lines, NoticeBook book, MaintenanceBook maintenance, NoticeSender sender, MailSetup mail, AccessIndex access, TimeProvider time, ILogger<NoticeEngine> log) : AlertWatcher(alerts, maintenance, time)
{
    /// <summary>A mail waits so long for what belongs to it: the hosts of a place are lost within seconds of each other.</summary>
    public static readonly TimeSpan Gather = TimeSpan.FromSeconds(10);

    /// <summary>Mails of one notice are at least so far apart; what comes between goes into the next.</summary>
    public static readonly TimeSpan MailSpacing = TimeSpan.FromMinutes(1);

    private readonly Dictionary<Guid, DateTimeOffset> mailedAt = [];

    protected override long Rules => book.Turns;

    /// <summary>An alert with what is needed to judge it.</summary>
    private readonly record struct Known(AlertRow Row, SelectableHost Host, NoticedAlert Alert);

    /// <param name="Open">What is to be told; <paramref name="Over"/> is what was told before and has ended.</param>
    /// <param name="Gone">Told before, and nothing is to be said any more.</param>
    private sealed record News(List<AlertRow> Open, List<AlertRow> Over, List<Guid> Gone)
    {
        public bool IsNothing => Open.Count + Over.Count == 0;
    }

    protected override void Failed(Exception e) => Log.Failed(log, e);

    protected override async Task LookAsync(DateTimeOffset now, CancellationToken cancel)
    {
        if (book.All.Count == 0)
        {
            return;
        }
        var current = Alerts.Current.Where(a => !a.State.IsOver()).Select(a => Look(a, now)).OfType<Known>().ToList();
        foreach (var notice in book.All.Where(n => !n.Row.Off))
        {
            await TellAsync(notice, current, now, cancel).ConfigureAwait(false);
        }
    }

    private Known? Look(AlertRow alert, DateTimeOffset now)
    {
        if (estate.FindSelectable(alert.HostId) is not { Retired: false } host)
        {
            return null;
        }
        var quiet = Windows.For(alert.HostId, host, now);
        return new Known(alert, host, new NoticedAlert(alert.Severity, alert.Subsystem, alert.State == AlertState.Open ? alert.StateAt : null, quiet.Until, quiet.LastEnd));
    }

    private async Task TellAsync(EffectiveNotice notice, List<Known> current, DateTimeOffset now, CancellationToken cancel)
    {
        var digest = notice.DigestAt is not null;
        var digestAt = digest ? notice.NextDigest(notice.Row.DigestedAt ?? notice.Row.CreatedAt) : now;
        if (digestAt > now)
        {
            LookAgain(digestAt);
            return;
        }
        var isMail = notice.Row.Way == NoticeWay.Mail;
        if (isMail && !digest && mailedAt.TryGetValue(notice.Row.Id, out var last) && last <= now && last + MailSpacing > now)
        {
            LookAgain(last + MailSpacing);
            return;
        }
        var news = new News(digest ? Standing(notice, current, now) : Due(notice, current, now, gathers: isMail), [], []);
        await EndedAsync(notice, current, news, cancel).ConfigureAwait(false);
        if (isMail && !digest && news is { Open.Count: 0, Over.Count: > 0 } && news.Over.Min(a => a.StateAt) + Gather is var together && together > now)
        {
            LookAgain(together);
            return;
        }
        var written = news.IsNothing ? [] : isMail ? await MailsAsync(notice, news, digestAt, now, cancel).ConfigureAwait(false) : Events(notice, news, now);
        if (written.Count == 0 && news.Gone.Count == 0 && !digest)
        {
            return;
        }
        if (written.Count > 0 && isMail)
        {
            mailedAt[notice.Row.Id] = now;
        }
        await StoreAsync(notice, news, written, now, cancel).ConfigureAwait(false);
    }

    /// <summary>What is to be told now, and was not.</summary>
    private List<AlertRow> Due(EffectiveNotice notice, List<Known> current, DateTimeOffset now, bool gathers)
    {
        var due = new List<Known>();
        foreach (var known in current)
        {
            if (known.Alert.OpenSince is { } open && book.Told.TryGetValue((notice.Row.Id, known.Row.Id), out var told) && told >= open)
            {
                continue;
            }
            var verdict = notice.Terms.Judge(known.Alert, now);
            if (verdict.Until is { } until)
            {
                LookAgain(until);
            }
            if (verdict.Answer == NoticeAnswer.Due && book.IsAbout(notice, known.Host, now))
            {
                due.Add(known);
            }
        }
        if (gathers && notice.Terms.After < Gather && due.Count > 0 && due.Min(k => k.Alert.OpenSince) + Gather is { } ready && ready > now)
        {
            LookAgain(ready);
            return [];
        }
        return [.. due.Select(k => k.Row)];
    }

    /// <summary>All that asks for somebody, told before or not.</summary>
    private List<AlertRow> Standing(EffectiveNotice notice, List<Known> current, DateTimeOffset now) =>
        [.. current.Where(k => k.Alert is { OpenSince: not null, QuietUntil: null } && notice.Terms.IsAbout(k.Row.Severity, k.Row.Subsystem) && book.IsAbout(notice, k.Host, now)).Select(k => k.Row)];

    private async Task EndedAsync(EffectiveNotice notice, List<Known> current, News news, CancellationToken cancel)
    {
        var there = current.Select(k => k.Row.Id).ToHashSet();
        var ended = book.Told.Keys.Where(k => k.NoticeId == notice.Row.Id && !there.Contains(k.AlertId)).Select(k => k.AlertId).ToList();
        if (ended.Count == 0)
        {
            return;
        }
        news.Gone.AddRange(ended);
        if (notice.Row.TellsEnd)
        {
            await using var db = database.Open();
            // A mail says what ended by itself; that somebody dismissed it he knows himself.
            news.Over.AddRange((await db.Alerts.AsNoTracking().Where(a => ended.Contains(a.Id)).OrderBy(a => a.RaisedAt).ToListAsync(cancel).ConfigureAwait(false))
                .Where(a => a.State.IsOver() && (notice.Row.Way == NoticeWay.Hook || a.State == AlertState.Cleared)));
        }
    }

    private async Task<List<(DeliveryRow, IEnumerable<Guid>)>> MailsAsync(EffectiveNotice notice, News news, DateTimeOffset digestAt, DateTimeOffset now, CancellationToken cancel)
    {
        var console = (await mail.GetAsync(cancel).ConfigureAwait(false)).Console;
        var written = new List<(DeliveryRow, IEnumerable<Guid>)>();
        var reached = new HashSet<Guid>();
        foreach (var (address, reach) in await RecipientsAsync(notice.Row, cancel).ConfigureAwait(false))
        {
            var open = news.Open.Select(a => Info(a, reach)).OfType<AlertInfo>().ToList();
            var over = news.Over.Select(a => Info(a, reach)).OfType<AlertInfo>().ToList();
            if (open.Count + over.Count == 0)
            {
                continue;
            }
            reached.UnionWith(open.Select(a => a.Id));
            var folded = lines.Fold(open, () => estate.SeenBy(reach)).Select(l => new ToldLine(l.What, l.Severity, [.. l.Alerts.Select(a => Told(a, console))])).ToList();
            var ended = over.Select(a => Told(a, console)).ToList();
            var text = notice.DigestAt is null
                ? NoticeText.Write(notice.Row.Name, folded, ended, notice.Terms.After > TimeSpan.Zero && open.Count > 0 ? now - open.Min(a => a.StateAt) : null, notice.Terms.Zone)
                : NoticeText.WriteDigest(notice.Row.Name, folded, ended, digestAt, notice.Terms.Zone);
            var thread = notice.DigestAt is not null ? notice.Row.Id : open.Count > 0 ? open[0].Id : over[0].Id;
            written.Add((New(notice, address, text.Subject, text.Body, thread, now), open.Concat(over).Select(a => a.Id)));
        }
        // What nobody could be told of is not told: it goes out as soon as somebody can be.
        news.Open.RemoveAll(a => !reached.Contains(a.Id));
        return written;
    }

    private List<(DeliveryRow, IEnumerable<Guid>)> Events(EffectiveNotice notice, News news, DateTimeOffset now)
    {
        var raised = notice.Terms.After > TimeSpan.Zero ? "unattended" : "raised";
        return [.. news.Open.Select(a => (Row: a, Type: raised)).Concat(news.Over.Select(a => (Row: a, Type: a.State == AlertState.Dismissed ? "dismissed" : "cleared"))).Select(e => (e.Row, e.Type, Info: Info(e.Row, Reach.Unlimited)))
            .Where(e => e.Info is not null).Select(e =>
            {
                var row = New(notice, notice.Row.Url!, $"{e.Type}: {e.Info!.CheckName} on {e.Info.Label}", "", null, now);
                row.Body = JsonSerializer.Serialize(new HookEvent("1.0", $"{row.Id}", "/api/v1/alerts", $"umbrek.alert.{e.Type}", $"{e.Row.Id}", now, "application/json", e.Info), WireJson.Default.HookEvent);
                return (row, (IEnumerable<Guid>)[e.Row.Id]);
            })];
    }

    private static DeliveryRow New(EffectiveNotice notice, string to, string subject, string body, Guid? thread, DateTimeOffset now) => new()
    {
        Id = Guid.CreateVersion7(now),
        NoticeId = notice.Row.Id,
        Way = notice.Row.Way,
        To = to,
        Subject = subject,
        Body = body,
        Thread = thread,
        CreatedAt = now,
        NextAt = now,
    };

    /// <summary>The deliveries and what they tell of, as one.</summary>
    private async Task StoreAsync(EffectiveNotice notice, News news, List<(DeliveryRow Row, IEnumerable<Guid> Alerts)> written, DateTimeOffset now, CancellationToken cancel)
    {
        var id = notice.Row.Id;
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var told = news.Open.Select(a => a.Id).ToHashSet();
        var there = await db.NoticesTold.Where(t => t.NoticeId == id).ToDictionaryAsync(t => t.AlertId, cancel).ConfigureAwait(false);
        db.NoticesTold.RemoveRange(news.Gone.Where(there.ContainsKey).Select(a => there[a]));
        foreach (var alert in told)
        {
            if (there.TryGetValue(alert, out var row))
            {
                row.At = now;
            }
            else
            {
                db.NoticesTold.Add(new NoticeToldRow { NoticeId = id, AlertId = alert, At = now });
            }
        }
        db.Deliveries.AddRange(written.Select(w => w.Row));
        db.DeliveryAlerts.AddRange(written.SelectMany(w => w.Alerts.Distinct().Select(a => new DeliveryAlertRow { DeliveryId = w.Row.Id, AlertId = a })));
        if (notice.DigestAt is not null)
        {
            await db.Notices.Where(n => n.Id == id).ExecuteUpdateAsync(n => n.SetProperty(r => r.DigestedAt, now), cancel).ConfigureAwait(false);
            notice.Row.DigestedAt = now;
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        foreach (var alert in news.Gone)
        {
            book.Told.TryRemove((id, alert), out _);
        }
        foreach (var alert in told)
        {
            book.Told[(id, alert)] = now;
        }
        if (written.Count > 0)
        {
            sender.Wake();
        }
    }

    /// <summary>Who gets mail, each with what he may see; an address that nobody signs in with was given by whoever may tell of the place.</summary>
    private async Task<List<(string Address, Reach Reach)>> RecipientsAsync(NoticeRow notice, CancellationToken cancel)
    {
        var all = notice.Addresses.Split(' ', StringSplitOptions.RemoveEmptyEntries).Select(a => (Address: a, Reach.Unlimited)).ToList();
        if (notice.TeamId is { } team)
        {
            await using var db = database.Open();
            var people = await db.TeamMembers.Where(m => m.TeamId == team).Join(db.Users, m => m.TechnicianId, u => u.Id, (_, u) => new { u.Id, u.Email }).Where(u => u.Email != null).OrderBy(u => u.Email).ToListAsync(cancel).ConfigureAwait(false);
            all.AddRange(people.Where(p => !all.Exists(a => a.Address.Equals(p.Email, StringComparison.OrdinalIgnoreCase))).Select(p => (p.Email!, access.Find(p.Id)?.Reach)).Where(p => p.Reach is not null).Select(p => (p.Item1, p.Reach!)));
        }
        return all;
    }

    private AlertInfo? Info(AlertRow alert, Reach reach) => estate.Find(alert.HostId, reach) is { } host ? AlertService.ToInfo(alert, host) : null;

    private static ToldAlert Told(AlertInfo a, string? console) => new(a.Label, a.GroupPath, a.CheckName, a.Severity, a.RaisedAt, a.What, a.Follows, a.Fix, console is null ? null : $"{console.TrimEnd('/')}/now/{a.Id}");

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Error, Message = "Notices could not be written; they are looked at again")]
        public static partial void Failed(ILogger logger, Exception e);
    }
}
