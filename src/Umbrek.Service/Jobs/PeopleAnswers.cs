using System.Collections.Concurrent;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Jobs;

/// <summary>Keeps in the audit log what people at hosts answered when they were asked about a run: once for each run.</summary>
public sealed class PeopleAnswers(RunBook book, EstateIndex estate, AuditLog audit)
{
    private const int MostRemembered = 10_000;
    private readonly ConcurrentDictionary<Guid, byte> answered = new();

    public async Task TakeAsync(Guid hostId, ConsentReport report, CancellationToken cancel)
    {
        // Only for a run that this host was sent and has not begun: no host fills the log by inventing some.
        if (book.Find(report.RunId) is not { Status: { State: RunState.Sent } } run || run.HostId != hostId || !answered.TryAdd(report.RunId, 0))
        {
            return;
        }
        if (answered.Count > MostRemembered)
        {
            answered.Clear();
        }
        var host = estate.Find(hostId);
        await audit.AddAsync(
            new Caller($"{report.Person} at {host?.Label ?? $"{hostId}"}", null), report.Agreed ? "consent.agree" : "consent.refuse", host is null ? $"{hostId}" : $"{host.Label} in {host.GroupPath}", cancel,
            ("technician", report.Technician), ("job", $"{run.JobId}"), ("run", $"{report.RunId}")).ConfigureAwait(false);
    }
}
