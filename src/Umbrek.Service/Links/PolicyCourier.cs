using System.Collections.Concurrent;
using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Links;

/// <summary>Sees to it that every linked host knows the policy that is wanted of it, also when it is moved.</summary>
public sealed class PolicyCourier(PolicyIndex policies, EstateIndex estate, LinkRegistry registry, IAgentLinks links) : BackgroundService
{
    private readonly ConcurrentDictionary<Guid, Told> told = new();

    private sealed record Told(string ConnectionId, string GroupPath, long Edition, HostPolicy Policy);

    /// <summary>What a host is to be told as it is linked.</summary>
    public HostPolicy Welcome(LinkEntry link, string groupPath)
    {
        var edition = policies.Edition;
        var policy = policies.Wanted(link.HostId, groupPath);
        told[link.HostId] = new Told(link.ConnectionId, groupPath, edition, policy);
        return policy;
    }

    public async Task SendAllAsync(CancellationToken cancel)
    {
        foreach (var link in registry.All)
        {
            await SendAsync(link, cancel).ConfigureAwait(false);
        }
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var changes = estate.Changes.Subscribe();
        while (true)
        {
            foreach (var hostId in await changes.TakeAsync(stoppingToken).ConfigureAwait(false))
            {
                if (registry.Find(hostId) is { } link)
                {
                    await SendAsync(link, stoppingToken).ConfigureAwait(false);
                }
                else
                {
                    told.TryRemove(hostId, out _);
                }
            }
        }
    }

    private async Task SendAsync(LinkEntry link, CancellationToken cancel)
    {
        // A link without an entry has not had its welcome, which brings the policy.
        if (!told.TryGetValue(link.HostId, out var before) || before.ConnectionId != link.ConnectionId || estate.Find(link.HostId) is not { } host
            || (before.Edition == policies.Edition && before.GroupPath == host.GroupPath))
        {
            return;
        }
        var policy = Welcome(link, host.GroupPath);
        if (policy != before.Policy)
        {
            await links.SendAsync(link.HostId, ToAgent.WantPolicy, policy, cancel).ConfigureAwait(false);
        }
    }
}
