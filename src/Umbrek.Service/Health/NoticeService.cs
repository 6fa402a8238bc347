using System.Globalization;
using System.Security.Cryptography;
using System.Text.Json;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Health;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>Keeps notices, and shows what became of what they sent.</summary>
public sealed class NoticeService(IDatabase database, NoticeBook book, NoticeSender sender, SelectionService selections, AccessIndex access, Gate gate, IDataProtectionProvider protection, AuditLog audit, TimeProvider time)
{
    private const int Most = 200;
    private const int MostAddresses = 20;
    private const int MostDigests = 6;
    private const int MostUrl = 500;
    private const int MostShown = 200;

    public async Task<List<NoticeInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = await db.Notices.AsNoTracking().OrderBy(n => n.Name).ToListAsync(cancel).ConfigureAwait(false);
        var shown = rows.Where(r => IsShown(r, by)).ToList();
        var counts = await db.Deliveries.Where(d => d.State != DeliveryState.Delivered).GroupBy(d => new { d.NoticeId, d.State }).Select(g => new { g.Key.NoticeId, g.Key.State, Count = g.Count() }).ToListAsync(cancel).ConfigureAwait(false);
        var last = await db.Deliveries.Where(d => d.State == DeliveryState.Delivered).GroupBy(d => d.NoticeId).Select(g => new { g.Key, At = g.Max(d => d.DoneAt) }).ToDictionaryAsync(g => g.Key, g => g.At, cancel).ConfigureAwait(false);
        var teams = await db.Teams.AsNoTracking().ToDictionaryAsync(t => t.Id, t => t.Name, cancel).ConfigureAwait(false);
        var reachable = (await db.TeamMembers.Join(db.Users, m => m.TechnicianId, u => u.Id, (m, u) => new { m.TeamId, u.Email }).Where(u => u.Email != null).Select(u => u.TeamId).Distinct().ToListAsync(cancel).ConfigureAwait(false)).ToHashSet();
        var list = new List<NoticeInfo>();
        foreach (var row in shown)
        {
            int Count(DeliveryState state) => counts.Where(c => c.NoticeId == row.Id && c.State == state).Sum(c => c.Count);
            var waiting = Count(DeliveryState.Waiting);
            var problem = waiting == 0 ? null : await db.Deliveries.Where(d => d.NoticeId == row.Id && d.State == DeliveryState.Waiting && d.Problem != null).OrderBy(d => d.Id).Select(d => d.Problem).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
            var team = row.TeamId is { } id ? teams.GetValueOrDefault(id) : null;
            var trouble = !book.All.Any(n => n.Row.Id == row.Id) ? "Its selection can't be read any more: a saved selection in it is gone."
                : row.Way == NoticeWay.Mail && row.Addresses.Length == 0 && (row.TeamId is not { } t || !reachable.Contains(t)) ? team is null ? "It tells nobody: its team is gone." : $"It tells nobody: no one of {team} has a mail address. Each sets one under People."
                : problem;
            list.Add(new NoticeInfo(
                row.Id, row.Name, row.GroupId, row.GroupId is { } group ? access.PathOf(group) : null, row.On, row.AtLeast, NoticeBook.ReadAbout(row.About), row.Way, row.TeamId, team, row.Addresses.Split(' ', StringSplitOptions.RemoveEmptyEntries), row.Url is { } url && !MayChange(row, by) ? HookPost.Shown(url) : row.Url,
                row.AfterSeconds, row.DigestAt?.Split(' '), row.Quiet, row.Zone, row.CriticalAlways, row.TellsEnd, row.Off, waiting, Count(DeliveryState.Failed), last.GetValueOrDefault(row.Id), trouble, row.CreatedBy, row.Version));
        }
        return list;
    }

    public async Task<NoticeInfo> GetAsync(Guid id, Asker by, CancellationToken cancel) => (await ListAsync(by, cancel).ConfigureAwait(false)).Find(n => n.Id == id) ?? throw ProblemException.NotFound("notice");

    public async Task<NoticeMade> CreateAsync(NewNotice wish, Asker by, CancellationToken cancel)
    {
        var row = new NoticeRow { Id = Guid.CreateVersion7(), CreatedAt = time.GetUtcNow(), CreatedBy = by.Name, Version = 1 };
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        await FillAsync(db, row, wish, by, cancel).ConfigureAwait(false);
        if (await db.Notices.CountAsync(cancel).ConfigureAwait(false) >= Most)
        {
            throw ProblemException.Invalid($"There are {Most} notices already; remove some that nobody needs.");
        }
        var secret = row.Way == NoticeWay.Hook ? NewSecret(row) : null;
        db.Notices.Add(row);
        await audit.AddAsync(db, by, "notice.create", row.Name, cancel, Told(row)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
        return new NoticeMade(await GetAsync(row.Id, by, cancel).ConfigureAwait(false), secret);
    }

    public async Task<NoticeInfo> ChangeAsync(Guid id, NewNotice wish, long version, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        Ask(by, row.GroupId);
        if (row.Version != version)
        {
            throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed '{row.Name}' meanwhile. Read it again and repeat the change if it is still right.");
        }
        if (row.Way != wish.Way)
        {
            throw ProblemException.Invalid("A notice by mail does not become one by web hook, nor the other way round: make another one.");
        }
        await FillAsync(db, row, wish, by, cancel).ConfigureAwait(false);
        row.Version++;
        await audit.AddAsync(db, by, "notice.change", row.Name, cancel, Told(row)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
        return await GetAsync(id, by, cancel).ConfigureAwait(false);
    }

    /// <summary>Another secret for the web hook; what is signed from now on is signed with it.</summary>
    public async Task<NoticeMade> RenewSecretAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        Ask(by, row.GroupId);
        if (row.Way != NoticeWay.Hook)
        {
            throw ProblemException.Invalid("Only a web hook has a secret.");
        }
        var secret = NewSecret(row);
        row.Version++;
        await audit.AddAsync(db, by, "notice.secret", row.Name, cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
        return new NoticeMade(await GetAsync(id, by, cancel).ConfigureAwait(false), secret);
    }

    public async Task RemoveAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        Ask(by, row.GroupId);
        db.Notices.Remove(row);
        await audit.AddAsync(db, by, "notice.remove", row.Name, cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
    }

    /// <summary>Sends something harmless now, once, and says how that went.</summary>
    /// <param name="to">With mail, the one of the notice's addresses that it goes to; the first, or the asker's own, when it is null.</param>
    public async Task<DeliveryInfo> TryAsync(Guid id, string? to, Asker by, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        var delivery = new DeliveryRow { Id = Guid.CreateVersion7(now), NoticeId = id, CreatedAt = now, NextAt = now.AddMinutes(1), Subject = "A trial" };
        NoticeRow row;
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
            Ask(by, row.GroupId);
            var own = await db.Users.Where(u => u.Id == by.Id).Select(u => u.Email).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
            var addresses = row.Addresses.Split(' ', StringSplitOptions.RemoveEmptyEntries);
            delivery.Way = row.Way;
            if (row.Way == NoticeWay.Hook)
            {
                delivery.To = row.Url!;
                delivery.Body = JsonSerializer.Serialize(new HookEvent("1.0", $"{delivery.Id}", $"/api/v1/notices/{id}", "umbrek.notice.tried", null, now, "application/json", null), WireJson.Default.HookEvent);
            }
            else
            {
                delivery.To = to is not null && (addresses.Contains(to, StringComparer.OrdinalIgnoreCase) || to.Equals(own, StringComparison.OrdinalIgnoreCase)) ? to
                    : to is not null ? throw ProblemException.Invalid($"A trial goes to an address of the notice or to your own; {TerminalText.Line(to)} is neither.")
                    : addresses.FirstOrDefault() ?? own ?? throw ProblemException.Invalid("The notice has no address, and you have none. Set your mail address first.");
                delivery.Body = $"{by.Name} tries the notice '{row.Name}'. Nothing is wrong.\n\n-- \nUmbrek\n";
            }
            db.Deliveries.Add(delivery);
            await audit.AddAsync(db, by, "notice.try", row.Name, cancel, ("to", delivery.To)).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        var tried = await sender.TryNowAsync(delivery.Id, cancel).ConfigureAwait(false) ?? delivery;
        if (tried.State != DeliveryState.Delivered)
        {
            // The answer says why; one that comes tomorrow would only puzzle.
            tried.State = DeliveryState.Failed;
            await using var db = database.Open();
            await db.Deliveries.Where(d => d.Id == delivery.Id).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        }
        return ToInfo(tried, row.Name, mayChange: true, withBody: true);
    }

    /// <summary>What was sent, the newest first: what it is about stands in it, so of notices at places of which one may see everything.</summary>
    public async Task<Page<DeliveryInfo>> DeliveriesAsync(Guid? noticeId, DeliveryState? state, string? cursor, int? limit, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        if (noticeId is { } named)
        {
            await FindAsync(db, named, by, cancel).ConfigureAwait(false);
        }
        var names = (await db.Notices.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false)).Where(r => MayKnowOfAll(r, by) && (noticeId is null || r.Id == noticeId)).ToDictionary(r => r.Id);
        var ids = names.Keys.ToList();
        var (before, most) = (string.IsNullOrEmpty(cursor) ? (Guid?)null : Paging.ReadCursor(cursor), Paging.Size(limit));
        var all = db.Deliveries.AsNoTracking().Where(d => ids.Contains(d.NoticeId) && (state == null || d.State == state));
        var rows = await all.Where(d => before == null || d.Id.CompareTo(before.Value) < 0).OrderByDescending(d => d.Id).Take(most + 1).ToListAsync(cancel).ConfigureAwait(false);
        return new Page<DeliveryInfo>([.. rows.Take(most).Select(r => ToInfo(r, names[r.NoticeId].Name, MayChange(names[r.NoticeId], by), withBody: false))], rows.Count > most ? $"{rows[most - 1].Id}" : null, await all.CountAsync(cancel).ConfigureAwait(false));
    }

    public async Task<DeliveryInfo> DeliveryAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Deliveries.AsNoTracking().FirstOrDefaultAsync(d => d.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("delivery");
        var notice = await FindAsync(db, row.NoticeId, by, cancel).ConfigureAwait(false);
        if (!MayKnowOfAll(notice, by))
        {
            throw ProblemException.NotFound("delivery");
        }
        // Whoever may change the notice may read what it says.
        var mayChange = MayChange(notice, by);
        return ToInfo(row, notice.Name, mayChange, withBody: mayChange);
    }

    /// <summary>Has what did not arrive tried again, or forgets it.</summary>
    public async Task<DeliveriesChanged> ActAsync(DeliveryAct act, Asker by, CancellationToken cancel)
    {
        if (!Enum.IsDefined(act.Act) || (act.Ids is null) == (act.NoticeId is null) || act.Ids is { Count: 0 or > MostShown })
        {
            throw ProblemException.Invalid($"Say what to do, resend or drop, and with what: 1 to {MostShown} deliveries, or a notice for all of it that were given up.");
        }
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var rows = await db.Deliveries.Where(d => d.State != DeliveryState.Delivered && (act.Ids == null ? d.NoticeId == act.NoticeId && d.State == DeliveryState.Failed : act.Ids.Contains(d.Id))).ToListAsync(cancel).ConfigureAwait(false);
        if (act.NoticeId is { } named)
        {
            await FindAsync(db, named, by, cancel).ConfigureAwait(false);
        }
        foreach (var notice in rows.Select(r => r.NoticeId).Distinct())
        {
            var row = await FindAsync(db, notice, by, cancel).ConfigureAwait(false);
            Ask(by, row.GroupId);
            await audit.AddAsync(db, by, $"notice.{act.Act.ToString().ToLowerInvariant()}", row.Name, cancel, ("deliveries", $"{rows.Count(r => r.NoticeId == notice)}")).ConfigureAwait(false);
        }
        var now = time.GetUtcNow();
        foreach (var row in rows)
        {
            if (act.Act == DeliveryActKind.Drop)
            {
                db.Deliveries.Remove(row);
            }
            else
            {
                // It has another whole day.
                (row.State, row.NextAt, row.CreatedAt, row.DoneAt, row.Attempts) = (DeliveryState.Waiting, now, now, null, 0);
            }
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        sender.Wake(rows.Select(r => r.NoticeId));
        return new DeliveriesChanged(rows.Count);
    }

    private async Task FillAsync(UmbrekContext db, NoticeRow row, NewNotice wish, Asker by, CancellationToken cancel)
    {
        Ask(by, wish.GroupId);
        row.Name = Names.Clean(wish.Name, "notice's name", out var problem) ?? throw ProblemException.Invalid(problem);
        if (!Enum.IsDefined(wish.Way) || !Enum.IsDefined(wish.AtLeast) || wish.About?.All(Enum.IsDefined) == false)
        {
            throw ProblemException.Invalid("A notice goes by mail or hook, tells from information, warning or critical upwards, and is about subsystems such as storage or services.");
        }
        var addresses = (wish.Addresses ?? []).Select(a => a.Trim()).Where(a => a.Length > 0).Distinct(StringComparer.OrdinalIgnoreCase).ToList();
        if (wish.Way == NoticeWay.Mail)
        {
            if (addresses.Find(a => !MailSetup.IsAddress(a)) is { } wrong)
            {
                throw ProblemException.Invalid($"'{TerminalText.Line(wrong)}' is no mail address.");
            }
            if (addresses.Count > MostAddresses || (addresses.Count == 0 && wish.TeamId is null) || wish.Url is not null)
            {
                throw ProblemException.Invalid($"A notice by mail goes to a team, to 1 to {MostAddresses} addresses, or to both, and has no web address.");
            }
            if (wish.TeamId is { } team && !await db.Teams.AnyAsync(t => t.Id == team, cancel).ConfigureAwait(false))
            {
                throw ProblemException.NotFound("team");
            }
        }
        else if (addresses.Count > 0 || wish.TeamId is not null || wish.DigestAt is { Count: > 0 })
        {
            throw ProblemException.Invalid("A web hook has one web address; teams, mail addresses and summaries belong to mail.");
        }
        else if (!(wish.Url is { Length: <= MostUrl } && Uri.TryCreate(wish.Url, UriKind.Absolute, out var target) && target.Scheme is "https" or "http" && target is { UserInfo: "", Fragment: "" }))
        {
            throw ProblemException.Invalid("A web hook needs an address such as https://desk.halyard.example/alerts, without a name or password in it.");
        }
        if (!double.IsFinite(wish.AfterSeconds) || wish.AfterSeconds < 0 || wish.AfterSeconds > NoticeTerms.MostAfter.TotalSeconds)
        {
            throw ProblemException.Invalid($"An escalation waits at most {NoticeTerms.MostAfter.TotalDays:0} days.");
        }
        var times = (wish.DigestAt ?? []).Select(t => TimeOnly.TryParseExact(t.Trim(), ["HH:mm", "H:mm"], CultureInfo.InvariantCulture, DateTimeStyles.None, out var at) ? at : throw ProblemException.Invalid($"'{TerminalText.Line(t)}' is no time of day; write it like 08:00.")).Distinct().Order().ToList();
        if (times.Count > MostDigests || (times.Count > 0 && (wish.AfterSeconds > 0 || !string.IsNullOrWhiteSpace(wish.Quiet))))
        {
            throw ProblemException.Invalid(times.Count > MostDigests ? $"{MostDigests} summaries a day are the most." : "A summary comes at its times of day: it has no quiet hours and does not escalate.");
        }
        var quiet = string.IsNullOrWhiteSpace(wish.Quiet) ? null : QuietHours.Parse(wish.Quiet, out problem) ?? throw ProblemException.Invalid(problem);
        var on = string.IsNullOrWhiteSpace(wish.On) ? null : selections.Read(wish.On);
        if (on is not null && !EstateIndex.CanAnswer(on))
        {
            throw ProblemException.Invalid($"A notice can't look at {string.Join(", ", on.FactsRead.Where(f => !EstateIndex.Holds(f)))}: only facts that have a key of their own are at hand all the time.");
        }
        (row.GroupId, row.On, row.AtLeast, row.Way, row.TeamId, row.Addresses, row.Url) = (wish.GroupId, on?.ToString(), wish.AtLeast, wish.Way, wish.TeamId, string.Join(' ', addresses), wish.Url);
        row.About = wish.About is { Count: > 0 } about ? string.Join(' ', about.Distinct().Order()) : null;
        (row.AfterSeconds, row.Quiet, row.Zone, row.CriticalAlways, row.TellsEnd, row.Off) = (wish.AfterSeconds, quiet?.ToString(), Zones.Find(wish.Zone).Id, wish.CriticalAlways, wish.TellsEnd, wish.Off);
        row.DigestAt = times.Count == 0 ? null : string.Join(' ', times.Select(t => t.ToString("HH:mm", CultureInfo.InvariantCulture)));
    }

    private static (string, string?)[] Told(NoticeRow row) =>
        [("by", row.Way.ToString().ToLowerInvariant()), ("to", row.Url ?? row.Addresses), ("from", row.AtLeast.ToString().ToLowerInvariant()), ("after", row.AfterSeconds > 0 ? $"{row.AfterSeconds.ToString(CultureInfo.InvariantCulture)} s" : null), ("off", row.Off ? "yes" : null)];

    private string NewSecret(NoticeRow row)
    {
        var secret = RandomNumberGenerator.GetBytes(HookSignature.SecretBytes);
        row.ProtectedSecret = Convert.ToBase64String(protection.CreateProtector(HookPost.SecretPurpose).Protect(secret));
        var text = Convert.ToBase64String(secret);
        CryptographicOperations.ZeroMemory(secret);
        return text;
    }

    private void Ask(Asker by, Guid? groupId)
    {
        if (groupId is { } group)
        {
            gate.Group(by, group, Permission.Configure);
        }
        else
        {
            gate.Everywhere(by, Permission.Configure);
        }
    }

    private async Task<NoticeRow> FindAsync(UmbrekContext db, Guid id, Asker by, CancellationToken cancel) =>
        await db.Notices.FirstOrDefaultAsync(n => n.Id == id, cancel).ConfigureAwait(false) is { } row && IsShown(row, by) ? row : throw ProblemException.NotFound("notice");

    private bool MayKnowOfAll(NoticeRow row, Asker by) => row.GroupId is { } group ? access.PathOf(group) is { } path && by.Reach.May(Permission.See, path) : by.Reach.Everywhere.Contains(Permission.See);

    private bool MayChange(NoticeRow row, Asker by) => row.GroupId is { } group ? access.PathOf(group) is { } path && by.Reach.May(Permission.Configure, path) : by.Reach.Everywhere.Contains(Permission.Configure);

    private bool IsShown(NoticeRow row, Asker by) => row.GroupId is not { } group ? by.Reach.Anywhere.Contains(Permission.See) : access.PathOf(group) is { } path && by.Reach.Shows(path);

    private static DeliveryInfo ToInfo(DeliveryRow d, string notice, bool mayChange, bool withBody) =>
        new(d.Id, d.NoticeId, notice, d.Way, d.Way == NoticeWay.Hook && !mayChange ? HookPost.Shown(d.To) : d.To, d.Subject, withBody ? d.Body : null, d.State, d.Attempts, d.CreatedAt, d.State == DeliveryState.Waiting ? d.NextAt : null, d.DoneAt, d.Problem);
}
