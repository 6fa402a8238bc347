using System.Collections.Concurrent;
using Umbrek.Core.Access;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Api;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Sessions;

/// <summary>
/// Technicians ask each other to the desktop of a host. An invitation opens nothing: whoever comes does so with his own grants, in a
/// session of his own. It stands for a quarter of an hour, in memory alone.
/// </summary>
public sealed class InvitationService(SessionService sessions, AccessIndex access, EstateIndex estate, Gate gate, AuditLog audit, TimeProvider time)
{
    public static readonly TimeSpan Stands = TimeSpan.FromMinutes(15);
    private const int MostOpen = 20;

    private readonly ConcurrentDictionary<Guid, Invitation> all = new();
    private readonly ConcurrentDictionary<Guid, int> here = new();

    private sealed record Invitation(Guid Id, Guid HostId, Guid FromId, Guid ToId, string? Note, string? Screen, InvitationState State, DateTimeOffset At);

    /// <summary>Technicians for whom something has changed.</summary>
    public ChangeFeed<Guid> Changes { get; } = new();

    /// <summary>Others who may look at the host's desktop: those first who are here.</summary>
    public IReadOnlyList<Colleague> Colleagues(Guid hostId, Asker by)
    {
        var host = gate.Host(by, hostId, Permission.Watch);
        return [.. access.Seats.Where(s => s.Id != by.Id && s.Reach.May(Permission.Watch, host.GroupPath))
            .Select(s => new Colleague(s.Id, s.Name, s.Reach.May(Permission.Control, host.GroupPath), here.GetValueOrDefault(s.Id) > 0))
            .OrderByDescending(c => c.IsHere).ThenBy(c => c.Name, StringComparer.OrdinalIgnoreCase)];
    }

    /// <summary>Asks a colleague to a host at which the caller is; asked again, he finds what is said now.</summary>
    public async Task<InvitationInfo> SendAsync(Guid hostId, NewInvitation wish, Asker by, CancellationToken cancel)
    {
        var host = gate.Host(by, hostId, Permission.Watch);
        var note = string.IsNullOrWhiteSpace(wish.Note) ? null : Names.Clean(wish.Note, "note", out var problem) ?? throw ProblemException.Invalid(problem);
        if (new DesktopWish(Screen: wish.Screen).Check() is { } wrong)
        {
            throw ProblemException.Invalid(wrong);
        }
        if (access.Find(wish.ColleagueId) is not { } to)
        {
            throw ProblemException.NotFound("technician");
        }
        if (to.Id == by.Id)
        {
            throw ProblemException.Invalid("You are there already; ask somebody else.");
        }
        if (!to.Reach.May(Permission.Watch, host.GroupPath))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"{to.Name} may not watch {host.Label}. Ask somebody who may, or have it granted: {string.Join(", ", access.WhoAdministers(host.GroupPath))}.");
        }
        if (sessions.OpenOf(hostId, by).Count == 0)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"You are not at {host.Label}. Open its desktop first, then ask {to.Name}.");
        }
        if (all.Values.Count(i => i.FromId == by.Id) >= MostOpen)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"{MostOpen} invitations of yours stand, the most there may be. Take some back, or wait until they lapse.");
        }
        await audit.AddAsync(by, "invitation.send", $"{host.Label} in {host.GroupPath}", cancel, ("to", to.Name), ("note", note)).ConfigureAwait(false);
        foreach (var before in all.Values.Where(i => i.HostId == hostId && i.FromId == by.Id && i.ToId == to.Id))
        {
            Remove(before);
        }
        var invitation = new Invitation(Guid.CreateVersion7(), hostId, by.Id, to.Id, note, wish.Screen, InvitationState.Open, time.GetUtcNow());
        all[invitation.Id] = invitation;
        Tell(invitation);
        _ = LapseAsync(invitation.Id);
        return Told(invitation, by) ?? throw ProblemException.NotFound("invitation");
    }

    /// <summary>Those to the caller and from him, the latest first.</summary>
    public IReadOnlyList<InvitationInfo> List(Asker by) =>
        [.. all.Values.Where(i => i.FromId == by.Id || i.ToId == by.Id).OrderByDescending(i => i.At).Select(i => Told(i, by)).OfType<InvitationInfo>()];

    /// <summary>Whoever was asked says whether he comes.</summary>
    public async Task<InvitationInfo> AnswerAsync(Guid id, InvitationAnswer answer, Asker by, CancellationToken cancel)
    {
        var invitation = Find(id, i => i.ToId == by.Id);
        var answered = invitation with { State = answer.Comes ? InvitationState.Accepted : InvitationState.Declined };
        var info = Told(answered, by) ?? throw ProblemException.NotFound("invitation");
        if (!all.TryUpdate(id, answered, invitation))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "It was answered elsewhere, or taken back, at the same moment. List again.");
        }
        Tell(answered);
        await audit.AddAsync(by, "invitation.answer", $"{info.HostLabel} in {info.GroupPath}", cancel, ("from", info.From), ("comes", answer.Comes ? "yes" : "no")).ConfigureAwait(false);
        return info;
    }

    /// <summary>Whoever asked takes it back.</summary>
    public async Task WithdrawAsync(Guid id, Asker by, CancellationToken cancel)
    {
        var invitation = Find(id, i => i.FromId == by.Id);
        Remove(invitation);
        await audit.AddAsync(by, "invitation.withdraw", estate.Find(invitation.HostId) is { } host ? $"{host.Label} in {host.GroupPath}" : $"{invitation.HostId}", cancel, ("to", access.Find(invitation.ToId)?.Name)).ConfigureAwait(false);
    }

    /// <summary>The technician sees invitations at once, until this is disposed.</summary>
    public IDisposable Here(Guid technicianId) => new Presence(this, technicianId);

    private Invitation Find(Guid id, Func<Invitation, bool> his) => all.TryGetValue(id, out var found) && his(found) ? found : throw ProblemException.NotFound("invitation");

    /// <summary>As the reader is told of it; null where he may look there no more, or the other is gone.</summary>
    private InvitationInfo? Told(Invitation i, Asker by) =>
        estate.Find(i.HostId) is { } host && by.Reach.May(Permission.Watch, host.GroupPath) && access.Find(i.FromId) is { } from && access.Find(i.ToId) is { } to
            ? new(i.Id, host.Id, host.Label, host.GroupPath, from.Id, from.Name, to.Id, to.Name, to.Reach.May(Permission.Control, host.GroupPath), i.Note, i.Screen, i.State, i.At, i.At + Stands)
            : null;

    private async Task LapseAsync(Guid id)
    {
        await Task.Delay(Stands, time).ConfigureAwait(false);
        if (all.TryGetValue(id, out var invitation))
        {
            Remove(invitation);
        }
    }

    private void Remove(Invitation invitation)
    {
        all.TryRemove(invitation.Id, out _);
        Tell(invitation);
    }

    private void Tell(Invitation invitation)
    {
        Changes.Publish(invitation.FromId);
        Changes.Publish(invitation.ToId);
    }

    private sealed class Presence : IDisposable
    {
        private readonly InvitationService service;
        private readonly Guid id;

        public Presence(InvitationService service, Guid id)
        {
            (this.service, this.id) = (service, id);
            service.here.AddOrUpdate(id, 1, (_, n) => n + 1);
        }

        public void Dispose() => service.here.AddOrUpdate(id, 0, (_, n) => n - 1);
    }
}
