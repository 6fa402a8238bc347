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
/// What listings show of every host and what selections compare, in memory: filled from the database at start and kept up to date
/// by what is written. Live views listen to <see cref="Changes"/>.
/// </summary>
public sealed class EstateIndex(IDatabase database, TimeProvider time)
{
    /// <summary>Facts that are held here; a selection that asks for another is answered by the database.</summary>
    private static readonly HashSet<string> FactsHeld = [.. SelectionKey.All.Select(k => k.Fact).OfType<string>(), FactNames.Users];

    private readonly ConcurrentDictionary<Guid, Entry> hosts = new();

    /// <summary>Ids by label; made anew when a label, or who is there, has changed.</summary>
    private volatile Guid[]? ordered;

    private sealed record Entry(HostSummary Summary, byte[] PublicKey, string? HardwareId, Sample? Sample, SelectableHost Selectable, Findable Findable);

    public ChangeFeed<Guid> Changes { get; } = new();

    /// <summary>Every host, retired ones too.</summary>
    public IEnumerable<HostSummary> All => hosts.Values.Select(e => e.Summary);

    public int Count => hosts.Count;

    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        var paths = await db.Groups.AsNoTracking().ToDictionaryAsync(g => g.Id, g => g.Path, cancel).ConfigureAwait(false);
        var facts = (await db.Facts.AsNoTracking().Where(f => FactsHeld.Contains(f.Name)).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(f => f.HostId);
        var tags = (await db.HostTags.AsNoTracking().OrderBy(t => t.Key).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(t => t.HostId, t => t.Tag);
        var own = await ReadOwnAsync(db, null, cancel).ConfigureAwait(false);
        await foreach (var row in db.Hosts.AsNoTracking().AsAsyncEnumerable().WithCancellation(cancel).ConfigureAwait(false))
        {
            Add(row, paths[row.GroupId], restarted: true);
            Edited(row.Id, row.Label, paths[row.GroupId], [.. tags[row.Id]], [.. own[row.Id]], row.RetiredAt);
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

    /// <summary>Values of own fields by host: of one, or of all.</summary>
    public static async Task<ILookup<Guid, OwnValue>> ReadOwnAsync(UmbrekContext db, Guid? hostId, CancellationToken cancel)
    {
        var rows = await db.OwnValues.AsNoTracking().Where(v => hostId == null || v.HostId == hostId)
            .Join(db.OwnFields, v => v.FieldId, f => f.Id, (v, f) => new { v.HostId, f.Name, v.Text, v.Number, v.Day }).ToListAsync(cancel).ConfigureAwait(false);
        return rows.ToLookup(r => r.HostId, r => new OwnValue(r.Name, r.Text, r.Number, r.Day is { } day ? DateOnly.FromDayNumber(day) : null));
    }

    public void Add(HostRow row, string groupPath, bool restarted = false)
    {
        var presence = new Presence(row.Presence, row.PresenceReason, row.PresenceSince);
        if (restarted)
        {
            presence = Presence.AfterRestart(presence, time.GetUtcNow());
        }
        var summary = new HostSummary(
            row.Id, row.SystemName, row.Label, groupPath, ToInfo(presence), row.LastSeenAt, null, row.AgentVersion, row.Address, [], null, null, null, null, null)
        {
            EnrolledAt = row.EnrolledAt,
            RetiredAt = row.RetiredAt,
        };
        hosts[row.Id] = Complete(new Entry(summary, row.PublicKey, row.HardwareId, null, new SelectableHost("", "", "", PresenceState.Expected), new Findable([], [])), words: true);
        ordered = null;
        Changes.Publish(row.Id);
    }

    /// <summary>The host is no more.</summary>
    public void Remove(Guid hostId)
    {
        hosts.TryRemove(hostId, out _);
        ordered = null;
        Changes.Publish(hostId);
    }

    public HostSummary? Find(Guid hostId) => hosts.GetValueOrDefault(hostId)?.Summary;

    public Sample? LatestSample(Guid hostId) => hosts.GetValueOrDefault(hostId)?.Sample;

    public byte[]? FindKey(Guid hostId) => hosts.GetValueOrDefault(hostId)?.PublicKey;

    /// <summary>The board that the host joined with.</summary>
    public string? FindHardware(Guid hostId) => hosts.GetValueOrDefault(hostId)?.HardwareId;

    /// <summary>The host goes on with another key, on the machine that proved it.</summary>
    public void Rekey(Guid hostId, byte[] publicKey, string? hardwareId) => Update(hostId, e => e with { PublicKey = publicKey, HardwareId = hardwareId }, words: false);

    /// <summary>True when everything that the selection compares is held here.</summary>
    public static bool CanAnswer(Selection selection) => selection.FactsRead.All(FactsHeld.Contains);

    /// <summary>Hosts of a selection by label, then id. Retired ones stand aside unless it speaks of them.</summary>
    /// <param name="among">Only these, when it is given.</param>
    public List<HostSummary> Select(Selection selection, IReadOnlySet<Guid>? among = null)
    {
        var now = time.GetUtcNow();
        var retired = selection.MentionsRetired;
        var found = new List<HostSummary>();
        foreach (var id in Ordered())
        {
            if ((among is null || among.Contains(id)) && hosts.TryGetValue(id, out var e) && (retired || e.Summary.RetiredAt is null) && (among is not null || selection.Matches(e.Selectable, now)))
            {
                found.Add(e.Summary);
            }
        }
        return found;
    }

    public bool Matches(Guid hostId, Selection selection, DateTimeOffset now) =>
        hosts.TryGetValue(hostId, out var e) && (e.Summary.RetiredAt is null || selection.MentionsRetired) && selection.Matches(e.Selectable, now);

    /// <summary>Hosts that quick find finds, with what it thinks of each; slips are looked for only when there are fewer than enough.</summary>
    public List<(HostSummary Host, int Score)> Find(QuickFind find, int enough)
    {
        var found = Scan(false);
        return found.Count >= enough ? found : Scan(true);

        List<(HostSummary, int)> Scan(bool forgiving)
        {
            var list = new List<(HostSummary, int)>();
            foreach (var (_, entry) in hosts)
            {
                if (entry.Summary.RetiredAt is null && find.Score(entry.Findable, forgiving) is > 0 and var score)
                {
                    list.Add((entry.Summary, score));
                }
            }
            return list;
        }
    }

    public IReadOnlyCollection<string> AgentVersions => hosts.Values.Select(e => e.Summary.AgentVersion).ToHashSet();

    /// <summary>Values of a key that hosts have, for completion: the commonest first.</summary>
    public List<string> ValuesOf(SelectionKey key) =>
        [.. hosts.Values.SelectMany(e => key.Fact is { } fact ? e.Selectable.Fact(fact).Select(v => v.Text) : [key.Text!(e.Selectable)]).CountBy(v => v).OrderByDescending(c => c.Value).Select(c => c.Key).Take(200)];

    public void Edited(Guid hostId, string label, string groupPath, IReadOnlyList<string> tags, IReadOnlyList<OwnValue> own, DateTimeOffset? retiredAt)
    {
        Update(hostId, e => e with
        {
            Summary = e.Summary with { Label = label, GroupPath = groupPath, Tags = tags, RetiredAt = retiredAt },
            Selectable = e.Selectable with { Own = own },
        }, words: true);
        ordered = null;
    }

    /// <summary>A group has another path.</summary>
    public void Regrouped(Guid hostId, string groupPath) => Update(hostId, e => e with { Summary = e.Summary with { GroupPath = groupPath } }, words: true);

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
            UptimeSeconds = sample.UptimeSeconds,
        },
    }, words: false);

