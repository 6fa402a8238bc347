using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Health;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Health;

namespace Umbrek.Cli.Health;

/// <summary><c>umbrek alert</c>: what is wrong, and what is decided about it.</summary>
public static class AlertCommands
{
    private const string Lister = "umbrek alert list";

    public static Command Alert(ClientContext client)
    {
        var command = ClientCommands.Named("alert", "Shows what is wrong with hosts, and takes it up.", "umbrek alert list --severity warning");
        command.Subcommands.Add(List(client));
        command.Subcommands.Add(Show(client));
        command.Subcommands.Add(Trend(client));
        command.Subcommands.Add(Act(client, "ack", "Says that you know and are at it.", AlertActKind.Acknowledge, "umbrek alert ack 70f4c2e1 --note 'cleaning up'", "acknowledged"));
        command.Subcommands.Add(Act(client, "snooze", "Leaves it quiet for a time.", AlertActKind.Snooze, "umbrek alert snooze 70f4c2e1 --for 4h", "quiet"));
        command.Subcommands.Add(Act(client, "dismiss", "Decides that it is none, and says why; it is not raised again before it has cleared.", AlertActKind.Dismiss, "umbrek alert dismiss 70f4c2e1 --note 'a test machine'", "dismissed"));
        command.Subcommands.Add(Act(client, "reopen", "Makes it ask for somebody again.", AlertActKind.Reopen, "umbrek alert reopen 70f4c2e1", "open again"));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var on = new Option<string?>("--on") { Description = "Only of hosts of this selection." };
        var state = new Option<string?>("--state") { Description = "Only in this state: open, acknowledged, snoozed, cleared or dismissed." };
        var severity = new Option<string?>("--severity") { Description = "Only as bad as this, or worse: information, warning or critical." };
        var about = new Option<string?>("--about") { Description = "Only about this subsystem, for example storage." };
        var all = new Option<bool>("--all") { Description = "Those that are over too." };
        var command = ClientCommands.Named("list", "Lists alerts, the worst first; those with one cause are one line.", "umbrek alert list --on 'in \"Saltmarsh Ferry\"'");
        command.Add(on, state, severity, about, all);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            string[] query = [Part("on", parsed.GetValue(on)), Part("state", parsed.GetValue(state)), Part("severity", parsed.GetValue(severity)), Part("subsystem", parsed.GetValue(about)), parsed.GetValue(all) ? "all=true" : ""];
            var lines = (await api.GetAsync($"alerts?{string.Join('&', query.Where(q => q.Length > 0))}", WireJson.Default.PageAlertLine, cancel).ConfigureAwait(false)).Items;
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), lines, WireJson.Default.ListAlertLine, "Nothing is wrong.",
                new("Id", l => Words.ShortId(l.Alerts[0].Id), Machine: l => $"{l.Alerts[0].Id}"),
                new("Severity", l => Words.Of(l.Severity)),
                new("State", l => StateOf(l, now), Machine: l => Words.Of(l.State)),
                new("Since", l => Words.Ago(l.RaisedAt, now), Machine: l => Words.Iso(l.RaisedAt)),
                new("Where", l => l.Place ?? (IsOfOneHost(l) ? l.Alerts[0].Label : string.Join(", ", l.Alerts.Select(a => a.Label)))),
                new("What", l => l.What + (IsOfOneHost(l) && l.Alerts.Count > 1 ? $" (and {l.Alerts.Count - 1} more about its {Words.Of(l.Alerts[0].Subsystem)})" : "")));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var id = new Argument<string>("id") { Description = "The alert, as the list shows it." };
        var command = ClientCommands.Named("show", "Shows what is wrong, what follows, how to fix it, what happened before, and who has the same.", "umbrek alert show 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), all: true, cancel).ConfigureAwait(false);
            var detail = await api.GetAsync($"alerts/{found.Id}", WireJson.Default.AlertDetail, cancel).ConfigureAwait(false);
            var (a, now) = (detail.Alert, client.Time.GetUtcNow());
            string? graph = null;
            if (detail.Graph is { } g && client.Format(parsed) == OutputFormat.Table)
            {
                var series = await api.GetAsync($"hosts/{a.HostId}/series?metrics={g.Metric}&from={Words.Iso(now.AddHours(-6))}&points={Sparkline.Width}", WireJson.Default.MetricSeries, cancel).ConfigureAwait(false);
                graph = series.Lines.FirstOrDefault(l => l.Part == (g.Part ?? "")) is { } line ? $"{Sparkline.Draw(line.Mean)}  {g.Metric}, the last 6 hours; raised at {g.Threshold:0.##}" : null;
            }
            Listing.PrintOne(client.Format(parsed), detail, WireJson.Default.AlertDetail,
                ("What", a.What),
                ("Follows", a.Follows),
                ("Fix", a.Fix),
                ("Host", $"{a.Label} ({a.SystemName}) in {a.GroupPath}"),
                ("Severity", $"{Words.Of(a.Severity)}, about {Words.Of(a.Subsystem)}"),
                ("Since", $"{Words.Ago(a.RaisedAt, now)} ({Words.Iso(a.RaisedAt)})"),
                ("State", $"{Words.Of(a.State)}{(a.SnoozedUntil is { } until ? $" until {Words.Iso(until)}" : "")}{(a.StateBy is null ? "" : $" by {a.StateBy}, {Words.Ago(a.StateAt, now)}")}{(a.Note is null ? "" : $": {a.Note}")}"),
                ("Quiet", a.QuietUntil is { } quiet ? $"in a maintenance window until {Words.Iso(quiet)}" : null),
                ("Told", detail.Notices.Count == 0 ? "nobody: no notice is about it" : string.Join('\n', detail.Notices.Select(n => $"{n.Notice} {n.Said}{(n.At is { } at ? $", {Words.Ago(at, now)}" : n.Until is { } next ? $" ({Words.Iso(next)})" : "")}"))),
                ("Ran", detail.Reactions.Count == 0 ? null : string.Join('\n', detail.Reactions.Select(r => Ran(r, now)))),
                ("Graph", graph),
                ("Before", detail.Before.Count == 0 ? null : string.Join('\n', detail.Before.Select(e => $"{Words.Iso(e.At)}  {Words.Of(e.Kind)}  {e.Text}{(e.By.Length == 0 ? "" : $" ({e.By})")}"))),
                ("Same on", detail.Same.Count == 0 ? null : string.Join(", ", detail.Same.Select(s => s.Label))));
            return ExitCodes.Done;
        });
        return command;
    }

    private static string Ran(AlertReaction reaction, DateTimeOffset now) => reaction switch
    {
        { JobId: { } job, At: { } at } => $"{reaction.Name}, {Words.Ago(at, now)}: {(reaction.State is { } state ? Words.Of(state) : "made a job")} (umbrek job show {Words.ShortId(job)})",
        { At: { } at } => $"{reaction.Name} did not, {Words.Ago(at, now)}. {reaction.Says}",
        _ => $"{reaction.Name} has not. {reaction.Says}",
    };

    private static Command Trend(ClientContext client)
    {
        var place = new Option<string?>("--in") { Description = "Only this customer or group; everything when left out." };
        var days = new Option<int>("--days") { Description = "How many days to look back, up to 30.", DefaultValueFactory = _ => 7 };
        var command = ClientCommands.Named("trend", "Shows how many alerts there were in the last days, and whose storage fills up next.", "umbrek alert trend --in 'Saltmarsh Ferry'");
        command.Add(place, days);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var trend = await api.GetAsync($"overview/trend?days={parsed.GetValue(days)}{(parsed.GetValue(place) is { } path ? "&" + Part("path", path) : "")}", WireJson.Default.HealthTrend, cancel).ConfigureAwait(false);
            var now = client.Time.GetUtcNow();
            string Line(IReadOnlyList<int> counts)
            {
                // As many hours or more as go into one bar: the most of them counts.
                var part = Math.Max(1, (counts.Count + Sparkline.Width - 1) / Sparkline.Width);
                return $"{Sparkline.Draw([.. counts.Chunk(part).Select(c => (double?)c.Max())])}  {counts[^1]} now, {counts.Max()} at most";
            }
            Listing.PrintOne(client.Format(parsed), trend, WireJson.Default.HealthTrend,
                ("Since", Words.Iso(trend.From)),
                ("Critical", Line(trend.Critical)),
                ("Warning", Line(trend.Warning)),
                ("Information", Line(trend.Information)),
                ("Fills up", trend.Filling.Count == 0 ? "nothing" : string.Join('\n', trend.Filling.Select(f => $"{f.Label}: {f.Mount} at {f.UsedPercent:0} %, full {(f.FullAt <= now ? "at any moment" : $"in {Units.Span(f.FullAt - now)}")}"))));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Act(ClientContext client, string name, string description, AlertActKind act, string example, string done)
    {
        var ids = new Argument<string[]>("id") { Description = "Alerts, as the list shows them. A line about a whole place means all its hosts.", Arity = ArgumentArity.OneOrMore };
        var note = new Option<string?>("--note") { Description = act == AlertActKind.Dismiss ? "Why it is none." : "What others should know.", Required = act == AlertActKind.Dismiss };
        var lasting = new Option<string?>("--for") { Description = "For how long, for example 4h or 2d." };
        var until = new Option<string?>("--until") { Description = "Until when, in UTC, for example 2026-12-01T08:00." };
        var command = ClientCommands.Named(name, description, example);
        command.Add(ids);
        command.Add(note);
        if (act == AlertActKind.Snooze)
        {
            command.Add(lasting, until);
        }
        command.SetAction(async (parsed, cancel) =>
        {
            DateTimeOffset? end = null;
            if (act == AlertActKind.Snooze)
            {
                end = (parsed.GetValue(lasting), parsed.GetValue(until)) switch
                {
                    ({ } span, null) => client.Time.GetUtcNow() + (Units.ParseSpan(span) ?? throw new ClientException($"'{span}' is no time; write it like 30min, 4h or 2d.", ExitCodes.WrongUse)),
                    (null, { } time) => TimeText.Read(time),
                    _ => throw new ClientException("Say for how long it is to be quiet: --for 4h, or --until 2026-12-01T08:00.", ExitCodes.WrongUse),
                };
            }
            using var api = client.State.Open();
            var lines = (await api.GetAsync("alerts", WireJson.Default.PageAlertLine, cancel).ConfigureAwait(false)).Items;
            var chosen = new List<AlertInfo>();
            foreach (var typed in parsed.GetRequiredValue(ids))
            {
                var one = ShortIds.Find(lines.SelectMany(l => l.Alerts), a => a.Id, typed, "alert", Lister);
                var line = lines.First(l => l.Alerts.Contains(one));
                chosen.AddRange(line.Alerts[0] == one ? line.Alerts : [one]);
            }
            var changed = await api.PostAsync("alerts/acts", new AlertAct([.. chosen.Select(a => a.Id).Distinct()], act, end, parsed.GetValue(note)), WireJson.Default.AlertAct, WireJson.Default.PageAlertInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), changed.Items, WireJson.Default.ListAlertInfo, "Nothing was changed.",
                new("Id", a => Words.ShortId(a.Id), Machine: a => $"{a.Id}"),
                new("Host", a => a.Label),
                new("Alert", a => a.CheckName),
                new("State", a => a.SnoozedUntil is { } quiet ? $"{done} until {Words.Iso(quiet)}" : done));
            return ExitCodes.Done;
        });
        return command;
    }

    private static async Task<AlertInfo> FindAsync(ApiClient api, string typed, bool all, CancellationToken cancel) =>
        ShortIds.Find((await api.GetAsync($"alerts?all={(all ? "true" : "false")}", WireJson.Default.PageAlertLine, cancel).ConfigureAwait(false)).Items.SelectMany(l => l.Alerts), a => a.Id, typed, "alert", Lister);

    private static bool IsOfOneHost(AlertLine line) => line.Alerts.All(a => a.HostId == line.Alerts[0].HostId);

    private static string StateOf(AlertLine line, DateTimeOffset now) => line.Alerts[0] switch
    {
        { State: AlertState.Acknowledged, StateBy: { } by } => $"{by} is at it",
        { State: AlertState.Snoozed, SnoozedUntil: { } until } => $"quiet for {Units.Span(until - now)}",
        _ => Words.Of(line.State),
    };

    private static string Part(string name, string? value) => value is null ? "" : $"{name}={Uri.EscapeDataString(value)}";
}
