using System.Collections.Concurrent;
using Umbrek.Service.Estate;
using Umbrek.Service.Links;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Health;

/// <summary>Sees to it that every linked host knows what it is to look at, also when it is moved or a check changes.</summary>
public sealed class ProbeCourier(CheckBook checks, EstateIndex estate, LinkRegistry registry, IAgentLinks links) : BackgroundService
{
    private readonly ConcurrentDictionary<Guid, Told> told = new();
    private readonly SemaphoreSlim one = new(1);

    private sealed record Told(string ConnectionId, IReadOnlyList<ProbeOrder> Orders);

    protected override Task ExecuteAsync(CancellationToken stoppingToken) => Task.WhenAll(FollowHostsAsync(stoppingToken), FollowChecksAsync(stoppingToken));

    private async Task FollowHostsAsync(CancellationToken stop)
    {
        using var changes = estate.Changes.Subscribe();
        while (true)
        {
            await SendAsync(await changes.TakeAsync(stop).ConfigureAwait(false), stop).ConfigureAwait(false);
        }
    }

    private async Task FollowChecksAsync(CancellationToken stop)
    {
        using var changes = checks.Changes.Subscribe();
        while (true)
        {
            await changes.TakeAsync(stop).ConfigureAwait(false);
            await SendAsync(registry.All.Select(l => l.HostId), stop).ConfigureAwait(false);
        }
    }

    private async Task SendAsync(IEnumerable<Guid> hosts, CancellationToken cancel)
    {
        await one.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            foreach (var hostId in hosts)
            {
                if (registry.Find(hostId) is not { } link)
                {
                    told.TryRemove(hostId, out _);
                }
                else if (estate.Find(hostId) is { } host)
                {
                    await SendAsync(link, host.GroupPath, cancel).ConfigureAwait(false);
                }
            }
        }
        finally
        {
            one.Release();
        }
    }

    private async Task SendAsync(LinkEntry link, string groupPath, CancellationToken cancel)
    {
        var orders = checks.For(link.HostId, groupPath).Where(c => c.Probe is not null).Take(WantedProbes.MaxCount).Select(c => new ProbeOrder(c.Key, c.Name, c.Probe!.Probe)).ToList();
        if (told.TryGetValue(link.HostId, out var before) && before.ConnectionId == link.ConnectionId && before.Orders.SequenceEqual(orders))
        {
            return;
        }
        // A host that has just come may still know what it was told before the check went.
        told[link.HostId] = new Told(link.ConnectionId, orders);
        await links.SendAsync(link.HostId, ToAgent.WantProbes, new WantedProbes(orders), cancel).ConfigureAwait(false);
    }
}
