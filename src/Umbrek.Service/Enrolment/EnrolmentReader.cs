using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Service.Enrolment;

/// <summary>Reads who tried to join, with what and what became of it.</summary>
public sealed class EnrolmentReader(IDatabase database, EstateIndex estate, AccessIndex access)
{
    /// <summary>Published to whenever an enrolment comes in or is decided.</summary>
    public ChangeFeed<Guid> Changes { get; } = new();

    /// <summary>Newest first, of the groups at which one lets computers in.</summary>
    public async Task<List<EnrolmentInfo>> ListAsync(EnrolmentState? state, Guid? installerId, Reach reach, CancellationToken cancel)
    {
        var groups = access.GroupsWith(reach, Permission.Approve);
        await using var db = database.Open();
        var rows = await db.Enrolments.AsNoTracking()
            .Where(e => groups == null || groups.Contains(e.GroupId))
            .Where(e => (state == null || e.State == state) && (installerId == null || e.InstallerId == installerId))
            .OrderByDescending(e => e.Id).Take(Paging.Most)
            .Join(db.Groups, e => e.GroupId, g => g.Id, (e, g) => new { Row = e, g.Path })
            .ToListAsync(cancel).ConfigureAwait(false);
        return [.. rows.OrderByDescending(r => r.Row.Id).Select(r => ToInfo(r.Row, r.Path, reach))];
    }

    public async Task<int> CountWaitingAsync(Reach reach, CancellationToken cancel)
    {
        var groups = access.GroupsWith(reach, Permission.Approve);
        await using var db = database.Open();
        return await db.Enrolments.Where(e => groups == null || groups.Contains(e.GroupId)).CountAsync(e => e.State == EnrolmentState.Waiting, cancel).ConfigureAwait(false);
    }

    public EnrolmentInfo ToInfo(EnrolmentRow row, string groupPath, Reach reach)
    {
        var known = row.SameAsHostId is { } same ? estate.Find(same, reach) : null;
        var hidden = known is null && row.SameAsHostId is { } other && estate.Find(other) is not null;
        return new EnrolmentInfo(
            row.Id, row.InstallerId, groupPath, row.At, row.Address, row.SystemName, row.Label, row.AgentVersion, row.State, row.Why, hidden ? "It looks like a machine that is known already, where you may not see it." : row.Detail, row.HostId,
            known is null ? null : new KnownMachine(known.Id, known.Label, known.GroupPath, known.Presence.State == PresenceState.Linked, known.LastSeenAt),
            row.DecidedAt, row.DecidedBy);
    }
}
