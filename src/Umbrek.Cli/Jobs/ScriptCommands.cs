using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>The library of scripts.</summary>
public static class ScriptCommands
{
    public static Command Script(ClientContext client)
    {
        var command = ClientCommands.Named("script", "Scripts that are kept: versions, parameters, who may use them.", "umbrek script run 'Restart a unit' --on 'quay-ticket-*' UNIT=ticket-print");
        command.Add(List(client), Show(client), Run(client), Save(client), Compare(client), Change(client), Remove(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var list = ClientCommands.Named("list", "Lists the scripts that are yours or shared with you.", "umbrek script list");
        list.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("scripts", WireJson.Default.PageScriptInfo, cancel).ConfigureAwait(false);
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListScriptInfo, "No script is kept yet. Keep one: umbrek script save 'Free space' --file free-space.sh",
                new("Script", s => s.Name), new("Version", s => $"{s.Latest}", Right: true), new("Parameters", s => string.Join(' ', s.Parameters.Select(p => p.Name))), new("Owner", s => s.Owner), new("For", Sharing),
                new("Jobs", s => $"{s.Jobs}", Right: true), new("Last used", s => s.LastUsedAt is { } at ? Words.Ago(at, now) : "never", Machine: s => s.LastUsedAt is { } at ? Words.Iso(at) : ""),
                new("Description", s => s.Description ?? ""));
            return ExitCodes.Done;
        });
        return list;
    }

    private static string Sharing(ScriptInfo script) =>
        script.Sharing.Count == 0 ? "owner" : string.Join(", ", script.Sharing.Select(s => $"{(s.TeamId is null ? "everybody" : s.Team)}{(s.MayChange ? " (may change)" : "")}"));

    private static Command Show(ClientContext client)
    {
        var name = NameArgument(client, "The script; NAME@2 is its version 2.");
        var text = new Option<bool>("--text") { Description = "Writes the text alone, as it is kept." };
        var command = ClientCommands.Named("show", "Shows a script: its parameters, its text, its versions.", "umbrek script show 'Restart a unit'\n  umbrek script show 'Restart a unit@1' --text > restart.sh");
        command.Add(name, text);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var (found, number) = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var detail = await ReadAsync(api, found, number, cancel).ConfigureAwait(false);
            if (parsed.GetValue(text))
            {
                await Console.Out.WriteAsync(detail.Shown.Command.Script).ConfigureAwait(false);
                return ExitCodes.Done;
            }
            if (client.Format(parsed) != OutputFormat.Table)
            {
                Listing.PrintOne(client.Format(parsed), detail, WireJson.Default.ScriptDetail, Lines(detail));
                return ExitCodes.Done;
            }
            Listing.PrintOne(OutputFormat.Table, detail, WireJson.Default.ScriptDetail, Lines(detail));
            Console.Out.WriteLine();
            foreach (var line in detail.Shown.Command.Script!.TrimEnd('\n').Split('\n'))
            {
                Console.Out.WriteLine($"  {TerminalText.Neutralise(line)}");
            }
            Console.Out.WriteLine();
            var now = client.Time.GetUtcNow();
            Listing.Print(OutputFormat.Table, detail.Versions, WireJson.Default.ListScriptVersionMark, "",
                new("Version", v => $"{v.Number}", Right: true), new("Lines", v => $"{v.Lines}", Right: true), new("Written", v => Words.Ago(v.CreatedAt, now)), new("By", v => v.CreatedBy), new("Note", v => v.Note ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    private static (string, string?)[] Lines(ScriptDetail detail) =>
    [
        ("Script", $"{detail.Script.Name}, version {detail.Shown.Number}{(detail.Shown.Number == detail.Script.Latest ? "" : $" of {detail.Script.Latest}")}"),
        ("Description", detail.Script.Description),
        ("Owner", detail.Script.Owner), ("For", Sharing(detail.Script)),
        ("Parameters", detail.Shown.Parameters.Count == 0 ? null : string.Join('\n', detail.Shown.Parameters.Select(ParameterText.Write))),
        ("How", JobCommands.How(detail.Shown.Command, null)),
    ];

    private static Command Run(ClientContext client)
    {
        var name = NameArgument(client, "The script; NAME@2 is its version 2.");
        var values = new Argument<string[]>("values") { Description = "Values of its parameters, as PARAMETER=VALUE.", Arity = ArgumentArity.ZeroOrMore };
        var on = SelectionArgument.Option(client, "--on");
        var how = new HowOptions();
        var pace = new PaceOptions();
        var follow = new FollowOptions();
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("run", "Runs a script of the library on hosts and shows what they answer.", "umbrek script run 'Restart a unit' --on 'quay-ticket-*' UNIT=ticket-print --one-per-group");
        command.Add([name, values, on, .. how.All, .. pace.All, .. follow.All, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var given = RunOptions.ReadVariables(parsed.GetValue(values) ?? []);
            using var api = client.State.Open();
            var (found, number) = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var use = new ScriptUse(found.Id, number ?? found.Latest, given);
            var filled = await api.PostAsync("scripts/fill", use, WireJson.Default.ScriptUse, WireJson.Default.FilledScript, cancel).ConfigureAwait(false);
            var spec = await how.ApplyAsync(parsed, filled.Command, cancel).ConfigureAwait(false);
            var wish = new NewJob(parsed.GetRequiredValue(on), spec, follow.Expires(parsed), Pace: pace.Read(parsed), Script: use);
            return await RunCommand.SendAsync(client, parsed, api, wish, spec, secrets, follow, cancel).ConfigureAwait(false);
        });
        return command;
    }

    private static Command Save(ClientContext client)
    {
        var name = NameArgument(client, "What it is called; a script of that name gets its next version.");
        var file = new Option<string?>("--file") { Description = "The script's text; - reads it from standard input.", HelpName = "file" };
        var job = new Option<string?>("--job") { Description = "Keeps what this job ran; its variables become parameters.", HelpName = "id" };
        var shell = new Option<string?>("--shell") { Description = "Program that reads it, when its first line names none.", HelpName = "program" };
        var parameters = new Option<string[]>("--parameter") { Description = "A parameter, as 'DAYS: whole 1..90 = 14 -- how old'; as often as needed. Kinds: text, whole, number, yes-no, choice, path, day. NAME? may stay without a value.", HelpName = "line", AllowMultipleArgumentsPerToken = false };
        var describe = new Option<string?>("--describe") { Description = "What it is for.", HelpName = "text" };
        var note = new Option<string?>("--note") { Description = "What is new in this version.", HelpName = "text" };
        var afresh = new Option<bool>("--afresh") { Description = "Takes neither parameters nor ways to run over from the version before." };
        var how = new HowOptions();
        var command = ClientCommands.Named("save", "Keeps a script, or the next version of one.",
            "umbrek script save 'Old tickets' --file old-tickets.sh --parameter 'DAYS: whole 1..90 = 14 -- how old'\n  umbrek script save 'Free space' --job 8fda0d97");
        command.Add([name, file, job, shell, parameters, describe, note, afresh, .. how.All]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var called = parsed.GetRequiredValue(name).Trim();
            var known = (await AllAsync(api, cancel).ConfigureAwait(false)).FirstOrDefault(s => IsCalled(s, called));
            var before = known is null ? null : (await ReadAsync(api, known, null, cancel).ConfigureAwait(false)).Shown;
            var taken = parsed.GetValue(afresh) ? null : before;
            var typed = (parsed.GetValue(parameters) ?? []).Select(p => ParameterText.Read(p, out var problem) ?? throw new ClientException(problem, ExitCodes.WrongUse)).ToList();
            CommandSpec spec;
            if (parsed.GetValue(job) is { } id)
            {
                var ran = (await JobCommands.FindAsync(api, id, cancel).ConfigureAwait(false)).Command;
                // What was said for that one job is what can be said for the next.
                typed.InsertRange(0, (ran.Environment ?? new Dictionary<string, string>()).Where(e => !typed.Exists(t => t.Name == e.Key)).Select(e => new ScriptParameter(e.Key, Default: e.Value)));
                spec = ran with { Environment = null };
            }
            else
            {
                var text = parsed.GetValue(file) is { } from ? await RunOptions.ReadScriptAsync(from, cancel).ConfigureAwait(false) : before?.Command.Script;
                spec = (taken?.Command ?? new CommandSpec()) with { Script = text ?? throw new ClientException("Give the script's text with --file, or a job with --job.", ExitCodes.WrongUse) };
            }
            spec = await how.ApplyAsync(parsed, parsed.GetValue(shell) is { } reader ? spec with { Shell = reader } : spec, cancel).ConfigureAwait(false);
            var wanted = typed.Count > 0 ? typed : taken?.Parameters ?? [];
            ScriptDetail kept;
            if (known is null)
            {
                kept = await api.PostAsync("scripts", new NewScript(called, spec, parsed.GetValue(describe), wanted, null, parsed.GetValue(note)), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, cancel).ConfigureAwait(false);
            }
            else
            {
                kept = await api.PostAsync($"scripts/{known.Id}/versions", new NewScriptVersion(spec, wanted, parsed.GetValue(note)), known.Version, WireJson.Default.NewScriptVersion, WireJson.Default.ScriptDetail, cancel).ConfigureAwait(false);
                if (parsed.GetValue(describe) is { } words)
                {
                    await api.PutAsync($"scripts/{known.Id}", new ScriptChange(Description: words), kept.Script.Version, WireJson.Default.ScriptChange, WireJson.Default.ScriptInfo, cancel).ConfigureAwait(false);
                }
            }
            Listing.Say(client.Format(parsed), $"Kept '{kept.Script.Name}', version {kept.Shown.Number}, for {(kept.Script.Sharing.Count == 0 ? "its owner alone" : Sharing(kept.Script))}. Run it: umbrek script run '{kept.Script.Name}' --on HOSTS{string.Concat(wanted.Where(p => p is { Optional: false, Default: null }).Select(p => $" {p.Name}=…"))}", kept, WireJson.Default.ScriptDetail);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Compare(ClientContext client)
    {
        var name = NameArgument(client, "The script.");
        var from = new Argument<int>("from") { Description = "A version's number." };
        var to = new Argument<int?>("to") { Description = "The version to compare it with; the newest when left out.", Arity = ArgumentArity.ZeroOrOne };
        var all = new Option<bool>("--whole") { Description = "Shows the lines that both have as well." };
        var command = ClientCommands.Named("compare", "Compares two versions of a script line by line.", "umbrek script compare 'Restart a unit' 1 2");
        command.Add(name, from, to, all);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var (found, _) = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var other = parsed.GetValue(to) is { } number ? $"&to={number}" : "";
            var comparison = await api.GetAsync($"scripts/{found.Id}/comparison?from={parsed.GetRequiredValue(from)}{other}", WireJson.Default.ScriptComparison, cancel).ConfigureAwait(false);
            if (client.Format(parsed) == OutputFormat.Json)
            {
                Listing.PrintOne(OutputFormat.Json, comparison, WireJson.Default.ScriptComparison);
                return ExitCodes.Done;
            }
            Console.Out.WriteLine($"< version {comparison.First.Number}, {Words.Iso(comparison.First.CreatedAt)} by {comparison.First.CreatedBy}");
            Console.Out.WriteLine($"> version {comparison.Second.Number}, {Words.Iso(comparison.Second.CreatedAt)} by {comparison.Second.CreatedBy}{(comparison.Second.Note is { } note ? $": {TerminalText.Line(note)}" : "")}");
            if (comparison.Settings.Any(l => l.Kind != DifferenceKind.Same))
            {
                Console.Out.WriteLine("parameters and how it runs:");
                AnswerCommands.PrintLines(comparison.Settings, parsed.GetValue(all));
                Console.Out.WriteLine("text:");
            }
            AnswerCommands.PrintLines(comparison.Text, parsed.GetValue(all));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Change(ClientContext client)
    {
        var name = NameArgument(client, "The script.");
        var rename = new Option<string?>("--name") { Description = "Its new name.", HelpName = "name" };
        var describe = new Option<string?>("--describe") { Description = "What it is for; '' takes it away.", HelpName = "text" };
        var owner = new Option<string?>("--owner") { Description = "The technician who is to have it.", HelpName = "technician" };
        var share = new Option<string[]>("--share") { Description = "A team that may use it, or everybody; as often as needed. Replaces who it was shared with.", HelpName = "team" };
        var editors = new Option<string[]>("--editors") { Description = "A team that may use it and write new versions, or everybody.", HelpName = "team" };
        var alone = new Option<bool>("--unshare") { Description = "Only its owner has it." };
        var command = ClientCommands.Named("change", "Renames, describes, shares or hands over a script.", "umbrek script change 'Restart a unit' --share Coast");
        command.Add(name, rename, describe, owner, share, editors, alone);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var (found, _) = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            List<ScriptShare>? sharing = parsed.GetValue(alone) ? [] : null;
            foreach (var (team, mayChange) in (parsed.GetValue(share) ?? []).Select(t => (t, false)).Concat((parsed.GetValue(editors) ?? []).Select(t => (t, true))))
            {
                var id = team.Equals("everybody", StringComparison.OrdinalIgnoreCase) ? (Guid?)null : (await TeamCommands.FindAsync(api, team, cancel).ConfigureAwait(false)).Id;
                (sharing ??= []).Add(new ScriptShare(id, null, mayChange));
            }
            var change = new ScriptChange(parsed.GetValue(rename), parsed.GetValue(describe), sharing, parsed.GetValue(owner) is { } who ? (await TechnicianCommands.FindAsync(api, who, cancel).ConfigureAwait(false)).Id : null);
            if (change == new ScriptChange())
            {
                throw new ClientException("Say what to change: --name, --describe, --owner, --share, --editors or --unshare.", ExitCodes.WrongUse);
            }
            var changed = await api.PutAsync($"scripts/{found.Id}", change, found.Version, WireJson.Default.ScriptChange, WireJson.Default.ScriptInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{changed.Name}' is {changed.Owner}'s, for {Sharing(changed)}.", changed, WireJson.Default.ScriptInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var name = NameArgument(client, "The script.");
        var command = ClientCommands.Named("remove", "Removes a script with all its versions; jobs keep what they ran.", "umbrek script remove 'Old tickets'");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var (found, _) = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Delete, $"scripts/{found.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{found.Name}' is removed with {(found.Latest == 1 ? "its one version" : $"its {found.Latest} versions")}.", found, WireJson.Default.ScriptInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Argument<string> NameArgument(ClientContext client, string says)
    {
        var argument = new Argument<string>("script") { Description = says, HelpName = "script" };
        argument.CompletionSources.Add(_ => Offered.Ask(client, async (api, cancel) => (await AllAsync(api, cancel).ConfigureAwait(false)).Select(s => s.Name)));
        return argument;
    }

    private static async Task<IReadOnlyList<ScriptInfo>> AllAsync(ApiClient api, CancellationToken cancel) =>
        (await api.GetAsync("scripts", WireJson.Default.PageScriptInfo, cancel).ConfigureAwait(false)).Items;

    private static Task<ScriptDetail> ReadAsync(ApiClient api, ScriptInfo script, int? number, CancellationToken cancel) =>
        api.GetAsync($"scripts/{script.Id}{(number is { } n ? $"?number={n}" : "")}", WireJson.Default.ScriptDetail, cancel);

    private static bool IsCalled(ScriptInfo script, string name) => string.Equals(script.Name, name, StringComparison.OrdinalIgnoreCase);

    /// <summary>The script of a name, and the version that stands behind an @.</summary>
    private static async Task<(ScriptInfo Script, int? Number)> FindAsync(ApiClient api, string typed, CancellationToken cancel)
    {
        var at = typed.LastIndexOf('@');
        int? number = null;
        if (at >= 0)
        {
            number = int.TryParse(typed.AsSpan(at + 1), out var n) ? n : throw new ClientException($"'{typed[(at + 1)..]}' is no version; write a number behind the @.", ExitCodes.WrongUse);
        }
        var name = (at < 0 ? typed : typed[..at]).Trim();
        var all = await AllAsync(api, cancel).ConfigureAwait(false);
        var found = all.FirstOrDefault(s => IsCalled(s, name))
            ?? throw new ClientException($"No script that you may use is called '{TerminalText.Line(name)}'.{(Similarity.Closest(name, all.Select(s => s.Name)) is { } close ? $" Did you mean '{close}'?" : " 'umbrek script list' shows all.")}", ExitCodes.NothingMatched);
        return (found, number);
    }
}
