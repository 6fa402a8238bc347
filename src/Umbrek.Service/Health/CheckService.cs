using System.Globalization;
using System.Text;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>Keeps checks and what places say of them, and tries a rule before it is switched on.</summary>
public sealed class CheckService(IDatabase database, CheckBook book, AlertBook alerts, EstateIndex estate, SelectionService selections, ProbeBook probes, ProbeTrials trials, Gate gate, AuditLog audit, TimeProvider time)
{
    private const int MostChecks = 200;
    private const int MostText = 1000;
    private const int MostTrialHosts = 2000;
    private const int MostTrialTimes = 500;
    private const int TrialsAtOnce = 16;

    /// <summary>Somebody waits for it.</summary>
    private const int MostTrialSeconds = 30;

    public async Task<List<CheckInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var settings = (await db.CheckSettings.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false)).ToLookup(s => s.Check);
        var own = await db.Checks.AsNoTracking().OrderBy(c => c.Name).ToListAsync(cancel).ConfigureAwait(false);
        var counts = alerts.Current.Where(a => !a.State.IsOver() && estate.Find(a.HostId, by.Reach) is not null).CountBy(a => a.Check).ToDictionary();
        return
        [
            .. BuiltInChecks.All.Select(c =>
            {
                var text = c.Say(new AlertSubject(new SelectableHost("the host", "the host", "", PresenceState.Linked), null, time.GetUtcNow()));
                return new CheckInfo(c.Key, null, c.Name, c.Subsystem, c.Severity, c.When, c.Until, c.Hold.TotalSeconds, text.Follows, null, null, Shown(settings[c.Key], by), counts.GetValueOrDefault(c.Key), null, 0);
            }),
            .. own.Where(c => IsShown(c, by)).Select(c => ToInfo(c, Shown(settings[c.Key], by), counts.GetValueOrDefault(c.Key))),
        ];
    }

    public async Task<CheckInfo> GetAsync(string key, Asker by, CancellationToken cancel) =>
        (await ListAsync(by, cancel).ConfigureAwait(false)).Find(c => c.Key == key) ?? throw ProblemException.NotFound("check");

    public async Task<CheckInfo> CreateAsync(NewCheck wish, Asker by, CancellationToken cancel)
    {
        var path = Ask(by, wish.GroupId);
        AskFor(by, wish.GroupId, wish.Probe);
        var row = new CheckRow { Id = Guid.CreateVersion7(), CreatedAt = time.GetUtcNow(), CreatedBy = by.Name, Version = 1 };
        Fill(row, wish);
        row.Key = KeyOf(row.Name);
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        if (BuiltInChecks.Find(row.Key) is not null || await db.Checks.AnyAsync(c => c.Key == row.Key, cancel).ConfigureAwait(false))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"There is a check '{row.Key}' already. Change that one, or choose another name.");
        }
        if (await db.Checks.CountAsync(cancel).ConfigureAwait(false) >= MostChecks)
        {
            throw ProblemException.Invalid($"There are {MostChecks} checks already; remove some that nobody needs.");
        }
        db.Checks.Add(row);
        await audit.AddAsync(db, by, "check.create", row.Name, cancel, ("when", row.When), ("probe", row.Probe), ("place", path)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
        return await GetAsync(row.Key, by, cancel).ConfigureAwait(false);
    }

    public async Task<CheckInfo> ChangeAsync(Guid id, NewCheck wish, long version, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        Ask(by, row.GroupId);
        Ask(by, wish.GroupId);
        AskFor(by, wish.GroupId, wish.Probe);
        if (row.Version != version)
        {
            throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed '{row.Name}' meanwhile. Read it again and repeat the change if it is still right.");
        }
        var (before, probeBefore) = (row.When, row.Probe);
        Fill(row, wish);
        row.Version++;
        await audit.AddAsync(db, by, "check.change", row.Name, cancel, ("when", row.When), ("before", before), ("probe", row.Probe), ("probe before", probeBefore == row.Probe ? null : probeBefore)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
        return await GetAsync(row.Key, by, cancel).ConfigureAwait(false);
    }

    public async Task RemoveAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        Ask(by, row.GroupId);
        db.Checks.Remove(row);
        await db.CheckSettings.Where(s => s.Check == row.Key).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        await db.Reactions.Where(r => r.Check == row.Key).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        await audit.AddAsync(db, by, "check.remove", row.Name, cancel, ("when", row.When)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
    }

    /// <summary>Says something of a check for one place.</summary>
    public async Task<CheckInfo> SayAsync(CheckWish wish, Asker by, CancellationToken cancel)
    {
        var check = await GetAsync(wish.Check, by, cancel).ConfigureAwait(false);
        if (wish is { GroupId: not null, HostId: not null })
        {
            throw ProblemException.Invalid("Name a group or a host, not both.");
        }
        var place = wish.HostId is { } host ? gate.Host(by, host, Permission.Configure).Label : Ask(by, wish.GroupId);
        if (wish.Until is not null && wish.When is null)
        {
            throw ProblemException.Invalid("What ends an alert belongs to what raises it: give 'when' too.");
        }
        if (check.Probe is not null && wish.When is not null)
        {
            throw ProblemException.Invalid($"'{check.Name}' looks by a probe; only whether it counts, how bad it is and its hold time can be otherwise in one place. Make another check for that place.");
        }
        CheckHold(wish.HoldSeconds ?? check.HoldSeconds);
        if (check.Probe is null)
        {
            CheckRuleIn(wish.When ?? check.When, wish.When is null ? check.Until : wish.Until, wish.HoldSeconds ?? check.HoldSeconds);
        }
        CheckSeverity(wish.Severity);
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await db.CheckSettings.FirstOrDefaultAsync(s => s.Check == wish.Check && s.GroupId == wish.GroupId && s.HostId == wish.HostId, cancel).ConfigureAwait(false);
        var says = wish is not { Off: null, Severity: null, When: null, HoldSeconds: null };
        if (row is null && says)
        {
            db.CheckSettings.Add(row = new CheckSettingRow { Id = Guid.CreateVersion7(), Check = wish.Check, GroupId = wish.GroupId, HostId = wish.HostId });
        }
        if (row is not null)
        {
            if (says)
            {
                (row.Off, row.Severity, row.When, row.Until, row.HoldSeconds, row.Note, row.ChangedAt, row.ChangedBy) =
                    (wish.Off, wish.Severity, wish.When, wish.Until, wish.HoldSeconds, Text(wish.Note, "note"), time.GetUtcNow(), by.Name);
            }
            else
            {
                db.CheckSettings.Remove(row);
            }
            await audit.AddAsync(db, by, "check.setting", $"{check.Name} for {place ?? "everything"}", cancel, ("off", wish.Off?.ToString().ToLowerInvariant()), ("severity", wish.Severity?.ToString().ToLowerInvariant()), ("when", wish.When), ("hold", wish.HoldSeconds?.ToString(CultureInfo.InvariantCulture)), ("note", wish.Note)).ConfigureAwait(false);
        }
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await book.LoadAsync().ConfigureAwait(false);
        return await GetAsync(wish.Check, by, cancel).ConfigureAwait(false);
    }

    /// <summary>What a rule would have raised, by the five-minute roll-ups that are kept.</summary>
    public async Task<CheckTrialResult> TryAsync(CheckTrial trial, Asker by, CancellationToken cancel)
    {
        var rule = CheckRuleIn(trial.When, trial.Until, trial.HoldSeconds);
        if (trial.Hours is < 1 or > 24 * 30)
        {
            throw ProblemException.Invalid("A trial looks back 1 hour to 30 days.");
        }
        var hosts = (await selections.SelectAsync(trial.On, by.Reach, cancel).ConfigureAwait(false)).Where(h => h.RetiredAt is null).ToList();
        if (hosts.Count == 0)
        {
            throw new ProblemException(404, ProblemTypes.SelectionEmpty, "No host matches; there is nothing to try the rule on.");
        }
        if (hosts.Count > MostTrialHosts)
        {
            throw ProblemException.Invalid($"A trial looks at {MostTrialHosts} hosts at most, and this names {hosts.Count}. Name fewer.");
        }
        var now = time.GetUtcNow();
        var from = now - TimeSpan.FromHours(trial.Hours);
        var times = new List<TrialAlert>();
        await using var db = database.Open();
        foreach (var host in hosts)
        {
            if (estate.FindSelectable(host.Id) is { } selectable)
            {
                var rows = db.Rollups.AsNoTracking().Where(r => r.HostId == host.Id && r.Span == RollupSpan.FiveMinutes && r.At >= from).OrderBy(r => r.At).Select(r => new { r.At, r.Figures });
                var run = new TrialRun(rule, host);
                await foreach (var row in rows.AsAsyncEnumerable().WithCancellation(cancel).ConfigureAwait(false))
                {
                    var figures = FiguresOf(Rollup.Decode(row.Figures), selectable.Health);
                    run.Step(selectable with { Health = figures, Presence = PresenceState.Linked }, row.At + RollupSpan.FiveMinutes.Length());
                }
                times.AddRange(run.Times);
            }
        }
        var facts = rule.When.FactsRead.Concat(rule.Until?.FactsRead ?? []).Distinct().ToList();
        var note = facts.Count > 0 ? $"Of {string.Join(", ", facts)} only the present is kept: it was taken for the past too." : null;
        return new CheckTrialResult(times.Count, times.Select(t => t.HostId).Distinct().Count(), hosts.Count, from, [.. times.OrderByDescending(t => t.RaisedAt).Take(MostTrialTimes)], note);
    }

    /// <summary>Where a check with a probe stands on every host that it is for and that one may see.</summary>
    public async Task<List<ProbeOnHost>> OnHostsAsync(string key, Asker by, CancellationToken cancel)
    {
        var check = await GetAsync(key, by, cancel).ConfigureAwait(false);
        if (check.Probe is null)
        {
            throw ProblemException.Invalid($"'{check.Name}' looks by no probe: it is about what is known of hosts anyway.");
        }
        return [.. estate.SeenBy(by.Reach).Where(h => h.RetiredAt is null).SelectMany(OnHost).Where(p => p.Check == check.Key).OrderBy(p => p.GroupPath, StringComparer.OrdinalIgnoreCase).ThenBy(p => p.Label, StringComparer.OrdinalIgnoreCase)];
    }

    /// <summary>Where the checks with probes stand on one host.</summary>
    public List<ProbeOnHost> OnHost(Guid hostId, Asker by) => [.. OnHost(gate.Host(by, hostId, Permission.See))];

    private IEnumerable<ProbeOnHost> OnHost(HostSummary host)
    {
        foreach (var check in book.For(host.Id, host.GroupPath).Where(c => c.Probe is not null))
        {
            var found = probes.Find(host.Id, check.Key);
            yield return new ProbeOnHost(check.Key, check.Name, check.Severity, Words(check.Probe!), host.Id, host.Label, host.GroupPath, found, found is null ? null : check.Probe!.Limits.Judge(found.Figures).Past?.ToString(), alerts.Find(host.Id, check.Key) is { } alert && !alert.State.IsOver());
        }
    }

    /// <summary>Has hosts look once: what a check with this probe would find on them now.</summary>
    public async Task<List<ProbeTrialLine>> TryProbeAsync(ProbeTrialWish wish, Asker by, CancellationToken cancel)
    {
        var (probe, limits) = ReadProbe(wish.Probe, wish.When);
        if (string.IsNullOrWhiteSpace(wish.On))
        {
            throw ProblemException.Invalid("Say on which hosts it is tried, as a selection.");
        }
        var hosts = (await selections.SelectAsync(wish.On, by.Reach, cancel).ConfigureAwait(false)).Where(h => h.RetiredAt is null).ToList();
        if (hosts.Count == 0)
        {
            throw new ProblemException(404, ProblemTypes.SelectionEmpty, "No host matches; there is nothing to try the probe on.");
        }
        if (hosts.Count > ProbeTrialWish.MaxHosts)
        {
            throw ProblemException.Invalid($"'{wish.On}' are {hosts.Count} hosts; a probe is tried on {ProbeTrialWish.MaxHosts} at most.");
        }
        gate.All(by, Permission.Configure, hosts);
        if (MoreThan(probe) is { } more)
        {
            gate.All(by, more, hosts);
        }
        await audit.AddAsync(by, "check.try", wish.On, cancel, ("probe", Json(probe)), ("hosts", $"{hosts.Count}")).ConfigureAwait(false);
        var lines = new ProbeTrialLine[hosts.Count];
        await Parallel.ForEachAsync(Enumerable.Range(0, hosts.Count), new ParallelOptions { MaxDegreeOfParallelism = TrialsAtOnce, CancellationToken = cancel }, async (i, c) =>
        {
            var found = await trials.LookAsync(hosts[i].Id, probe with { Act = ProbeAct.None, ActScript = null, TimeoutSeconds = Math.Min(probe.TimeoutSeconds, MostTrialSeconds) }, c).ConfigureAwait(false);
            var past = found.State == ProbeState.Well ? limits.Judge(found.Figures).Past : null;
            lines[i] = new ProbeTrialLine(hosts[i].Id, hosts[i].Label, hosts[i].GroupPath, found.State, found.Says, found.Figures, past?.ToString(), found.State == ProbeState.Failed || past is not null);
        }).ConfigureAwait(false);
        return [.. lines];
    }

    private static string Words(EffectiveProbe probe) => probe.Limits.Any.Count == 0 ? probe.Probe.Describe() : $"{probe.Probe.Describe()}, or {probe.Limits}";

    private static string Json(Probe probe) => JsonSerializer.Serialize(probe, WireJson.Default.Probe);

    /// <summary>What one has to be allowed at a place beside configuring it: a script is a command, and a log is a file.</summary>
    private static Permission? MoreThan(Probe? probe) => probe switch
    {
        { Kind: ProbeKind.Script } or { Act: not ProbeAct.None } => Permission.Run,
        { Kind: ProbeKind.Log } => Permission.ReadFiles,
        _ => null,
    };

    private void AskFor(Asker by, Guid? groupId, Probe? probe)
    {
        var needed = new List<Permission>();
        if (MoreThan(probe) is { } more)
        {
            needed.Add(more);
        }
        if (probe is { Kind: ProbeKind.Log, Act: not ProbeAct.None })
        {
            needed.Add(Permission.ReadFiles);
        }
        foreach (var permission in needed)
        {
            if (groupId is { } group)
            {
                gate.Group(by, group, permission);
            }
            else
            {
                gate.Everywhere(by, permission);
            }
        }
    }

    private static (Probe Probe, ProbeLimits Limits) ReadProbe(Probe probe, string? when)
    {
        var usable = probe.Normalise(out var problem) ?? throw ProblemException.Invalid(problem);
        return (usable, ProbeLimits.Read(when, usable.Figures, out problem) ?? throw ProblemException.Invalid(problem));
    }

    private sealed class TrialRun(CheckRule rule, HostSummary host)
    {
        private CheckState state = CheckState.Calm;
        public List<TrialAlert> Times { get; } = [];

        public void Step(SelectableHost then, DateTimeOffset at)
        {
            var after = state.Step(rule.Read(then, at), rule.Hold, at);
            if (after.Raised && !state.Raised)
            {
                Times.Add(new TrialAlert(host.Id, host.Label, host.GroupPath, at, null));
            }
            else if (!after.Raised && state.Raised)
            {
                Times[^1] = Times[^1] with { ClearedAt = at };
            }
            state = after;
        }
    }

    private static HealthFigures FiguresOf(Rollup rollup, HealthFigures? latest)
    {
        var fullest = rollup.Figures.Where(f => f.Metric.Name == "storage.used").OrderByDescending(f => f.Mean).Select(f => (RollupFigure?)f).FirstOrDefault();
        double? Mean(string metric, string part = "") => rollup.Find(metric, part)?.Mean;
        var free = Mean("memory.free") ?? 0;
        var used = Mean("memory.used") ?? 0;
        return new HealthFigures(
            Mean("processor") ?? 0, Mean("load") ?? 0, used, used < 100 ? (long)(free / (1 - used / 100)) : (long)free, (long)free, fullest?.Mean, fullest is { } f ? (long?)Mean("storage.free", f.Part) : null,
            latest?.UptimeSeconds ?? 0, Mean("swap.used"), Mean("temperature"));
    }

    /// <summary>Lets through who may configure at a group, or everywhere.</summary>
    /// <returns>The group's path.</returns>
    private string? Ask(Asker by, Guid? groupId)
    {
        if (groupId is { } group)
        {
            return gate.Group(by, group, Permission.Configure);
        }
        gate.Everywhere(by, Permission.Configure);
        return null;
    }

    private async Task<CheckRow> FindAsync(UmbrekContext db, Guid id, Asker by, CancellationToken cancel) =>
        await db.Checks.FirstOrDefaultAsync(c => c.Id == id, cancel).ConfigureAwait(false) is { } row && IsShown(row, by) ? row : throw ProblemException.NotFound("check");

    private bool IsShown(CheckRow row, Asker by) => row.GroupId is not { } group || (book.PathOf(group) is { } path && by.Reach.Shows(path));

    private List<CheckSetting> Shown(IEnumerable<CheckSettingRow> settings, Asker by)
    {
        var shown = new List<CheckSetting>();
        foreach (var s in settings)
        {
            var place = s.HostId is { } host ? estate.Find(host, by.Reach)?.Label : s.GroupId is { } group && book.PathOf(group) is { } path && by.Reach.Shows(path) ? path : null;
            if (place is not null || s is { HostId: null, GroupId: null })
            {
                shown.Add(new CheckSetting(s.Id, s.GroupId, s.HostId, place, s.Off, s.Severity, s.When, s.Until, s.HoldSeconds, s.Note, s.ChangedAt, s.ChangedBy));
            }
        }
        return shown;
    }

    private CheckInfo ToInfo(CheckRow c, IReadOnlyList<CheckSetting> settings, int count) => new(
        c.Key, c.Id, c.Name, c.Subsystem, c.Severity, c.When, c.Until, c.HoldSeconds, c.Follows, c.Fix, c.GroupId is { } group ? book.PathOf(group) : null, settings, count, c.CreatedBy, c.Version,
        EffectiveProbe.Of(c) is { } probe ? probe.Probe : null, EffectiveProbe.Of(c) is { } looks ? Words(looks) : null);

    private void Fill(CheckRow row, NewCheck wish)
    {
        row.Name = Names.Clean(wish.Name, "check's name", out var problem) ?? throw ProblemException.Invalid(problem);
        CheckSeverity(wish.Severity);
        if (!Enum.IsDefined(wish.Subsystem))
        {
            throw ProblemException.Invalid("Say what the check is about: a subsystem such as storage or services.");
        }
        if (wish.Probe is { } wished)
        {
            var (probe, limits) = ReadProbe(wished, wish.When);
            if (!string.IsNullOrWhiteSpace(wish.Until))
            {
                throw ProblemException.Invalid("What ends an alert of a probe is that it is well again; leave 'until' out.");
            }
            CheckHold(wish.HoldSeconds);
            (row.Probe, row.When, row.Until) = (Json(probe), limits.ToString(), null);
        }
        else
        {
            var rule = CheckRuleIn(wish.When, wish.Until, wish.HoldSeconds);
            (row.Probe, row.When, row.Until) = (null, rule.When.ToString()!, rule.Until?.ToString());
        }
        (row.Subsystem, row.Severity, row.HoldSeconds) = (wish.Subsystem, wish.Severity, wish.HoldSeconds);
        (row.Follows, row.Fix, row.GroupId) = (Text(wish.Follows, "text of what follows"), Text(wish.Fix, "text of what to do"), wish.GroupId);
    }

    private static void CheckSeverity(Severity? severity)
    {
        if (severity is { } s && !Enum.IsDefined(s))
        {
            throw ProblemException.Invalid("A severity is information, warning or critical.");
        }
    }

    private CheckRule CheckRuleIn(string? when, string? until, double holdSeconds)
    {
        if (string.IsNullOrWhiteSpace(when))
        {
            throw ProblemException.Invalid("Say when the check is raised, for example: storage.used > 90 %.");
        }
        CheckHold(holdSeconds);
        var rule = book.ReadRule(when, until, holdSeconds);
        if (rule.When is Selection.Everything)
        {
            throw ProblemException.Invalid("That would be raised on every host for ever. Say when, for example: storage.used > 90 %.");
        }
        return EstateIndex.CanAnswer(rule.When) && (rule.Until is null || EstateIndex.CanAnswer(rule.Until)) ? rule
            : throw ProblemException.Invalid($"A check can't look at {string.Join(", ", rule.When.FactsRead.Concat(rule.Until?.FactsRead ?? []).Where(f => !EstateIndex.Holds(f)).Distinct())}: only facts that have a key of their own are at hand all the time.");
    }

    private static void CheckHold(double seconds)
    {
        if (!double.IsFinite(seconds) || seconds < CheckRule.LeastHold.TotalSeconds || seconds > CheckRule.MostHold.TotalSeconds)
        {
            throw ProblemException.Invalid($"A check holds {CheckRule.LeastHold.TotalSeconds:0} seconds at least, so that no alert flutters, and {CheckRule.MostHold.TotalDays:0} days at most.");
        }
    }

    private static string? Text(string? text, string what) => string.IsNullOrWhiteSpace(text) ? null : text.Trim() is { Length: <= MostText } said ? said : throw ProblemException.Invalid($"The {what} has more than {MostText} characters.");

    private static string KeyOf(string name)
    {
        var key = new StringBuilder();
        foreach (var c in name.ToLowerInvariant().Normalize(NormalizationForm.FormD))
        {
            if (char.IsAsciiLetterOrDigit(c))
            {
                key.Append(c);
            }
            else if (key.Length > 0 && key[^1] != '-' && CharUnicodeInfo.GetUnicodeCategory(c) != UnicodeCategory.NonSpacingMark)
            {
                key.Append('-');
            }
        }
        return key.ToString().Trim('-') is { Length: > 0 } said ? said[..Math.Min(60, said.Length)] : throw ProblemException.Invalid("The check's name needs a letter from a to z or a digit.");
    }
}