    public void Learnt(Guid hostId, IReadOnlyList<Fact> facts)
    {
        foreach (var fact in facts.Where(f => FactsHeld.Contains(f.Name)))
        {
            var values = FactValues.Of(fact.Value);
            Update(hostId, e => e.Selectable.Fact(fact.Name).SequenceEqual(values) ? e : e with
            {
                Summary = Show(e.Summary, fact.Name, values),
                Selectable = e.Selectable with { Facts = [.. e.Selectable.Facts.Where(f => f.Name != fact.Name), (fact.Name, values)] },
            }, words: fact.Name is FactNames.Users or FactNames.Addresses);
        }
    }

    private static HostSummary Show(HostSummary summary, string fact, IReadOnlyList<FactValue> values) => fact switch
    {
        FactNames.OsName => summary with { Os = values.Select(v => v.Text).FirstOrDefault() },
        FactNames.Kernel => summary with { Kernel = values.Select(v => v.Text).FirstOrDefault() },
        FactNames.Model => summary with { Model = values.Select(v => v.Text).FirstOrDefault() },
        FactNames.Users => summary with { Users = [.. values.Take(20).Select(v => v.Text)] },
        FactNames.Addresses when values.Count > 0 => summary with { Address = values[0].Text },
        _ => summary,
    };

