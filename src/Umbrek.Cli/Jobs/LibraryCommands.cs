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

/// <summary>What scripts and runbooks of the library have in common.</summary>
/// <param name="word">What one is called, and the command group.</param>
/// <param name="inSteps">Whether it has steps: a runbook.</param>
/// <param name="example">The name of one, for examples.</param>
/// <param name="nothingYet">What is said where there is none.</param>
internal sealed class LibraryCommands(string word, bool inSteps, string example, string nothingYet)
{
    private string Title => char.ToUpperInvariant(word[0]) + word[1..];

    private bool IsOne(ScriptInfo kept) => kept.Steps is not null == inSteps;

    public Command List(ClientContext client)
    {
        var list = ClientCommands.Named("list", $"Lists the {word}s that are yours or shared with you.", $"umbrek {word} list");
        list.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var all = await AllAsync(api, cancel).ConfigureAwait(false);
            var now = client.Time.GetUtcNow();
            List<Column<ScriptInfo>> columns =
            [
                new(Title, s => s.Name), new("Version", s => $"{s.Latest}", Right: true), new("Parameters", s => string.Join(' ', s.Parameters.Select(p => p.Name))), new("Owner", s => s.Owner), new("For", Sharing),
                new("Jobs", s => $"{s.Jobs}", Right: true), new("Last used", s => s.LastUsedAt is { } at ? Words.Ago(at, now) : "never", Machine: s => s.LastUsedAt is { } at ? Words.Iso(at) : ""),
                new("Description", s => s.Description ?? ""),
            ];
            if (inSteps)
            {
                columns.Insert(2, new("Steps", s => $"{s.Steps}", Right: true));
            }
            Listing.Print(client.Format(parsed), all, WireJson.Default.ListScriptInfo, nothingYet, [.. columns]);
            return ExitCodes.Done;
        });
        return list;
    }

    internal static string Sharing(ScriptInfo script) =>
        script.Sharing.Count == 0 ? "owner" : string.Join(", ", script.Sharing.Select(s => $"{(s.TeamId is null ? "everybody" : s.Team)}{(s.MayChange ? " (may change)" : "")}"));

    public Command Show(ClientContext client)
    {
        var name = NameArgument(client, $"The {word}; NAME@2 is its version 2.");
        var text = new Option<bool>("--text") { Description = inSteps ? "Writes it as a document alone, to be changed and kept again." : "Writes the text alone, as it is kept." };
        var command = ClientCommands.Named("show", $"Shows a {word}: its parameters, its {(inSteps ? "steps" : "text")}, its versions.", $"umbrek {word} show '{example}'\n  umbrek {word} show '{example}@1' --text > {(inSteps ? "restart.md" : "restart.sh")}");
        command.Add(name, text);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var (found, number) = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var detail = await ReadAsync(api, found, number, cancel).ConfigureAwait(false);
            if (parsed.GetValue(text))
            {
                await Terminal.Data.WriteAsync(inSteps ? RunbookText.Write(new RunbookDocument(detail.Script.Name, detail.Script.Description, detail.Shown.Parameters, detail.Shown.Command)) : detail.Shown.Command.Script).ConfigureAwait(false);
                return ExitCodes.Done;
            }
            if (client.Format(parsed) != OutputFormat.Table)
            {
                Listing.PrintOne(client.Format(parsed), detail, WireJson.Default.ScriptDetail, Lines(detail));
                return ExitCodes.Done;
            }
            Listing.PrintOne(OutputFormat.Table, detail, WireJson.Default.ScriptDetail, Lines(detail));
            Console.Out.WriteLine();
            foreach (var line in ScriptText.Body(detail.Shown.Command).Trim('\n').Split('\n'))
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

    private (string, string?)[] Lines(ScriptDetail detail) =>
    [
        (Title, $"{detail.Script.Name}, version {detail.Shown.Number}{(detail.Shown.Number == detail.Script.Latest ? "" : $" of {detail.Script.Latest}")}"),
        ("Description", detail.Script.Description),
        ("Owner", detail.Script.Owner), ("For", Sharing(detail.Script)),
        ("Parameters", detail.Shown.Parameters.Count == 0 ? null : string.Join('\n', detail.Shown.Parameters.Select(ParameterText.Write))),
        ("How", JobCommands.How(detail.Shown.Command, null)),
    ];

    public Command Run(ClientContext client)
    {
        var name = NameArgument(client, $"The {word}; NAME@2 is its version 2.");
        var values = new Argument<string[]>("values") { Description = "Values of its parameters, as PARAMETER=VALUE.", Arity = ArgumentArity.ZeroOrMore };
        var on = SelectionArgument.Option(client, "--on");
        var how = new HowOptions();
        var pace = new PaceOptions();
        var follow = new FollowOptions();
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("run", $"Runs a {word} of the library on hosts and shows what they answer.", $"umbrek {word} run '{example}' --on 'quay-ticket-*' UNIT=ticket-print --one-per-group");
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

    public Command Compare(ClientContext client)
    {
        var name = NameArgument(client, $"The {word}.");
        var from = new Argument<int>("from") { Description = "A version's number." };
        var to = new Argument<int?>("to") { Description = "The version to compare it with; the newest when left out.", Arity = ArgumentArity.ZeroOrOne };
        var all = new Option<bool>("--whole") { Description = "Shows the lines that both have as well." };
        var command = ClientCommands.Named("compare", $"Compares two versions of a {word} line by line.", $"umbrek {word} compare '{example}' 1 2");
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

    public Command Change(ClientContext client)
    {
        var name = NameArgument(client, $"The {word}.");
        var rename = new Option<string?>("--name") { Description = "Its new name.", HelpName = "name" };
        var describe = new Option<string?>("--describe") { Description = "What it is for; '' takes it away.", HelpName = "text" };
        var owner = new Option<string?>("--owner") { Description = "The technician who is to have it.", HelpName = "technician" };
        var share = new Option<string[]>("--share") { Description = "A team that may use it, or everybody; as often as needed. Replaces who it was shared with.", HelpName = "team" };
        var editors = new Option<string[]>("--editors") { Description = "A team that may use it and write new versions, or everybody.", HelpName = "team" };
        var alone = new Option<bool>("--unshare") { Description = "Only its owner has it." };
        var command = ClientCommands.Named("change", $"Renames, describes, shares or hands over a {word}.", $"umbrek {word} change '{example}' --share Coast");
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

    public Command Remove(ClientContext client)
    {
        var name = NameArgument(client, $"The {word}.");
        var command = ClientCommands.Named("remove", $"Removes a {word} with all its versions; jobs keep what they ran.", $"umbrek {word} remove '{example}'");
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

    internal Argument<string> NameArgument(ClientContext client, string says)
    {
        var argument = new Argument<string>(word) { Description = says, HelpName = word };
        argument.CompletionSources.Add(_ => Offered.Ask(client, async (api, cancel) => (await AllAsync(api, cancel).ConfigureAwait(false)).Select(s => s.Name)));
        return argument;
    }

    internal async Task<List<ScriptInfo>> AllAsync(ApiClient api, CancellationToken cancel) =>
        [.. (await api.GetAsync("scripts", WireJson.Default.PageScriptInfo, cancel).ConfigureAwait(false)).Items.Where(IsOne)];

    internal static Task<ScriptDetail> ReadAsync(ApiClient api, ScriptInfo script, int? number, CancellationToken cancel) =>
        api.GetAsync($"scripts/{script.Id}{(number is { } n ? $"?number={n}" : "")}", WireJson.Default.ScriptDetail, cancel);

    internal static bool IsCalled(ScriptInfo script, string name) => string.Equals(script.Name, name, StringComparison.OrdinalIgnoreCase);

    /// <summary>What has a name, and the version that stands behind an @.</summary>
    internal async Task<(ScriptInfo Script, int? Number)> FindAsync(ApiClient api, string typed, CancellationToken cancel)
    {
        var (name, number) = ReadName(typed);
        var library = (await api.GetAsync("scripts", WireJson.Default.PageScriptInfo, cancel).ConfigureAwait(false)).Items;
        if (library.FirstOrDefault(s => IsCalled(s, name)) is not { } found)
        {
            throw new ClientException($"No {word} that you may use is called '{TerminalText.Line(name)}'.{(Similarity.Closest(name, library.Where(IsOne).Select(s => s.Name)) is { } close ? $" Did you mean '{close}'?" : $" 'umbrek {word} list' shows all.")}", ExitCodes.NothingMatched);
        }
        return IsOne(found) ? (found, number) : throw new ClientException($"'{found.Name}' is a {(inSteps ? "script" : "runbook")}, not a {word}: umbrek {(inSteps ? "script" : "runbook")} show '{found.Name}'", ExitCodes.NothingMatched);
    }

    /// <summary>A runbook or a script of a name, and the version that stands behind an @.</summary>
    internal static async Task<(Guid? Id, int? Number)> FindAnyAsync(ApiClient api, string typed, CancellationToken cancel)
    {
        var (name, number) = ReadName(typed);
        var library = (await api.GetAsync("scripts", WireJson.Default.PageScriptInfo, cancel).ConfigureAwait(false)).Items;
        return (library.FirstOrDefault(s => IsCalled(s, name))?.Id
            ?? throw new ClientException($"No runbook and no script that you may use is called '{TerminalText.Line(name)}'.{(Similarity.Closest(name, library.Select(s => s.Name)) is { } close ? $" Did you mean '{close}'?" : " 'umbrek runbook list' shows the runbooks.")}", ExitCodes.NothingMatched), number);
    }

    private static (string Name, int? Number) ReadName(string typed)
    {
        var at = typed.LastIndexOf('@');
        return at < 0 ? (typed.Trim(), null)
            : int.TryParse(typed.AsSpan(at + 1), out var number) ? (typed[..at].Trim(), number)
            : throw new ClientException($"'{typed[(at + 1)..]}' is no version; write a number behind the @.", ExitCodes.WrongUse);
    }
}
