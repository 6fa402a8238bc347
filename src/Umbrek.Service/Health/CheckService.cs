using System.Globalization;
using System.Text;
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
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>Keeps checks and what places say of them, and tries a rule before it is switched on.</summary>
public sealed class CheckService(IDatabase database, CheckBook book, AlertBook alerts, EstateIndex estate, SelectionService selections, Gate gate, AuditLog audit, TimeProvider time)
{
    private const int MostChecks = 200;
    private const int MostText = 1000;
    private const int MostTrialHosts = 2000;
    private const int MostTrialTimes = 500;

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
        await audit.AddAsync(db, by, "check.create", row.Name, cancel, ("when", row.When), ("place", path)).ConfigureAwait(false);
        await transaction.CommitAsync(cancel).ConfigureAwait(false);
        await book.LoadAsync(cancel).ConfigureAwait(false);
        return await GetAsync(row.Key, by, cancel).ConfigureAwait(false);
    }

    public async Task<CheckInfo> ChangeAsync(Guid id, NewCheck wish, long version, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        Ask(by, row.GroupId);
        Ask(by, wish.GroupId);
        if (row.Version != version)
        {
            throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed '{row.Name}' meanwhile. Read it again and repeat the change if it is still right.");
        }
        var before = row.When;
        Fill(row, wish);
        row.Version++;
        await audit.AddAsync(db, by, "check.change", row.Name, cancel, ("when", row.When), ("before", before)).ConfigureAwait(false);
        await transaction.CommitAsync(cancel).ConfigureAwait(false);
        await book.LoadAsync(cancel).ConfigureAwait(false);
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
        await audit.AddAsync(db, by, "check.remove", row.Name, cancel, ("when", row.When)).ConfigureAwait(false);
        await transaction.CommitAsync(cancel).ConfigureAwait(false);
        await book.LoadAsync(cancel).ConfigureAwait(false);
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
        CheckRuleIn(wish.When ?? check.When, wish.When is null ? check.Until : wish.Until, wish.HoldSeconds ?? check.HoldSeconds);
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
        await transaction.CommitAsync(cancel).ConfigureAwait(false);
        await book.LoadAsync(cancel).ConfigureAwait(false);
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
        c.Key, c.Id, c.Name, c.Subsystem, c.Severity, c.When, c.Until, c.HoldSeconds, c.Follows, c.Fix, c.GroupId is { } group ? book.PathOf(group) : null, settings, count, c.CreatedBy, c.Version);

    private void Fill(CheckRow row, NewCheck wish)
    {
        row.Name = Names.Clean(wish.Name, "check's name", out var problem) ?? throw ProblemException.Invalid(problem);
        CheckSeverity(wish.Severity);
        if (!Enum.IsDefined(wish.Subsystem))
        {
            throw ProblemException.Invalid("Say what the check is about: a subsystem such as storage or services.");
        }
        var rule = CheckRuleIn(wish.When, wish.Until, wish.HoldSeconds);
        (row.Subsystem, row.Severity, row.When, row.Until, row.HoldSeconds) = (wish.Subsystem, wish.Severity, rule.When.ToString()!, rule.Until?.ToString(), wish.HoldSeconds);
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
        if (!double.IsFinite(holdSeconds) || holdSeconds < CheckRule.LeastHold.TotalSeconds || holdSeconds > CheckRule.MostHold.TotalSeconds)
        {
            throw ProblemException.Invalid($"A check holds {CheckRule.LeastHold.TotalSeconds:0} seconds at least, so that no alert flutters, and {CheckRule.MostHold.TotalDays:0} days at most.");
        }
        var rule = book.ReadRule(when, until, holdSeconds);
        if (rule.When is Selection.Everything)
        {
            throw ProblemException.Invalid("That would be raised on every host for ever. Say when, for example: storage.used > 90 %.");
        }
        return EstateIndex.CanAnswer(rule.When) && (rule.Until is null || EstateIndex.CanAnswer(rule.Until)) ? rule
            : throw ProblemException.Invalid($"A check can't look at {string.Join(", ", rule.When.FactsRead.Concat(rule.Until?.FactsRead ?? []).Where(f => !EstateIndex.Holds(f)).Distinct())}: only facts that have a key of their own are at hand all the time.");
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
