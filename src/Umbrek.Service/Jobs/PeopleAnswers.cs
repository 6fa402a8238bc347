using System.Collections.Concurrent;
using System.Globalization;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Sessions;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Jobs;

/// <summary>
/// Keeps in the audit log what people at hosts answered when they were asked about a run, once for each, or about what a channel is for.
/// By how much they put a run off is kept as often as they may do it.
/// </summary>
public sealed class PeopleAnswers(RunBook book, SessionService sessions, EstateIndex estate, AuditLog audit)
{
    private const int MostRemembered = 10_000;
    private const int MostPutOffs = 20;
    private readonly ConcurrentDictionary<Guid, byte> answered = new();
    private readonly ConcurrentDictionary<Guid, int> putOff = new();

    public async Task TakeAsync(Guid hostId, ConsentReport report, CancellationToken cancel)
    {
        if (report.Deed is { } deed)
        {
            if (sessions.DoneIn(report.RunId, hostId) is { } during)
            {
                await KeepDeedAsync(hostId, report, deed, during, cancel).ConfigureAwait(false);
            }
            return;
        }
        if (sessions.AnsweredAbout(report.RunId, hostId) is { } session)
        {
            await KeepAsync(hostId, report, cancel, ("technician", report.Technician), ("session", $"{session}")).ConfigureAwait(false);
            return;
        }
        // Only for a run that this host was sent and has not begun: no host fills the log by inventing some.
        if (book.Find(report.RunId) is not { Status: { State: RunState.Sent } } run || run.HostId != hostId || !IsNew(report))
        {
            return;
        }
        if (answered.Count > MostRemembered || putOff.Count > MostRemembered)
        {
            answered.Clear();
            putOff.Clear();
        }
        await KeepAsync(hostId, report, cancel, ("technician", report.Technician), ("job", $"{run.JobId}"), ("run", $"{report.RunId}")).ConfigureAwait(false);
    }

    private bool IsNew(ConsentReport report) => report.PutOffMinutes is null ? answered.TryAdd(report.RunId, 0) : putOff.AddOrUpdate(report.RunId, 1, (_, n) => n + 1) <= MostPutOffs;

    private async Task KeepDeedAsync(Guid hostId, ConsentReport report, DeskDeed deed, Guid session, CancellationToken cancel)
    {
        var host = estate.Find(hostId);
        var (actor, action) = deed switch
        {
            DeskDeed.Ended => ($"{report.Person} at {host?.Label ?? $"{hostId}"}", "desktop.end-there"),
            DeskDeed.InputTaken => (report.Technician, "desktop.take-input"),
            DeskDeed.InputGivenBack => (report.Technician, "desktop.give-input-back"),
            DeskDeed.ScreenHidden => (report.Technician, "desktop.hide"),
            DeskDeed.ScreenShown => (report.Technician, "desktop.show-again"),
            DeskDeed.Locked => (report.Technician, "desktop.lock"),
            DeskDeed.ScreenGiven => (report.Technician, "desktop.give-screen"),
            _ => (report.Technician, "desktop.lock-failed"),
        };
        await audit.AddAsync(new Caller(actor, null), action, host is null ? $"{hostId}" : $"{host.Label} in {host.GroupPath}", cancel, ("technician", report.Technician), ("session", $"{session}")).ConfigureAwait(false);
    }

    private async Task KeepAsync(Guid hostId, ConsentReport report, CancellationToken cancel, params (string Name, string? Value)[] detail)
    {
        var host = estate.Find(hostId);
        await audit.AddAsync(
            new Caller($"{report.Person} at {host?.Label ?? $"{hostId}"}", null), report.PutOffMinutes is not null ? "power.put-off" : report.Agreed ? "consent.agree" : "consent.refuse", host is null ? $"{hostId}" : $"{host.Label} in {host.GroupPath}", cancel, [.. detail, .. report.PutOffMinutes is { } minutes ? [("minutes", minutes.ToString("0.#", CultureInfo.InvariantCulture))] : Array.Empty<(string, string?)>()]).ConfigureAwait(false);
    }
}
