using System.CommandLine;
using System.Text.Json;
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

/// <summary><c>umbrek check</c>: the rules that raise alerts.</summary>
public static class CheckCommands
{
    public static Command Check(ClientContext client)
    {
        var command = ClientCommands.Named("check", "Shows, tries and changes the rules that raise alerts.", "umbrek check try 'storage.used > 80 %' --hold 10min");
        command.Subcommands.Add(List(client));
        command.Subcommands.Add(Show(client));
        command.Subcommands.Add(Try(client));
        command.Subcommands.Add(New(client));
        command.Subcommands.Add(Change(client));
        command.Subcommands.Add(Set(client));
        command.Subcommands.Add(Remove(client));
        command.Subcommands.Add(ProbeCommands.Hosts(client));
        command.Subcommands.Add(ProbeCommands.Look(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists every check.", "umbrek check list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Listing.Print(client.Format(parsed), await AllAsync(api, cancel).ConfigureAwait(false), WireJson.Default.ListCheckInfo, "There are no checks.",
                new("Check", c => c.Key),
                new("Severity", c => Words.Of(c.Severity)),
                new("About", c => Words.Of(c.Subsystem)),
                new("When", c => Short(c.Looks ?? c.When), Machine: c => c.Looks ?? c.When),
                new("Until", c => c.Until ?? ""),
                new("Hold", c => Units.Span(TimeSpan.FromSeconds(c.HoldSeconds)), Right: true),
                new("For", c => c.Place ?? "everything"),
                new("Otherwise", c => c.Settings.Count == 0 ? "" : $"{c.Settings.Count} {(c.Settings.Count == 1 ? "place" : "places")}"),
                new("Alerts", c => c.Alerts == 0 ? "" : $"{c.Alerts}", Right: true, Machine: c => $"{c.Alerts}"));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var key = KeyArgument(client);
        var command = ClientCommands.Named("show", "Shows one check, and what places say of it otherwise.", "umbrek check show storage-high");
        command.Add(key);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Print(client, parsed, await FindAsync(api, parsed.GetRequiredValue(key), cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Try(ClientContext client)
    {
        var when = new Argument<string>("when") { Description = "The rule, as a selection: 'storage.used > 80 %'." };
        var until = UntilOption();
        var hold = HoldOption();
        var on = new Option<string?>("--on") { Description = "Only on hosts of this selection." };
        var past = new Option<string>("--for") { Description = "How far to look back, up to 30d.", DefaultValueFactory = _ => "48h" };
        var command = ClientCommands.Named("try", "Says which alerts a rule would have raised over the last days.", "umbrek check try 'processor > 80 %' --until 'processor < 60 %' --hold 15min");
        command.Add(when);
        command.Add(until, hold, on, past);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var hours = (int)Math.Ceiling(Typed.Span(parsed.GetRequiredValue(past)).TotalHours);
            var result = await api.PostAsync("checks/trial", new CheckTrial(parsed.GetRequiredValue(when), parsed.GetValue(until), Typed.Span(parsed.GetValue(hold) ?? "1min").TotalSeconds, parsed.GetValue(on), hours), WireJson.Default.CheckTrial, WireJson.Default.CheckTrialResult, cancel).ConfigureAwait(false);
            if (client.Format(parsed) == OutputFormat.Json)
            {
                Console.Out.WriteLine(JsonSerializer.Serialize(result, WireJson.Default.CheckTrialResult));
                return ExitCodes.Done;
            }
            if (client.Format(parsed) == OutputFormat.Table)
            {
                Console.Out.WriteLine($"It would have raised {Count(result.Alerts, "alert")} on {result.Hosts} of {Count(result.HostsLooked, "host")} since {Words.Iso(result.From)}.{(result.Note is null ? "" : " " + result.Note)}");
                if (result.Alerts == 0)
                {
                    return ExitCodes.Done;
                }
            }
            Listing.Print(client.Format(parsed), result.Times, WireJson.Default.ListTrialAlert, "",
                new("Host", t => t.Label),
                new("Group", t => t.GroupPath),
                new("From", t => Words.Iso(t.RaisedAt)),
                new("To", t => t.ClearedAt is { } at ? Words.Iso(at) : "now", Machine: t => Words.Iso(t.ClearedAt)));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command New(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "What people call it." };
        var when = new Option<string?>("--when") { Description = "When it is raised, as a selection; with a probe, limits to its figures: 'left < 14 d or took > 2 s'." };
        var probe = new ProbeOptions();
        var until = UntilOption();
        var hold = HoldOption();
        var severity = SeverityOption(required: true);
        var about = new Option<string>("--about") { Description = "What it is about: reachability, processor, memory, storage, services, updates, security or hardware.", Required = true };
        var group = new Option<string?>("--group") { Description = "The group that it is for, with everything below; everything when left out." };
        var follows = new Option<string?>("--follows") { Description = "What follows if nobody does anything." };
        var fix = new Option<string?>("--fix") { Description = "How it is put right." };
        var command = ClientCommands.Named("new", "Makes a check of your own. Try it first.", "umbrek check new 'Capture runs warm' --when 'temperature > 70' --hold 10min --severity warning --about hardware");
        command.Add(name);
        command.Add(when, until, hold, severity, about, group, follows, fix);
        probe.AddTo(command, act: true);
        command.SetAction(async (parsed, cancel) =>
        {
            var looks = probe.Read(parsed);
            if (looks is null && parsed.GetValue(when) is null)
            {
                throw new ClientException("Say when it is raised, with --when, or what the hosts' agents look at: --service, --program, --port, --web, --ping, --log, --script or --certificate.", ExitCodes.WrongUse);
            }
            using var api = client.State.Open();
            var made = await api.PostAsync(
                "checks",
                new NewCheck(
                    parsed.GetRequiredValue(name), Typed.Word(parsed.GetRequiredValue(about), WireJson.Default.Subsystem, "subsystem"), Typed.Word(parsed.GetRequiredValue(severity)!, WireJson.Default.Severity, "severity"),
                    parsed.GetValue(when) ?? "", parsed.GetValue(until), Typed.Span(parsed.GetValue(hold) ?? "1min").TotalSeconds, parsed.GetValue(follows), parsed.GetValue(fix),
                    parsed.GetValue(group) is { } path ? (await GroupCommands.FindAsync(api, path, cancel).ConfigureAwait(false)).Id : null,
                    looks),
                WireJson.Default.NewCheck, WireJson.Default.CheckInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{made.Name}' counts from now on, as {made.Key}.", made, WireJson.Default.CheckInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Change(ClientContext client)
    {
        var key = KeyArgument(client);
        var name = new Option<string?>("--name") { Description = "Another name." };
        var when = new Option<string?>("--when") { Description = "Another rule; with a probe, other limits, '' for none." };
        var probe = new ProbeOptions();
        var until = UntilOption();
        var hold = HoldOption();
        var severity = SeverityOption(required: false);
        var about = new Option<string?>("--about") { Description = "What it is about." };
        var group = new Option<string?>("--group") { Description = "Another group that it is for, with everything below; '' for everything." };
        var follows = new Option<string?>("--follows") { Description = "What follows if nobody does anything." };
        var fix = new Option<string?>("--fix") { Description = "How it is put right." };
        var command = ClientCommands.Named("change", "Changes a check of your own; what is left out stays.", "umbrek check change shop-certificate --when 'left < 21 d'");
        command.Add(key);
        command.Add(name, when, until, hold, severity, about, group, follows, fix);
        probe.AddTo(command, act: true);
        command.SetAction(async (parsed, cancel) =>
        {
            if (!parsed.CommandResult.Children.Any(c => c is System.CommandLine.Parsing.OptionResult { Implicit: false }))
            {
                throw new ClientException("Say what changes: --when, --hold, --severity, --group, what the agents look at, and so on.", ExitCodes.WrongUse);
            }
            var looks = probe.Read(parsed);
            using var api = client.State.Open();
            var check = await FindAsync(api, parsed.GetRequiredValue(key), cancel).ConfigureAwait(false);
            if (check.Id is not { } id)
            {
                throw new ClientException($"{check.Key} is built in. Have it otherwise in a place: umbrek check set {check.Key} --when …");
            }
            var place = parsed.GetValue(group) ?? check.Place;
            var changed = await api.PutAsync(
                $"checks/{id}",
                new NewCheck(
                    parsed.GetValue(name) ?? check.Name, parsed.GetValue(about) is { } word ? Typed.Word(word, WireJson.Default.Subsystem, "subsystem") : check.Subsystem,
                    parsed.GetValue(severity) is { } bad ? Typed.Word(bad, WireJson.Default.Severity, "severity") : check.Severity,
                    parsed.GetValue(when) ?? (looks is null || looks.Kind == check.Probe?.Kind ? check.When : ""), parsed.GetValue(until) ?? check.Until,
                    parsed.GetValue(hold) is { } span ? Typed.Span(span).TotalSeconds : check.HoldSeconds, parsed.GetValue(follows) ?? check.Follows, parsed.GetValue(fix) ?? check.Fix,
                    string.IsNullOrEmpty(place) ? null : (await GroupCommands.FindAsync(api, place, cancel).ConfigureAwait(false)).Id, looks ?? check.Probe),
                check.Version, WireJson.Default.NewCheck, WireJson.Default.CheckInfo, cancel).ConfigureAwait(false);
            Print(client, parsed, changed);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Set(ClientContext client)
    {
        var key = KeyArgument(client);
        var group = new Option<string?>("--group") { Description = "For this group, with everything below; for everything when neither is given." };
        var host = new Option<string?>("--host") { Description = "For this host." };
        var off = new Option<bool>("--off") { Description = "It does not count there." };
        var on = new Option<bool>("--on") { Description = "It counts there, whatever is said above." };
        var when = new Option<string?>("--when") { Description = "Another rule." };
        var until = UntilOption();
        var hold = HoldOption();
        var severity = SeverityOption(required: false);
        var note = new Option<string?>("--note") { Description = "Why it is otherwise there." };
        var inherit = new Option<bool>("--inherit") { Description = "Says nothing there any more: what is above counts again." };
        var command = ClientCommands.Named("set", "Says something of a check for one place: off or on, another rule, another severity.", "umbrek check set storage-high --group 'Brindle Moor Observatory/Data Room' --when 'storage.used > 95 %'");
        command.Add(key);
        command.Add(group, host, off, on, when, until, hold, severity, note, inherit);
        command.SetAction(async (parsed, cancel) =>
        {
            if (parsed.GetValue(off) && parsed.GetValue(on))
            {
                throw new ClientException("Say --off or --on, not both.", ExitCodes.WrongUse);
            }
            var says = parsed.GetValue(off) || parsed.GetValue(on) || parsed.GetValue(when) is not null || parsed.GetValue(hold) is not null || parsed.GetValue(severity) is not null;
            if (says == parsed.GetValue(inherit))
            {
                throw new ClientException(says ? "--inherit stands alone: it takes back what is said there." : "Say what is otherwise there: --off, --on, --when, --hold or --severity; or --inherit to take it back.", ExitCodes.WrongUse);
            }
            using var api = client.State.Open();
            var wish = new CheckWish(
                parsed.GetRequiredValue(key),
                parsed.GetValue(group) is { } path ? (await GroupCommands.FindAsync(api, path, cancel).ConfigureAwait(false)).Id : null,
                parsed.GetValue(host) is { } typed ? (await HostCommands.FindAsync(api, typed, cancel).ConfigureAwait(false)).Id : null,
                parsed.GetValue(off) ? true : parsed.GetValue(on) ? false : null,
                parsed.GetValue(severity) is { } word ? Typed.Word(word, WireJson.Default.Severity, "severity") : null,
                parsed.GetValue(when), parsed.GetValue(until), parsed.GetValue(hold) is { } span ? Typed.Span(span).TotalSeconds : null, parsed.GetValue(note));
            Print(client, parsed, await api.PostAsync("checks/settings", wish, WireJson.Default.CheckWish, WireJson.Default.CheckInfo, cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var key = KeyArgument(client);
        var command = ClientCommands.Named("remove", "Removes a check of your own; its alerts clear.", "umbrek check remove capture-runs-warm");
        command.Add(key);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var check = await FindAsync(api, parsed.GetRequiredValue(key), cancel).ConfigureAwait(false);
            if (check.Id is not { } id)
            {
                throw new ClientException($"{check.Key} is built in and can't be removed. Switch it off: umbrek check set {check.Key} --off");
            }
            await api.ActAsync(HttpMethod.Delete, $"checks/{id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{check.Name}' is gone.", check, WireJson.Default.CheckInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static void Print(ClientContext client, ParseResult parsed, CheckInfo c) => Listing.PrintOne(client.Format(parsed), c, WireJson.Default.CheckInfo,
        ("Check", c.Key),
        ("Name", c.Name),
        ("Severity", $"{Words.Of(c.Severity)}, about {Words.Of(c.Subsystem)}"),
        ("When", c.Looks ?? c.When),
        ("Looks", c.Probe is { } probe ? ProbeCommands.Pace(probe) : null),
        ("Helps", c.Probe is { Act: not ProbeAct.None } help ? (help.Act == ProbeAct.Restart ? "starts the service again" : "runs a script: " + help.ActScript) : null),
        ("Script", c.Probe is { Kind: ProbeKind.Script } script ? script.Text : null),
        ("Until", c.Until ?? "no longer so"),
        ("Hold", Units.Span(TimeSpan.FromSeconds(c.HoldSeconds))),
        ("For", c.Place ?? "everything"),
        ("Follows", c.Follows),
        ("Fix", c.Fix),
        ("Otherwise", c.Settings.Count == 0 ? null : string.Join('\n', c.Settings.Select(Say))),
        ("Alerts", $"{c.Alerts}"));

    private static string Say(CheckSetting s)
    {
        string?[] parts =
        [
            s.Off switch { true => "off", false => "on", _ => null }, s.When is { } when ? $"when {when}{(s.Until is { } until ? $" until {until}" : "")}" : null,
            s.HoldSeconds is { } hold ? $"hold {Units.Span(TimeSpan.FromSeconds(hold))}" : null, s.Severity is { } severity ? Words.Of(severity) : null,
        ];
        return $"{s.Place ?? "everything"}: {string.Join(", ", parts.OfType<string>())} ({s.ChangedBy}{(s.Note is null ? "" : $": {s.Note}")})";
    }

    internal static Argument<string> KeyArgument(ClientContext client)
    {
        var key = new Argument<string>("check") { Description = "The check, as the list names it." };
        key.CompletionSources.Add(_ => Offered.Ask(client, async (api, cancel) => (await AllAsync(api, cancel).ConfigureAwait(false)).Select(c => c.Key)));
        return key;
    }

    private static async Task<List<CheckInfo>> AllAsync(ApiClient api, CancellationToken cancel) =>
        [.. (await api.GetAsync("checks", WireJson.Default.PageCheckInfo, cancel).ConfigureAwait(false)).Items];

    internal static async Task<CheckInfo> FindAsync(ApiClient api, string key, CancellationToken cancel)
    {
        var all = await AllAsync(api, cancel).ConfigureAwait(false);
        return all.Find(c => c.Key.Equals(key, StringComparison.OrdinalIgnoreCase))
            ?? throw new ClientException($"There is no check '{key}'.{(Similarity.Closest(key, all.Select(c => c.Key)) is { } close ? $" Did you mean '{close}'?" : "")} 'umbrek check list' shows them.", ExitCodes.NothingMatched);
    }

    private static Option<string?> UntilOption() => new("--until") { Description = "What ends it, as a selection; by default that it is no longer so." };

    private static Option<string?> HoldOption() => new("--hold") { Description = "How long without a break before it is raised, and before it clears, for example 5min." };

    private static Option<string?> SeverityOption(bool required) => new("--severity") { Description = "How bad it is: information, warning or critical.", Required = required };

    private static string Short(string text) => text.Length > 60 ? text[..59] + "…" : text;

    internal static string Count(int n, string what) => $"{n} {what}{(n == 1 ? "" : "s")}";
}
