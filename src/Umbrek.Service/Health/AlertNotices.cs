using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Health;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Storage;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>Says of one alert who was told, who is going to be, and why somebody is not.</summary>
public sealed class AlertNotices(IDatabase database, EstateIndex estate, NoticeBook book, MaintenanceBook maintenance, AccessIndex access, TimeProvider time)
{
    public async Task<List<AlertNotice>> OfAsync(AlertRow alert, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var sent = (await db.DeliveryAlerts.AsNoTracking().Where(d => d.AlertId == alert.Id).Join(db.Deliveries, d => d.DeliveryId, d => d.Id, (_, d) => d).OrderBy(d => d.Id).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(d => d.NoticeId);
        var now = time.GetUtcNow();
        var said = new List<AlertNotice>();
        foreach (var notice in book.All.Where(n => n.Row.GroupId is not { } group || (access.PathOf(group) is { } path && by.Reach.Shows(path))))
        {
            if (sent.Contains(notice.Row.Id))
            {
                said.AddRange(sent[notice.Row.Id].Select(d => new AlertNotice(notice.Row.Id, notice.Row.Name, Say(d), d.State == DeliveryState.Delivered ? d.DoneAt : null, d.State == DeliveryState.Waiting ? d.NextAt : null)));
            }
            else if (!alert.State.IsOver() && estate.FindSelectable(alert.HostId) is { Retired: false } host && book.IsAbout(notice, host, now) && Expect(notice, alert, host, now) is { } expected)
            {
                said.Add(expected);
            }
        }
        return said;
    }

    private AlertNotice? Expect(EffectiveNotice notice, AlertRow alert, Core.Estate.SelectableHost host, DateTimeOffset now)
    {
        var quiet = maintenance.For(alert.HostId, host, now);
        var verdict = notice.Terms.Judge(new NoticedAlert(alert.Severity, alert.Subsystem, alert.State == AlertState.Open ? alert.StateAt : null, quiet.Until, quiet.LastEnd), now);
        (string Said, DateTimeOffset? Until)? says = verdict.Answer switch
        {
            NoticeAnswer.NotMeant => null,
            _ when notice.Row.Off => ("tells nobody: it is switched off", null),
            NoticeAnswer.Maintenance => ($"waits for the end of the maintenance window '{quiet.Name}'", quiet.Until),
            NoticeAnswer.NobodyNeeded => ("tells nobody: the alert does not ask for anybody now", null),
            _ when notice.DigestAt is not null => ("tells it in the next summary", notice.NextDigest(now)),
            NoticeAnswer.Later => ("tells it if nobody takes it up before", verdict.Until),
            NoticeAnswer.QuietHours => ("waits for the end of its quiet hours", verdict.Until),
            _ => ("is about to tell it", null),
        };
        return says is { } s ? new AlertNotice(notice.Row.Id, notice.Row.Name, s.Said, null, s.Until) : null;
    }

    private static string Say(DeliveryRow d)
    {
        var to = d.Way == NoticeWay.Hook ? HookPost.Shown(d.To) : d.To;
        return d.State switch
        {
            DeliveryState.Delivered => $"told {to}",
            DeliveryState.Failed => $"could not tell {to}: {d.Problem}",
            _ => d.Problem is null ? $"is telling {to}" : $"tries again to tell {to}: {d.Problem}",
        };
    }
}
