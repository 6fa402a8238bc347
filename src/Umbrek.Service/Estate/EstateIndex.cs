using System.Collections.Concurrent;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

/// <summary>
/// What listings show of every host, in memory: filled from the database at start and kept up to date by what is written.
/// Live views listen to <see cref="Changes"/>.
/// </summary>
public sealed class EstateIndex(IDatabase database, TimeProvider time)
{
    private readonly ConcurrentDictionary<Guid, Entry> hosts = new();

    private sealed record Entry(HostSummary Summary, byte[] PublicKey, string? HardwareId, Sample? Sample);

    public ChangeFeed<Guid> Changes { get; } = new();

    public IEnumerable<HostSummary> All => hosts.Values.Select(e => e.Summary);

    public int Count => hosts.Count;

    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        var paths = await db.Groups.AsNoTracking().ToDictionaryAsync(g => g.Id, g => g.Path, cancel).ConfigureAwait(false);
        var shown = new[] { FactNames.OsName, FactNames.Users, FactNames.Addresses };
        var facts = (await db.Facts.AsNoTracking().Where(f => shown.Contains(f.Name)).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(f => f.HostId);
        await foreach (var row in db.Hosts.AsNoTracking().AsAsyncEnumerable().WithCancellation(cancel).ConfigureAwait(false))
        {
            Add(row, paths[row.GroupId], restarted: true);
            foreach (var fact in facts[row.Id])
            {
                using var value = JsonDocument.Parse(fact.Value);
                Learnt(row.Id, [new Fact(fact.Name, value.RootElement.Clone(), fact.LearntAt)]);
            }
        }
        foreach (var host in hosts.Keys)
        {
            // One seek in the key for each host; a maximum over all samples would read them all.
            var json = await db.Samples.AsNoTracking().Where(s => s.HostId == host).OrderByDescending(s => s.At).Select(s => s.Sample).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
            if (json is not null && JsonSerializer.Deserialize(json, WireJson.Default.Sample) is { } sample)
            {
                Sampled(host, sample, heard: false);
            }
        }
    }

    public void Add(HostRow row, string groupPath, bool restarted = false)
    {
        var presence = new Presence(row.Presence, row.PresenceReason, row.PresenceSince);
        if (restarted)
        {
            presence = Presence.AfterRestart(presence, time.GetUtcNow());
        }
        var summary = new HostSummary(
            row.Id, row.SystemName, row.Label, groupPath, ToInfo(presence), row.LastSeenAt, null, row.AgentVersion, row.Address, [], null, null, null, null, null);
        hosts[row.Id] = new Entry(summary, row.PublicKey, row.HardwareId, null);
        Changes.Publish(row.Id);
    }

    public HostSummary? Find(Guid hostId) => hosts.GetValueOrDefault(hostId)?.Summary;

    public Sample? LatestSample(Guid hostId) => hosts.GetValueOrDefault(hostId)?.Sample;

    public byte[]? FindKey(Guid hostId) => hosts.GetValueOrDefault(hostId)?.PublicKey;

    /// <summary>The board that the host joined with.</summary>
    public string? FindHardware(Guid hostId) => hosts.GetValueOrDefault(hostId)?.HardwareId;

    /// <summary>The host goes on with another key, on the machine that proved it.</summary>
    public void Rekey(Guid hostId, byte[] publicKey, string? hardwareId) => Update(hostId, e => e with { PublicKey = publicKey, HardwareId = hardwareId });

    /// <summary>Hosts of a selection by label, then id.</summary>
    public List<HostSummary> Select(Selection selection) =>
        [.. All.Where(h => selection.Matches(ToSelectable(h))).OrderBy(h => h.Label, StringComparer.OrdinalIgnoreCase).ThenBy(h => h.Id)];

    public static SelectableHost ToSelectable(HostSummary h) => new(h.SystemName, h.Label, h.GroupPath, h.Presence.State);

