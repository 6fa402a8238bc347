using System.Collections.Concurrent;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Service.Estate;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Health;

/// <summary>What agents found for checks: the last of it in memory; in the database whenever a state turns, else now and then.</summary>
public sealed class ProbeBook(IDatabase database, EstateIndex estate, CheckBook checks, TimeProvider time)
{
    /// <summary>Figures alone are written this often: they come every minute from every host.</summary>
    private static readonly TimeSpan FiguresEvery = TimeSpan.FromMinutes(10);

    /// <summary>A host's clock that is no farther off is taken at its word.</summary>
    private static readonly TimeSpan RightEnough = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan Reason = TimeSpan.FromDays(30);

    private readonly ConcurrentDictionary<Guid, Known> known = new();

    private sealed record Known(IReadOnlyDictionary<string, ProbeResult> Results, DateTimeOffset WrittenAt);

    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        foreach (var row in await db.ProbeStates.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false))
        {
            known[row.HostId] = new Known(JsonSerializer.Deserialize(row.Results, WireJson.Default.ListProbeResult)!.ToDictionary(r => r.Check), time.GetUtcNow());
        }
    }

    public ProbeResult? Find(Guid hostId, string check) => known.TryGetValue(hostId, out var of) ? of.Results.GetValueOrDefault(check) : null;

    public IEnumerable<ProbeResult> Of(Guid hostId) => known.TryGetValue(hostId, out var of) ? of.Results.Values : [];

    /// <summary>Takes what an agent told, its times put into the service's.</summary>
    public async Task TakeAsync(Guid hostId, ProbeReport report, CancellationToken cancel)
    {
        if (estate.Find(hostId) is not { } host)
        {
            return;
        }
        var now = time.GetUtcNow();
        var wanted = checks.For(hostId, host.GroupPath).Where(c => c.Probe is not null).ToDictionary(c => c.Key);
        var before = known.GetValueOrDefault(hostId)?.Results ?? new Dictionary<string, ProbeResult>();
        var after = before.Values.Where(r => wanted.ContainsKey(r.Check)).ToDictionary(r => r.Check);
        foreach (var result in report.Results.Where(r => wanted.ContainsKey(r.Check)))
        {
            after[result.Check] = result with { At = now, Since = Then(result.Since) };
        }
        var turned = after.Count != before.Count || after.Values.Any(r => before.GetValueOrDefault(r.Check)?.State != r.State);
        var write = turned || report.Events.Count > 0 || now - known.GetValueOrDefault(hostId)?.WrittenAt >= FiguresEvery;
        // Written before it is known: what can't be written is told again, and is news then.
        if (write)
        {
            await WriteAsync(hostId, [.. after.Values], report.Events, Then, cancel).ConfigureAwait(false);
        }
        known[hostId] = new Known(after, write ? now : known.GetValueOrDefault(hostId)?.WrittenAt ?? now);
        estate.Changes.Publish(hostId);

        // Of a clock that is wrong only how long ago it was is taken, and that within reason; of one that is right the order stays to the millisecond.
        DateTimeOffset Then(DateTimeOffset at) => report.SentAt - at is var ago && (ago < TimeSpan.Zero || ago > Reason) ? now : (now - report.SentAt).Duration() < RightEnough ? at : now - ago;
    }

    private async Task WriteAsync(Guid hostId, List<ProbeResult> results, IReadOnlyList<ProbeEvent> events, Func<DateTimeOffset, DateTimeOffset> then, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await db.ProbeStates.FirstOrDefaultAsync(s => s.HostId == hostId, cancel).ConfigureAwait(false);
        if (row is null)
        {
            db.ProbeStates.Add(row = new ProbeStateRow { HostId = hostId });
        }
        row.Results = JsonSerializer.Serialize(results, WireJson.Default.ListProbeResult);
        // An answer may get lost on its way, and everything is told again then.
        var ids = events.Select(e => e.Id).ToList();
        var there = await db.HostEvents.Where(e => ids.Contains(e.Id)).Select(e => e.Id).ToListAsync(cancel).ConfigureAwait(false);
        foreach (var e in events.Where(e => !there.Contains(e.Id)).DistinctBy(e => e.Id))
        {
            HostEdits.Tell(db, hostId, HostEventKind.Checked, "", e.Text, then(e.At), e.Id);
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
    }
}
