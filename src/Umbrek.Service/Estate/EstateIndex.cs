using System.Collections.Concurrent;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Service.Access;
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

    private readonly ConcurrentDictionary<Guid, Slot> hosts = new();

    /// <summary>Hosts by label; made anew when a label, or who is there, has changed.</summary>
    private volatile Slot[]? ordered;

    /// <summary>Hosts under their groups; made anew when a label or a place, or who is there, has changed.</summary>
    private volatile Slot[]? placed;

    /// <summary>A host's place, which stays while what is known of it changes: going through all of them looks none of them up.</summary>
    private sealed class Slot(Entry entry)
    {
        private Entry entry = entry;

        public Entry Entry => Volatile.Read(ref entry);

        public bool Replace(Entry before, Entry after) => Interlocked.CompareExchange(ref entry, after, before) == before;
    }

    private sealed record Entry(HostSummary Summary, byte[] PublicKey, string? HardwareId, HostSide Side, Sample? Sample, SelectableHost Selectable, Findable Findable)
    {
        public Steadiness Steadiness { get; init; } = Steadiness.Steady;
    }

    public ChangeFeed<Guid> Changes { get; } = new();

    /// <summary>Every host, retired ones too.</summary>
    public IEnumerable<HostSummary> All => hosts.Values.Select(s => s.Entry.Summary);

    public int Count => hosts.Count;

    /// <summary>Hosts that somebody may see, retired ones too.</summary>
    public IEnumerable<HostSummary> SeenBy(Reach reach) => All.Where(h => reach.May(Permission.See, h.GroupPath));

    /// <summary>The host, unless it may not be seen.</summary>
    public HostSummary? Find(Guid hostId, Reach reach) => Find(hostId) is { } host && reach.May(Permission.See, host.GroupPath) ? host : null;

    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        var paths = await db.Groups.AsNoTracking().ToDictionaryAsync(g => g.Id, g => g.Path, cancel).ConfigureAwait(false);
        var facts = (await db.Facts.AsNoTracking().Where(f => FactsHeld.Contains(f.Name)).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(f => f.HostId);
        var tags = (await db.HostTags.AsNoTracking().OrderBy(t => t.Key).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(t => t.HostId, t => t.Tag);
        var own = await ReadOwnAsync(db, null, cancel).ConfigureAwait(false);
        await foreach (var row in db.Hosts.AsNoTracking().AsAsyncEnumerable().WithCancellation(cancel).ConfigureAwait(false))
        {
            var entry = Edit(Begin(row, restarted: true), row.Label, paths[row.GroupId], [.. tags[row.Id]], [.. own[row.Id]], row.RetiredAt);
            foreach (var fact in facts[row.Id])
            {
                using var value = JsonDocument.Parse(fact.Value);
                entry = Learn(entry, fact.Name, FactValues.Of(value.RootElement));
            }
            if (entry.Selectable.Fact(FactNames.Unsteady) is [{ Text: "yes" }, ..])
            {
                // How often it was lost before the restart nobody knows any more.
                entry = entry with { Steadiness = new Steadiness([row.LastSeenAt], true), Summary = entry.Summary with { Presence = entry.Summary.Presence with { Losses = 1 } } };
            }
            hosts[row.Id] = new Slot(Complete(entry, words: true));
        }
        // One seek in the key for each host; a maximum over all samples would read them all.
        var latest = db.Hosts.Select(h => new { h.Id, Json = db.Samples.Where(s => s.HostId == h.Id).OrderByDescending(s => s.At).Select(s => s.Sample).FirstOrDefault() });
        await foreach (var row in latest.AsAsyncEnumerable().WithCancellation(cancel).ConfigureAwait(false))
        {
            if (row.Json is not null && JsonSerializer.Deserialize(row.Json, WireJson.Default.Sample) is { } sample)
            {
                Sampled(row.Id, sample, heard: false);
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

    public void Add(HostRow row, string groupPath)
    {
        hosts[row.Id] = new Slot(Complete(Edit(Begin(row, restarted: false), row.Label, groupPath, [], [], row.RetiredAt), words: true));
        (ordered, placed) = (null, null);
        Changes.Publish(row.Id);
    }

    private Entry Begin(HostRow row, bool restarted)
    {
        var presence = new Presence(row.Presence, row.PresenceReason, row.PresenceSince);
        if (restarted)
        {
            presence = Presence.AfterRestart(presence, time.GetUtcNow());
        }
        var summary = new HostSummary(
            row.Id, row.SystemName, row.Label, "", ToInfo(presence), row.LastSeenAt, null, row.AgentVersion, row.Address, [], null, null, null, null, null)
        {
            EnrolledAt = row.EnrolledAt,
        };
        return new Entry(summary, row.PublicKey, row.HardwareId, HostSides.Read(row), null, new SelectableHost("", "", "", PresenceState.Expected) { StorageFullAt = row.StorageFullAt }, new Findable([], []));
    }

    /// <summary>The host is no more.</summary>
    public void Remove(Guid hostId)
    {
        hosts.TryRemove(hostId, out _);
        (ordered, placed) = (null, null);
        Changes.Publish(hostId);
    }

    public HostSummary? Find(Guid hostId) => hosts.GetValueOrDefault(hostId)?.Entry.Summary;

    /// <summary>What rules see of the host.</summary>
    public SelectableHost? FindSelectable(Guid hostId) => hosts.GetValueOrDefault(hostId)?.Entry.Selectable;

    public Sample? LatestSample(Guid hostId) => hosts.GetValueOrDefault(hostId)?.Entry.Sample;

    public byte[]? FindKey(Guid hostId) => hosts.GetValueOrDefault(hostId)?.Entry.PublicKey;

    /// <summary>The board that the host joined with.</summary>
    public string? FindHardware(Guid hostId) => hosts.GetValueOrDefault(hostId)?.Entry.HardwareId;

    /// <summary>What the host said of its own side last.</summary>
    public HostSide? FindSide(Guid hostId) => hosts.GetValueOrDefault(hostId)?.Entry.Side;

    /// <summary>Whether the host asks for its access key before it does this.</summary>
    public bool AsksKey(Guid hostId, HostAct? act) => act is { } some && FindSide(hostId)?.InForce.AsksKey(some) == true;

    /// <summary>Hosts whose access key has this mark.</summary>
    public IEnumerable<HostSummary> WithKeyMark(string mark) => hosts.Values.Select(s => s.Entry).Where(e => e.Side.KeyMark == mark && e.Summary.RetiredAt is null).Select(e => e.Summary);

    public void SideTold(Guid hostId, HostSide side) => Update(hostId, e => e with { Side = side }, words: false);

    /// <summary>The host goes on with another key, on the machine that proved it.</summary>
    public void Rekey(Guid hostId, byte[] publicKey, string? hardwareId) => Update(hostId, e => e with { PublicKey = publicKey, HardwareId = hardwareId }, words: false);

    /// <summary>True when everything that the selection compares is held here.</summary>
    public static bool CanAnswer(Selection selection) => selection.FactsRead.All(FactsHeld.Contains);

    /// <summary>Whether the fact is held here.</summary>
    public static bool Holds(string fact) => FactsHeld.Contains(fact);

    /// <summary>Hosts of a selection by label, then id. Retired ones stand aside unless it speaks of them.</summary>
    /// <param name="reach">Only those that it lets one see.</param>
    /// <param name="among">Only these, when it is given.</param>
    public List<HostSummary> Select(Selection selection, Reach reach, IReadOnlySet<Guid>? among = null)
    {
        var now = time.GetUtcNow();
        var retired = selection.MentionsRetired;
        var found = new List<HostSummary>();
        foreach (var slot in Ordered())
        {
            var e = slot.Entry;
            if ((retired || !e.Selectable.Retired) && reach.May(Permission.See, e.Summary.GroupPath) && (among is null ? selection.Matches(e.Selectable, now) : among.Contains(e.Summary.Id)))
            {
                found.Add(e.Summary);
            }
        }
        return found;
    }

    public bool Matches(Guid hostId, Selection selection, DateTimeOffset now) =>
        hosts.GetValueOrDefault(hostId)?.Entry.Selectable is { } host && (!host.Retired || selection.MentionsRetired) && selection.Matches(host, now);

    /// <summary>Hosts that quick find finds, with what it thinks of each; slips are looked for only when there are fewer than enough.</summary>
    public List<(HostSummary Host, int Score)> Find(QuickFind find, Reach reach, int enough)
    {
        var found = Scan(false);
        return found.Count >= enough ? found : Scan(true);

        List<(HostSummary, int)> Scan(bool forgiving)
        {
            var list = new List<(HostSummary, int)>();
            foreach (var slot in Ordered())
            {
                var entry = slot.Entry;
                if (!entry.Selectable.Retired && reach.May(Permission.See, entry.Summary.GroupPath) && find.Score(entry.Findable, forgiving) is > 0 and var score)
                {
                    list.Add((entry.Summary, score));
                }
            }
            return list;
        }
    }

    public IReadOnlyCollection<string> AgentVersions => hosts.Values.Select(s => s.Entry.Summary.AgentVersion).ToHashSet();

    /// <summary>Values of a key that hosts have, for completion: the commonest first.</summary>
    public List<string> ValuesOf(SelectionKey key, Reach reach) =>
        [.. hosts.Values.Select(s => s.Entry.Selectable).Where(h => reach.May(Permission.See, h.GroupPath)).SelectMany(h => key.Fact is { } fact ? h.Fact(fact).Select(v => v.Text) : [key.Text!(h)]).CountBy(v => v).OrderByDescending(c => c.Value).Select(c => c.Key).Take(200)];

    public void Edited(Guid hostId, string label, string groupPath, IReadOnlyList<string> tags, IReadOnlyList<OwnValue> own, DateTimeOffset? retiredAt)
    {
        Update(hostId, e => Edit(e, label, groupPath, tags, own, retiredAt), words: true);
        (ordered, placed) = (null, null);
    }

    private static Entry Edit(Entry e, string label, string groupPath, IReadOnlyList<string> tags, IReadOnlyList<OwnValue> own, DateTimeOffset? retiredAt) => e with
    {
        Summary = e.Summary with { Label = label, GroupPath = groupPath, Tags = tags, RetiredAt = retiredAt },
        Selectable = e.Selectable with { Own = own },
    };

    /// <summary>A group has another path.</summary>
    public void Regrouped(Guid hostId, string groupPath)
    {
        Update(hostId, e => e with { Summary = e.Summary with { GroupPath = groupPath } }, words: true);
        placed = null;
    }

    public Presence Linked(Guid hostId, string systemName, string agentVersion, string? address, DateTimeOffset now) =>
        ChangePresence(hostId, p => p.Link(now), s => s with { SystemName = systemName, AgentVersion = agentVersion, Address = s.Address ?? address, LastSeenAt = now });

    public Presence Unlinked(Guid hostId, AwayReason said, DateTimeOffset now)
    {
        var after = ChangePresence(hostId, _ => Presence.Unlink(said, now), s => s with { LastSeenAt = now });
        if (after.Reason == AwayReason.LostContact)
        {
            Steady(hostId, s => s.Lost(now));
        }
        return after;
    }

    /// <summary>Counts losses of contact, and forgets them with time.</summary>
    private void Steady(Guid hostId, Func<Steadiness, Steadiness> change) => Update(hostId, e =>
    {
        var after = change(e.Steadiness);
        return after == e.Steadiness ? e : e with { Steadiness = after, Summary = e.Summary with { Presence = e.Summary.Presence with { Losses = after.IsUnsteady ? after.Losses.Count : 0 } } };
    }, words: false);

    /// <summary>Hosts whose link has become unsteady, or steady again, and is not yet told so.</summary>
    public List<(Guid HostId, bool Unsteady)> TurnedSteadiness(DateTimeOffset now)
    {
        var turned = new List<(Guid, bool)>();
        foreach (var (id, slot) in hosts)
        {
            var entry = slot.Entry;
            if (entry.Steadiness.IsUnsteady)
            {
                Steady(id, s => s.At(now));
            }
            var told = entry.Selectable.Fact(FactNames.Unsteady) is [{ Text: "yes" }, ..];
            if (FindSteadiness(id) is { } after && after.IsUnsteady != told)
            {
                turned.Add((id, after.IsUnsteady));
            }
        }
        return turned;
    }

    private Steadiness? FindSteadiness(Guid hostId) => hosts.GetValueOrDefault(hostId)?.Entry.Steadiness;

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

    /// <summary>The fullest file system will be full then, or does not fill.</summary>
    public void Fills(Guid hostId, DateTimeOffset? at) => Update(hostId, e => e.Selectable.StorageFullAt == at ? e : e with { Selectable = e.Selectable with { StorageFullAt = at } }, words: false);

    /// <summary>How many alerts the host has, and how bad the worst of them is.</summary>
    public void Alarmed(Guid hostId, int alerts, Severity? worst) => Update(hostId, e => e.Summary.Alerts == alerts && e.Summary.Worst == worst ? e : e with { Summary = e.Summary with { Alerts = alerts, Worst = worst } }, words: false);

    public void Learnt(Guid hostId, IReadOnlyList<Fact> facts)
    {
        foreach (var fact in facts.Where(f => FactsHeld.Contains(f.Name)))
        {
            var values = FactValues.Of(fact.Value);
            Update(hostId, e => e.Selectable.Fact(fact.Name).SequenceEqual(values) ? e : Learn(e, fact.Name, values), words: fact.Name is FactNames.Users or FactNames.Addresses);
        }
    }

    private static Entry Learn(Entry e, string fact, IReadOnlyList<FactValue> values) => e with
    {
        Summary = Show(e.Summary, fact, values),
        Selectable = e.Selectable with { Facts = [.. e.Selectable.Facts.Where(f => f.Name != fact), (fact, values)] },
    };

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
                AwayFor = s.Presence.Reason,
                LastSeenAt = s.LastSeenAt,
                EnrolledAt = s.EnrolledAt,
                AgentVersion = s.AgentVersion,
                Retired = s.RetiredAt is not null,
                Tags = s.Tags,
                Health = e.Sample is { } sample ? Figures(sample) : null,
                SampledAt = e.Sample?.At,
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
        return new(sample.ProcessorPercent, sample.Load1, sample.MemoryUsedPercent, sample.MemoryTotalBytes, sample.MemoryAvailableBytes, fullest?.UsedPercent, fullest?.AvailableBytes, sample.UptimeSeconds, sample.SwapUsedPercent, sample.TemperatureCelsius);
    }

    /// <summary>Every host, retired ones too, as a list under the headings of its groups begins.</summary>
    public IEnumerable<HostSummary> ByPlace() =>
        (placed ??= [.. hosts.Values.OrderBy(s => s.Entry.Summary.GroupPath, StringComparer.OrdinalIgnoreCase).ThenBy(s => s.Entry.Summary.Label, StringComparer.OrdinalIgnoreCase)]).Select(s => s.Entry.Summary);

    private Slot[] Ordered() => ordered ??= [.. hosts.Values.OrderBy(s => s.Entry.Summary.Label, StringComparer.OrdinalIgnoreCase).ThenBy(s => s.Entry.Summary.Id)];

    private Presence ChangePresence(Guid hostId, Func<Presence, Presence> change, Func<HostSummary, HostSummary> also)
    {
        var after = Presence.Never(time.GetUtcNow());
        Update(hostId, e =>
        {
            var p = e.Summary.Presence;
            after = change(new Presence(p.State, p.Reason, p.Since));
            return e with { Summary = also(e.Summary) with { Presence = ToInfo(after) with { Losses = p.Losses } } };
        }, words: true);
        return after;
    }

    private void Update(Guid hostId, Func<Entry, Entry> change, bool words)
    {
        while (hosts.TryGetValue(hostId, out var slot))
        {
            var before = slot.Entry;
            var after = change(before);
            if (ReferenceEquals(after, before))
            {
                return;
            }
            if (slot.Replace(before, Complete(after, words)))
            {
                Changes.Publish(hostId);
                return;
            }
        }
    }

    private static PresenceInfo ToInfo(Presence p) => new(p.State, p.Reason, p.Since);
}
