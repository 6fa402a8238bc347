using System.Collections.Concurrent;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Service.Estate;
using Umbrek.Service.Storage;
using Umbrek.Wire;

namespace Umbrek.Service.Health;

/// <summary>A check as it counts at one place.</summary>
/// <param name="Rule">Of one with a probe only the hold time counts.</param>
/// <param name="Say">What an alert of it says.</param>
public sealed record EffectiveCheck(string Key, string Name, Subsystem Subsystem, Severity Severity, CheckRule Rule, Func<AlertSubject, AlertText> Say, EffectiveProbe? Probe = null)
{
    /// <summary>Older figures say nothing of now.</summary>
    private static readonly TimeSpan Stale = TimeSpan.FromMinutes(5);

    /// <summary>
    /// What is read of a host that is not linked is old: only whether it is reachable can be told. One that has just returned first sends what it gathered meanwhile.
    /// </summary>
    /// <param name="found">What the host's agent found, for one with a probe.</param>
    public Reading Read(SelectableHost host, ProbeResult? found, DateTimeOffset now) =>
        Probe is not null ? (host.Presence != PresenceState.Linked || found is null ? Reading.Unknown : Probe.Read(found, now))
        : Subsystem != Subsystem.Reachability && host.Presence != PresenceState.Linked ? Reading.Unknown
        : Rule.Read(host.SampledAt < now - Stale ? host with { Health = null } : host, now);
}

/// <summary>A probe with the limits to its figures.</summary>
public sealed record EffectiveProbe(Probe Probe, ProbeLimits Limits)
{
    private static readonly TimeSpan Late = TimeSpan.FromMinutes(3);

    /// <summary>What was found several looks ago says nothing of now.</summary>
    public Reading Read(ProbeResult found, DateTimeOffset now) =>
        now - found.At > Late + TimeSpan.FromSeconds(3 * Probe.EverySeconds + Probe.TimeoutSeconds) ? Reading.Unknown : Limits.Read(found);

    public static EffectiveProbe? Of(CheckRow row) =>
        row.Probe is not null && JsonSerializer.Deserialize(row.Probe, WireJson.Default.Probe) is { } probe ? new EffectiveProbe(probe, ProbeLimits.Read(row.When, probe.Figures, out _) ?? ProbeLimits.None) : null;
}

/// <summary>All checks with what places say of them, in memory: which count for a host.</summary>
public sealed class CheckBook(IDatabase database, SelectionService selections)
{
    private volatile Plan plan = new([], [], new Dictionary<Guid, string>());

    /// <summary>Published to whenever the checks were read again.</summary>
    public ChangeFeed<bool> Changes { get; } = new();

    private sealed record Plan(IReadOnlyList<CheckRow> Own, IReadOnlyList<CheckSettingRow> Settings, IReadOnlyDictionary<Guid, string> Paths)
    {
        /// <summary>Checks by group, made as they are asked for: thousands of hosts stand in few groups.</summary>
        public ConcurrentDictionary<string, IReadOnlyList<EffectiveCheck>> ByGroup { get; } = new(StringComparer.OrdinalIgnoreCase);
        public ILookup<Guid?, CheckSettingRow> ByHost { get; } = Settings.Where(s => s.HostId is not null).ToLookup(s => s.HostId);
    }

    public async Task LoadAsync()
    {
        await using var db = database.Open();
        plan = new Plan(
            await db.Checks.AsNoTracking().OrderBy(c => c.Name).ToListAsync().ConfigureAwait(false),
            await db.CheckSettings.AsNoTracking().ToListAsync().ConfigureAwait(false),
            await db.Groups.AsNoTracking().ToDictionaryAsync(g => g.Id, g => g.Path).ConfigureAwait(false));
        Changes.Publish(true);
    }

    /// <summary>The checks that count for a host, switched off ones left out.</summary>
    public IReadOnlyList<EffectiveCheck> For(Guid hostId, string groupPath)
    {
        var now = plan;
        return now.ByHost.Contains(hostId) ? Make(now, groupPath, hostId) : now.ByGroup.GetOrAdd(groupPath, path => Make(now, path, null));
    }

