using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Inventory;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Jobs;

/// <summary>Wakes hosts over the network: finds who of the same customer is linked and stands in a network with them, and has those send the packets.</summary>
public sealed class WakeService(IDatabase database, SelectionService selections, EstateIndex estate, IAgentLinks links, JobService jobs, Gate gate)
{
    /// <summary>A packet may be lost, and a neighbour may stand behind another switch than it looks.</summary>
    private const int SendersPerNetwork = 2;

    public async Task<WakeInfo> WakeAsync(NewWake wish, Asker by, string? idempotencyKey, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(wish.Selection))
        {
            throw ProblemException.Invalid("Say which hosts are to wake: a selection, such as quay-ticket-01.");
        }
        var chosen = await selections.SelectAsync(wish.Selection, by.Reach, cancel).ConfigureAwait(false);
        if (chosen.Count == 0)
        {
            throw new ProblemException(422, ProblemTypes.SelectionEmpty, $"No host matches '{wish.Selection}'; nothing was sent. 'umbrek host list' shows the names.");
        }
        gate.All(by, Permission.Power, chosen);
        if (chosen.Count > WakeWish.MostTargets)
        {
            throw ProblemException.Invalid($"{WakeWish.MostTargets} hosts can be woken at once, not {chosen.Count}; choose fewer.");
        }
        var found = await FindAsync(chosen, by, cancel).ConfigureAwait(false);
        var wakable = found.Where(f => f.Host.Problem is null).ToList();
        if (wakable.Count == 0)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, found.Count == 1 ? $"{found[0].Host.Label} {found[0].Host.Problem}" : $"None of the {found.Count} hosts can be woken: {found[0].Host.Label} {found[0].Host.Problem}");
        }
        // Which of them stands beside which target, each sees for itself.
        var senders = wakable.SelectMany(w => w.Host.Neighbours).Select(n => n.HostId).Distinct().Select(id => estate.Find(id)).OfType<HostSummary>().ToList();
        var action = new HostAction { Wake = new WakeWish([.. wakable.Select(w => new WakeTarget(w.Host.Label, w.Cards))]) };
        var job = await jobs.CreateOnAsync(new NewJob(string.Join(" or ", senders.Select(s => new Selection.Named(s.Label))), new CommandSpec { Action = action }), senders, by, idempotencyKey, cancel).ConfigureAwait(false);
        return new WakeInfo(job, [.. found.Select(f => f.Host)]);
    }

    /// <summary>How a host could be woken now.</summary>
    public async Task<WakeHost> GetAsync(Guid hostId, Asker by, CancellationToken cancel) =>
        (await FindAsync([estate.Find(hostId, by.Reach) ?? throw ProblemException.NotFound("host")], by, cancel).ConfigureAwait(false))[0].Host;

    private async Task<List<(WakeHost Host, IReadOnlyList<string> Cards)>> FindAsync(List<HostSummary> chosen, Asker by, CancellationToken cancel)
    {
        var customers = chosen.Select(h => GroupPath.Customer(h.GroupPath)).ToHashSet(StringComparer.Ordinal);
        var around = estate.All.Where(h => links.IsLinked(h.Id) && h.RetiredAt is null && customers.Contains(GroupPath.Customer(h.GroupPath)) && by.Reach.May(Permission.Power, h.GroupPath)).ToList();
        var cards = await ReadCardsAsync([.. chosen.Concat(around).Select(h => h.Id).Distinct()], cancel).ConfigureAwait(false);
        return [.. chosen.Select(target =>
        {
            var own = cards.GetValueOrDefault(target.Id, []);
            // Those of the same group stand nearest.
            var neighbours = around.Where(h => h.Id != target.Id && GroupPath.Customer(h.GroupPath) == GroupPath.Customer(target.GroupPath))
                .OrderByDescending(h => h.GroupPath == target.GroupPath).ThenBy(h => h.Label, StringComparer.Ordinal)
                .SelectMany(h => cards.GetValueOrDefault(h.Id, []).Where(c => own.Any(o => o.Network.Equals(c.Network))).Select(c => new HostNeighbour(h.Id, h.Label, $"{c.Network}")))
                .GroupBy(n => n.Network).SelectMany(n => n.DistinctBy(h => h.HostId).Take(SendersPerNetwork)).ToList();
            var problem = links.IsLinked(target.Id) ? "is awake: its agent is linked."
                : own.Count == 0 ? "can't be woken: it has not said yet which network cards it has. It does when its agent is linked the next time."
                : neighbours.Count == 0 ? $"can't be woken now: no other host of {GroupPath.Customer(target.GroupPath)} that you may restart is linked in {string.Join(" or ", own.Select(c => c.Network).Distinct())}."
                : null;
            return (new WakeHost(target.Id, target.Label, target.GroupPath, problem is null ? neighbours : [], problem), (IReadOnlyList<string>)[.. own.Take(WakeTarget.MostCards).Select(c => $"{c}")]);
        })];
    }

    private async Task<Dictionary<Guid, List<NetworkCard>>> ReadCardsAsync(List<Guid> hosts, CancellationToken cancel)
    {
        await using var db = database.Open();
        var facts = await db.Facts.AsNoTracking().Where(f => f.Name == FactNames.NetworkCards && hosts.Contains(f.HostId)).Select(f => new { f.HostId, f.Value }).ToListAsync(cancel).ConfigureAwait(false);
        return facts.ToDictionary(f => f.HostId, f => Texts(f.Value).Select(NetworkCard.Read).OfType<NetworkCard>().ToList());
    }

    private static IEnumerable<string?> Texts(string value)
    {
        using var list = JsonDocument.Parse(value);
        return list.RootElement.ValueKind == JsonValueKind.Array ? [.. list.RootElement.EnumerateArray().Select(e => e.ValueKind == JsonValueKind.String ? e.GetString() : null)] : [];
    }
}
