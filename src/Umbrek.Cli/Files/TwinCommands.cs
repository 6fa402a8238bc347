using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <summary>Keeps folders of two hosts, or of a host and the service, in step.</summary>
public static class TwinCommands
{
    private static readonly TimeSpan Between = TimeSpan.FromMilliseconds(400);

    public static Command Twin(ClientContext client)
    {
        var command = ClientCommands.Named("twin", "Two folders that are kept in step, one way or both ways: of two hosts, or of a host and a shelf.", "umbrek twin list");
        command.Add(Make(client), Turn(client), List(client), Show(client), Cancel(client), Remove(client));
        return command;
    }

    private static Command Make(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "What you call it." };
        var first = new Option<string>("--first") { Description = "A host and the whole path of a folder there, as HOST:PATH; or a shelf of the service, as shelf=NAME or shelf=NAME:PATH.", HelpName = "folder", Required = true };
        var second = new Option<string>("--second") { Description = "The other one. It is made if it is not there.", HelpName = "folder", Required = true };
        var both = new Option<bool>("--both-ways") { Description = "What was changed on either side goes to the other. Without it the second becomes what the first is." };
        var deletes = new Option<bool>("--take-away") { Description = "One way: what is not in the first goes to the trash on the second. Both ways that is always so." };
        var leave = new Option<string[]>("--leave") { Description = "Names that are left alone on both sides, such as '*.tmp'; with a slash, paths below the folders, such as 'cache/*'. May be repeated.", HelpName = "name", DefaultValueFactory = _ => [] };
        var rate = new Option<string?>("--rate") { Description = "At most so much in a second, to leave room on the line: 500KiB or 2MiB.", HelpName = "bytes" };
        var command = ClientCommands.Named("make", "Names two folders that are to be kept in step. Nothing is done with them before a turn.", "umbrek twin make recipes --first creamery-files:/srv/recipes --second creamery-office-03:/srv/recipes --take-away");
        command.Add([name, first, second, both, deletes, leave, rate]);
        command.SetAction(async (parsed, cancel) =>
        {
            if (parsed.GetValue(both) && parsed.GetValue(deletes))
            {
                throw new ClientException("Both ways, what is taken away on one side always goes on the other; leave out --take-away.", ExitCodes.WrongUse);
            }
            using var api = client.State.Open();
            var rules = new TwinRules(parsed.GetValue(both) ? TwinWay.BothWays : TwinWay.OneWay, parsed.GetValue(deletes), parsed.GetValue(leave) is { Length: > 0 } some ? some : null);
            var wish = new NewTwin(parsed.GetRequiredValue(name), await PlaceAsync(api, parsed.GetRequiredValue(first), cancel).ConfigureAwait(false), await PlaceAsync(api, parsed.GetRequiredValue(second), cancel).ConfigureAwait(false), rules, TransferOptions.ReadRate(parsed.GetValue(rate)));
            var twin = await api.PostAsync("twins", wish, WireJson.Default.NewTwin, WireJson.Default.TwinInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{TerminalText.Line(twin.Name)}' is {Way(twin.Rules)}: {Side(twin.First)} {Arrow(twin.Rules)} {Side(twin.Second)}. See what a turn would do: umbrek twin turn {ShellWords.Quote(TerminalText.Line(twin.Name))} --dry-run", twin, WireJson.Default.TwinInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Turn(ClientContext client)
    {
        var name = Name();
        var dry = new Option<bool>("--dry-run") { Description = "Only say what would be done." };
        var settle = new Option<string?>("--settle") { Description = "Whose version goes on where both sides have changed: first, second or newer. The other goes to the trash.", HelpName = "side" };
        settle.AcceptOnlyFromAmong("first", "second", "newer");
        var paths = new Option<string[]>("--only") { Description = "With --settle: of these alone, by their paths below the folders. May be repeated.", HelpName = "path", DefaultValueFactory = _ => [] };
        var empty = new Option<bool>("--though-empty") { Description = "Go on though a folder that held something holds nothing now." };
        var vault = new Option<bool>("--from-vault") { Description = "Where a host asks for its access key, the service proves it from the vault." };
        var later = new Option<bool>("--no-wait") { Description = "Begin the turn, and do not wait for its end." };
        var command = ClientCommands.Named("turn", "Looks at both folders and brings in step what is not. It goes on by itself when you leave.", "umbrek twin turn recipes --settle newer");
        command.Add([name, dry, settle, paths, empty, vault, later]);
        command.SetAction(async (parsed, cancel) =>
        {
            var only = parsed.GetValue(paths) is { Length: > 0 } some ? some.Select(p => new FileName(p.TrimEnd('/'))).ToList() : null;
            var choice = parsed.GetValue(settle) is { } word ? Enum.Parse<TwinChoice>(word, ignoreCase: true) : (TwinChoice?)null;
            if (only is not null && choice is null)
            {
                throw new ClientException("Say whose version goes on with --settle: first, second or newer.", ExitCodes.WrongUse);
            }
            using var api = client.State.Open();
            var twin = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var wish = new NewTurn(parsed.GetValue(dry), choice is { } by ? new TwinSettling(by, only) : null, parsed.GetValue(empty), parsed.GetValue(vault));
            twin = await api.PostAsync($"twins/{twin.Id}/turns", wish, WireJson.Default.NewTurn, WireJson.Default.TwinInfo, cancel).ConfigureAwait(false);
            if (parsed.GetValue(later))
            {
                Listing.Say(client.Format(parsed), $"A turn of '{TerminalText.Line(twin.Name)}' goes on. How far it is: umbrek twin show {ShellWords.Quote(TerminalText.Line(twin.Name))}", twin, WireJson.Default.TwinInfo);
                return ExitCodes.Done;
            }
            using var leaving = new Leaving(cancel);
            try
            {
                twin = await WaitAsync(api, twin, client.Time, leaving.Token).ConfigureAwait(false);
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                return Leaving.Say($"The turn goes on. Cancel it with: umbrek twin cancel {ShellWords.Quote(TerminalText.Line(twin.Name))}");
            }
            await PrintAsync(client, parsed, api, twin, cancel).ConfigureAwait(false);
            return twin.Turn is { State: TurnState.Done, Problems: 0, Conflicts: 0 } ? ExitCodes.Done : twin.Turn?.State == TurnState.Done ? ExitCodes.RunsFailed : ExitCodes.Failed;
        });
        return command;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists your twins, with what came of their last turns.", "umbrek twin list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), await api.GetAsync("twins", WireJson.Default.ListTwinInfo, cancel).ConfigureAwait(false), WireJson.Default.ListTwinInfo, "You have no twins. Make one: umbrek twin make NAME --first HOST:PATH --second HOST:PATH",
                new("Name", t => TerminalText.Line(t.Name)),
                new("First", t => Side(t.First)),
                new("Way", t => Arrow(t.Rules), Machine: t => Way(t.Rules)),
                new("Second", t => Side(t.Second)),
                new("Last turn", t => t.Turn is { } turn ? $"{State(turn)}, {Words.Ago(turn.EndedAt ?? turn.BeganAt, now)}" : "none yet", Machine: t => Words.Iso(t.Turn?.EndedAt)));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var name = Name();
        var command = ClientCommands.Named("show", "Shows one twin, and what its last turn did or would have done.", "umbrek twin show recipes");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            await PrintAsync(client, parsed, api, await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false), cancel).ConfigureAwait(false);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Cancel(ClientContext client)
    {
        var name = Name();
        var command = ClientCommands.Named("cancel", "Cancels the turn that goes on. What was done stays done.", "umbrek twin cancel recipes");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var twin = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Post, $"twins/{twin.Id}/cancel", cancel).ConfigureAwait(false);
            twin = await api.GetAsync($"twins/{twin.Id}", WireJson.Default.TwinInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The turn of '{TerminalText.Line(twin.Name)}': {State(twin.Turn!)}.", twin, WireJson.Default.TwinInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var name = Name();
        var command = ClientCommands.Named("remove", "Forgets a twin; both folders stay as they are.", "umbrek twin remove recipes");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var twin = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Delete, $"twins/{twin.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{TerminalText.Line(twin.Name)}' is kept in step no longer; both folders stay as they are.", twin, WireJson.Default.TwinInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Argument<string> Name() => new("name") { Description = "The twin's name." };

    private static async Task<TwinInfo> FindAsync(ApiClient api, string name, CancellationToken cancel)
    {
        var all = await api.GetAsync("twins", WireJson.Default.ListTwinInfo, cancel).ConfigureAwait(false);
        return all.Find(t => t.Name == name) ?? all.Find(t => string.Equals(t.Name, name, StringComparison.OrdinalIgnoreCase))
            ?? throw new ClientException($"You have no twin '{TerminalText.Line(name)}'. See yours: umbrek twin list");
    }

    private static async Task<TwinPlace> PlaceAsync(ApiClient api, string text, CancellationToken cancel)
    {
        const string shelf = "shelf=";
        var colon = text.IndexOf(':', StringComparison.Ordinal);
        if (text.StartsWith(shelf, StringComparison.Ordinal))
        {
            var (name, path) = colon < 0 ? (text[shelf.Length..], "/") : (text[shelf.Length..colon], text[(colon + 1)..]);
            return new TwinPlace(null, FileCommands.ReadPath(path), (await ShelfCommands.FindAsync(api, name, cancel).ConfigureAwait(false)).Id);
        }
        return colon > 0
            ? new TwinPlace((await HostCommands.FindAsync(api, text[..colon], cancel).ConfigureAwait(false)).Id, FileCommands.ReadPath(text[(colon + 1)..]))
            : throw new ClientException($"'{TerminalText.Line(text)}' names no folder; write HOST:PATH, such as creamery-files:/srv/recipes, or shelf=NAME.", ExitCodes.WrongUse);
    }

    private static async Task<TwinInfo> WaitAsync(ApiClient api, TwinInfo twin, TimeProvider time, CancellationToken cancel)
    {
        var shows = !Console.IsErrorRedirected;
        while (twin.Turn?.EndedAt is null)
        {
            if (shows)
            {
                Terminal.Progress(Progress(twin.Turn!));
            }
            await Task.Delay(Between, time, cancel).ConfigureAwait(false);
            try
            {
                twin = await api.GetAsync($"twins/{twin.Id}", WireJson.Default.TwinInfo, cancel).ConfigureAwait(false);
            }
            catch (UnreachableException) when (shows)
            {
                Terminal.Progress("The service is away; it is looked for.");
            }
        }
        if (shows)
        {
            Terminal.Progress("");
        }
        return twin;
    }

    private static string Progress(TurnInfo turn) => turn.State switch
    {
        TurnState.Waiting => $"waiting: {TerminalText.Line(turn.Reason ?? "")}",
        TurnState.Moving => $"{turn.ActsDone} of {turn.Acts} done, {Units.Bytes(turn.BytesDone)} of {Units.Bytes(turn.Bytes)}",
        _ => "looking at both folders",
    };

    private static async Task PrintAsync(ClientContext client, ParseResult parsed, ApiClient api, TwinInfo twin, CancellationToken cancel)
    {
        var acts = twin.Turn is null ? [] : (await api.GetAsync($"twins/{twin.Id}/acts", WireJson.Default.PageTurnAct, cancel).ConfigureAwait(false)).Items;
        var format = client.Format(parsed);
        if (format == OutputFormat.Json)
        {
            Listing.PrintOne(format, twin, WireJson.Default.TwinInfo);
            return;
        }
        if (format == OutputFormat.Table)
        {
            Listing.PrintOne(format, twin, WireJson.Default.TwinInfo,
                ("Twin", TerminalText.Line(twin.Name)), ("First", Side(twin.First)), ("Second", Side(twin.Second)), ("Way", Way(twin.Rules)), ("Left alone", twin.Rules.Leaves is { Count: > 0 } leaves ? string.Join(", ", leaves.Select(l => TerminalText.Line(l))) : null),
                ("Rate", twin.Rate is { } rate ? $"at most {Units.Bytes(rate)}/s" : null), ("Last turn", twin.Turn is { } turn ? State(turn) : "none yet"), ("Why", twin.Turn?.Reason is { } why ? TerminalText.Line(why) : null));
            if (acts.Count > 0)
            {
                Console.Out.WriteLine();
            }
        }
        if (acts.Count > 0 || format == OutputFormat.Csv)
        {
            Listing.Print(format, acts, WireJson.Default.ListTurnAct, "",
                new("What", a => What(a, twin.Turn!.DryRun), Machine: a => a.Deed.ToString().ToLowerInvariant()),
                new("Path", a => TerminalText.Line(a.Path.Text) + (a.Kind == FileKind.Folder ? "/" : ""), Machine: a => a.Path.Text),
                new("Size", a => a.Kind == FileKind.File && a.Deed is TwinDeed.File or TwinDeed.Conflict ? Units.Bytes(a.Bytes) : "", Right: true, Machine: a => $"{a.Bytes}"),
                new("On", a => a.Deed is TwinDeed.Conflict ? "both" : a.To == TwinSide.First ? "first" : "second"),
                new("Why", a => TerminalText.Line(a.Why ?? "")));
        }
    }

    private static string What(TurnAct act, bool dryRun) => act.Deed switch
    {
        TwinDeed.Conflict => "conflict",
        TwinDeed.Left => "left",
        _ when !act.IsDone && !dryRun => "not done",
        TwinDeed.Folder => "folder",
        TwinDeed.File => act.Replaces ? "changed" : "new",
        TwinDeed.Link => "link",
        TwinDeed.Delete => "to the trash",
        _ => "mode and time",
    };

    private static string Side(TwinFolder folder) =>
        (folder.ShelfId is null ? "" : "shelf=") + TerminalText.Line(folder.Label ?? $"{folder.HostId ?? folder.ShelfId}") + (folder.ShelfId is not null && folder.Path.Text == "/" ? "" : $":{TerminalText.Line(folder.Path.Text)}");

    private static string Arrow(TwinRules rules) => rules.Way == TwinWay.BothWays ? "↔" : "→";

    private static string Way(TwinRules rules) => rules.Way == TwinWay.BothWays ? "both ways" : rules.Deletes ? "one way, taking away what is not in the first" : "one way";

    /// <summary>"done: 3 things, 1.20 MiB (40.0 KiB moved), 120 in step, 1 conflict".</summary>
    private static string State(TurnInfo turn)
    {
        List<string> parts = [];
        void Say(long number, string one, string many)
        {
            if (number > 0)
            {
                parts.Add($"{number} {(number == 1 ? one : many)}");
            }
        }
        if (turn.DryRun)
        {
            Say(turn.Acts, "thing to do", "things to do");
        }
        else
        {
            Say(turn.ActsDone, "thing done", "things done");
        }
        if (turn.Bytes > 0)
        {
            parts.Add(turn.DryRun ? $"{Units.Bytes(turn.Bytes)} of files" : $"{Units.Bytes(turn.BytesDone)} of files by {Units.Bytes(turn.BytesMoved)} on the lines");
        }
        Say(turn.Same, "in step before", "in step before");
        Say(turn.Conflicts, "conflict", "conflicts");
        Say(turn.Problems, "problem", "problems");
        var word = turn.State.ToString().ToLowerInvariant() + (turn.DryRun ? " (dry run)" : "");
        return parts.Count == 0 ? word : $"{word}: {string.Join(", ", parts)}";
    }
}