    public void Edited(Guid hostId, string label, string groupPath) => Update(hostId, e => e with { Summary = e.Summary with { Label = label, GroupPath = groupPath } });

    public Presence Linked(Guid hostId, string systemName, string agentVersion, string? address, DateTimeOffset now) =>
        ChangePresence(hostId, p => p.Link(now), s => s with { SystemName = systemName, AgentVersion = agentVersion, Address = s.Address ?? address, LastSeenAt = now });

    public Presence Unlinked(Guid hostId, AwayReason said, DateTimeOffset now) =>
        ChangePresence(hostId, _ => Presence.Unlink(said, now), s => s with { LastSeenAt = now });

    /// <summary>Gives up on hosts that had their time to return after a restart of the service.</summary>
    public List<PresenceChange> Settle(DateTimeOffset now)
    {
        var settled = new List<PresenceChange>();
        foreach (var host in All.Where(h => h.Presence.State == PresenceState.Returning))
        {
            var after = ChangePresence(host.Id, p => p.Settle(host.LastSeenAt, now), s => s);
            if (after.State != PresenceState.Returning)
            {
                settled.Add(new PresenceChange(host.Id, after, host.LastSeenAt, null, null, null));
            }
        }
        return settled;
    }

    public void Sampled(Guid hostId, Sample sample, bool heard = true) => Update(hostId, e => e.Sample is { } before && before.At > sample.At ? e : e with
    {
        Sample = sample,
        Summary = e.Summary with
        {
            SampledAt = sample.At,
            LastSeenAt = heard ? time.GetUtcNow() : e.Summary.LastSeenAt,
            ProcessorPercent = sample.ProcessorPercent,
            MemoryUsedPercent = Math.Round(sample.MemoryUsedPercent, 1),
            StorageUsedPercent = sample.Fullest is { } f ? Math.Round(f.UsedPercent, 1) : null,
            StorageMount = sample.Fullest?.MountPoint,
        },
    });

    public void Learnt(Guid hostId, IReadOnlyList<Fact> facts)
    {
        foreach (var fact in facts)
        {
            if (fact.Name == FactNames.OsName && fact.Value.ValueKind == JsonValueKind.String)
            {
                Update(hostId, e => e with { Summary = e.Summary with { Os = fact.Value.GetString() } });
            }
            else if (fact.Name == FactNames.Users)
            {
                var users = Texts(fact.Value).Take(20).ToList();
                Update(hostId, e => e with { Summary = e.Summary with { Users = users } });
            }
            else if (fact.Name == FactNames.Addresses && Texts(fact.Value).FirstOrDefault() is { } own)
            {
                Update(hostId, e => e with { Summary = e.Summary with { Address = own } });
            }
        }
    }

    private static IEnumerable<string> Texts(JsonElement value) => value.ValueKind == JsonValueKind.Array
        ? value.EnumerateArray().Where(v => v.ValueKind == JsonValueKind.String).Select(v => v.GetString()!)
        : [];

    private Presence ChangePresence(Guid hostId, Func<Presence, Presence> change, Func<HostSummary, HostSummary> also)
    {
        var after = Presence.Never(time.GetUtcNow());
        Update(hostId, e =>
        {
            var p = e.Summary.Presence;
            after = change(new Presence(p.State, p.Reason, p.Since));
            return e with { Summary = also(e.Summary) with { Presence = ToInfo(after) } };
        });
        return after;
    }

    private void Update(Guid hostId, Func<Entry, Entry> change)
    {
        while (hosts.TryGetValue(hostId, out var before))
        {
            var after = change(before);
            if (ReferenceEquals(after, before))
            {
                return;
            }
            if (hosts.TryUpdate(hostId, after, before))
            {
                Changes.Publish(hostId);
                return;
            }
        }
    }

    private static PresenceInfo ToInfo(Presence p) => new(p.State, p.Reason, p.Since);
}