    public string? PathOf(Guid groupId) => plan.Paths.GetValueOrDefault(groupId);

    /// <exception cref="Hosting.ProblemException">One of the two can't be read.</exception>
    public CheckRule ReadRule(string when, string? until, double holdSeconds) =>
        new(selections.Read(when), string.IsNullOrWhiteSpace(until) ? null : selections.Read(until), TimeSpan.FromSeconds(holdSeconds));

    public static Func<AlertSubject, AlertText> SayOf(CheckRow row, EffectiveProbe? probe) => subject =>
        new AlertText(
            probe is null || subject.Probe is not { } found ? $"{subject.Host.Label}: {row.Name} ({row.When})."
            : probe.Limits.Judge(found.Figures).Past is { } past && found.State != ProbeState.Failed ? $"{subject.Host.Label}: {found.Says} The check allows no {past}."
            : $"{subject.Host.Label}: {found.Says}",
            row.Follows, row.Fix);

    private List<EffectiveCheck> Make(Plan plan, string groupPath, Guid? hostId)
    {
        var checks = BuiltInChecks.All.Select(c => new EffectiveCheck(c.Key, c.Name, c.Subsystem, c.Severity, c.Rule, c.Say)).ToList();
        foreach (var row in plan.Own.Where(c => c.GroupId is null || (plan.Paths.TryGetValue(c.GroupId.Value, out var path) && GroupPath.IsAtOrBelow(groupPath, path))))
        {
            var probe = EffectiveProbe.Of(row);
            if ((probe is not null ? HoldOnly(row.HoldSeconds) : TryRead(row.When, row.Until, row.HoldSeconds)) is { } rule)
            {
                checks.Add(new EffectiveCheck(row.Key, row.Name, row.Subsystem, row.Severity, rule, SayOf(row, probe), probe));
            }
        }
        return [.. checks.Select(c => Lay(c, Layers(plan, c.Key, groupPath, hostId))).OfType<EffectiveCheck>()];
    }

    /// <summary>What is said of a check from everything down to the host.</summary>
    private static IEnumerable<CheckSettingRow> Layers(Plan plan, string key, string groupPath, Guid? hostId) => plan.Settings
        .Where(s => s.Check == key && (s.HostId is { } host ? host == hostId : s.GroupId is not { } group || (plan.Paths.TryGetValue(group, out var path) && GroupPath.IsAtOrBelow(groupPath, path))))
        .OrderBy(s => s.HostId is not null ? int.MaxValue : s.GroupId is { } group ? GroupPath.Split(plan.Paths[group]).Length : 0);

    private EffectiveCheck? Lay(EffectiveCheck check, IEnumerable<CheckSettingRow> layers)
    {
        var off = false;
        var (when, until, hold) = (check.Rule.When.ToString()!, check.Rule.Until?.ToString(), check.Rule.Hold.TotalSeconds);
        var changed = false;
        foreach (var layer in layers)
        {
            off = layer.Off ?? off;
            check = check with { Severity = layer.Severity ?? check.Severity };
            changed |= layer.When is not null || layer.HoldSeconds is not null;
            // A rule and its end belong together: another rule does not keep the end of the one before.
            (when, until) = layer.When is { } own ? (own, layer.Until) : (when, until);
            hold = layer.HoldSeconds ?? hold;
        }
        return off ? null : !changed ? check : check.Probe is not null ? check with { Rule = HoldOnly(hold) } : TryRead(when, until, hold) is { } rule ? check with { Rule = rule } : check;
    }

    private static CheckRule HoldOnly(double seconds) => new(new Selection.Everything(), null, TimeSpan.FromSeconds(seconds));

    /// <summary>A saved selection in it may be gone meanwhile: such a rule raises nothing.</summary>
    private CheckRule? TryRead(string when, string? until, double holdSeconds)
    {
        try
        {
            return ReadRule(when, until, holdSeconds);
        }
        catch (Hosting.ProblemException)
        {
            return null;
        }
    }
}