    /// <summary>What selections and quick find see, made from the rest.</summary>
    /// <param name="words">Whether anything changed that quick find looks through.</param>
    private static Entry Complete(Entry e, bool words)
    {
        var s = e.Summary;
        return e with
        {
            Selectable = e.Selectable with
            {
                SystemName = s.SystemName,
                Label = s.Label,
                GroupPath = s.GroupPath,
                Presence = s.Presence.State,
                LastSeenAt = s.LastSeenAt,
                EnrolledAt = s.EnrolledAt,
                AgentVersion = s.AgentVersion,
                Retired = s.RetiredAt is not null,
                Tags = s.Tags,
                Health = e.Sample is { } sample ? Figures(sample) : null,
            },
            Findable = words
                ? new Findable(
                    [Wildcard.Fold(s.Label), .. s.SystemName == s.Label ? Array.Empty<string>() : [Wildcard.Fold(s.SystemName)]],
                    [Wildcard.Fold(s.GroupPath), .. e.Selectable.Fact(FactNames.Addresses).Select(v => v.Text).Append(s.Address ?? "").Distinct().Select(Wildcard.Fold), .. s.Tags.Select(Wildcard.Fold), .. s.Users.Select(Wildcard.Fold)])
                : e.Findable,
        };
    }

    public static HealthFigures Figures(Sample sample)
    {
        var fullest = sample.Fullest;
        return new(sample.ProcessorPercent, sample.Load1, sample.MemoryUsedPercent, sample.MemoryTotalBytes, sample.MemoryAvailableBytes, fullest?.UsedPercent, fullest?.AvailableBytes, sample.UptimeSeconds);
    }

    private Guid[] Ordered() => ordered ??= [.. hosts.Values.OrderBy(e => e.Summary.Label, StringComparer.OrdinalIgnoreCase).ThenBy(e => e.Summary.Id).Select(e => e.Summary.Id)];

    private Presence ChangePresence(Guid hostId, Func<Presence, Presence> change, Func<HostSummary, HostSummary> also)
    {
        var after = Presence.Never(time.GetUtcNow());
        Update(hostId, e =>
        {
            var p = e.Summary.Presence;
            after = change(new Presence(p.State, p.Reason, p.Since));
            return e with { Summary = also(e.Summary) with { Presence = ToInfo(after) } };
        }, words: true);
        return after;
    }

    private void Update(Guid hostId, Func<Entry, Entry> change, bool words)
    {
        while (hosts.TryGetValue(hostId, out var before))
        {
            var after = change(before);
            if (ReferenceEquals(after, before))
            {
                return;
            }
            if (hosts.TryUpdate(hostId, Complete(after, words), before))
            {
                Changes.Publish(hostId);
                return;
            }
        }
    }

    private static PresenceInfo ToInfo(Presence p) => new(p.State, p.Reason, p.Since);
}
