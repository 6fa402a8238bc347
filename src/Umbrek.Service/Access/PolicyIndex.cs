using System.Collections.Frozen;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Service.Storage;
using Umbrek.Wire;

namespace Umbrek.Service.Access;

/// <summary>What places say of the host policy, in memory: read at start and after every change.</summary>
public sealed class PolicyIndex(IDatabase database, AccessIndex access) : IDisposable
{
    private readonly SemaphoreSlim turn = new(1);
    private volatile Snapshot now = new(HostPolicyPart.Inherit, FrozenDictionary<Guid, HostPolicyPart>.Empty, FrozenDictionary<Guid, HostPolicyPart>.Empty, 0);

    private sealed record Snapshot(HostPolicyPart Everything, FrozenDictionary<Guid, HostPolicyPart> Groups, FrozenDictionary<Guid, HostPolicyPart> Hosts, long Edition);

    /// <summary>Counts changes: whoever has seen this one has seen them all.</summary>
    public long Edition => now.Edition;

    public async Task LoadAsync()
    {
        // One after the other: what was read first must not be shown last.
        await turn.WaitAsync().ConfigureAwait(false);
        try
        {
            await using var db = database.Open();
            var rows = await db.Policies.AsNoTracking().ToListAsync().ConfigureAwait(false);
            now = new Snapshot(
                rows.Where(r => r.GroupId is null && r.HostId is null).Select(r => Read(r.Part)).FirstOrDefault() ?? HostPolicyPart.Inherit,
                rows.Where(r => r.GroupId is not null).ToFrozenDictionary(r => r.GroupId!.Value, r => Read(r.Part)),
                rows.Where(r => r.HostId is not null).ToFrozenDictionary(r => r.HostId!.Value, r => Read(r.Part)),
                now.Edition + 1);
        }
        finally
        {
            turn.Release();
        }
    }

    public void Dispose() => turn.Dispose();

    /// <summary>What is said from everything down to a place.</summary>
    /// <param name="path">A group's path, or that of a host's group; null is everything.</param>
    /// <param name="host">The host, when the place is one.</param>
    public IReadOnlyList<PolicyLayer> Layers(string? path, (Guid Id, string Label)? host = null)
    {
        var seen = now;
        var layers = new List<PolicyLayer> { new(null, seen.Everything) };
        if (path is not null)
        {
            layers.AddRange(seen.Groups.Select(g => new PolicyLayer(access.PathOf(g.Key), g.Value))
                .Where(l => l.Place is not null && GroupPath.IsAtOrBelow(path, l.Place)).OrderBy(l => l.Place!.Length));
        }
        if (host is { } one && seen.Hosts.TryGetValue(one.Id, out var part))
        {
            layers.Add(new PolicyLayer(one.Label, part));
        }
        return layers;
    }

    public HostPolicy Wanted(Guid hostId, string groupPath) => PolicyLayers.Fold(Layers(groupPath, (hostId, "")));

    public static HostPolicyPart Read(string json) => JsonSerializer.Deserialize(json, WireJson.Default.HostPolicyPart)!;
}
