using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Jobs;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Health;

namespace Umbrek.Cli.Health;

/// <summary><c>umbrek reaction</c>: what runs by itself because of alerts.</summary>
public static class ReactionCommands
{
    private const string Lister = "umbrek reaction list";

    public static Command Reaction(ClientContext client)
    {
        var command = ClientCommands.Named("reaction", "Runbooks and scripts that run on a host when a check raises an alert there.", "umbrek reaction new 'Printers come back' --check service-failed --run 'Ready for the first ferry' --group 'Saltmarsh Ferry/Quay'");
        command.Add(List(client), Show(client), New(client), Change(client), Remove(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists what runs by itself because of alerts.", Lister);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), await AllAsync(api, cancel).ConfigureAwait(false), WireJson.Default.ListReactionInfo, "Nothing runs by itself. Have something do so: umbrek reaction new NAME --check CHECK --run RUNBOOK",
                new("Reaction", r => r.Name), new("When", r => r.CheckName, Machine: r => r.Check), new("For", r => r.Place ?? "everything"), new("Runs", Runs), new("By", r => r.Owner),
                new("Ran", r => $"{r.Ran}", Right: true), new("Last", r => r.LastAt is { } at ? Words.Ago(at, now) : "never", Machine: r => Words.Iso(r.LastAt)), new("State", r => r.Off ? "off" : r.LastProblem ?? "on"));
            return ExitCodes.Done;
        });
        return command;
    }

    private static string Runs(ReactionInfo reaction) =>
        $"{reaction.Script ?? "nothing: it was removed"}{(reaction.Number is { } number ? $"@{number}" : "")}{string.Concat(reaction.Values.Select(v => $" {v.Key}={v.Value}"))}";

    private static Command Show(ClientContext client)
    {
        var name = NameArgument(client);
        var command = ClientCommands.Named("show", "Shows a reaction, and how it went.", "umbrek reaction show 'Printers come back'");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Print(client, parsed, await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static void Print(ClientContext client, ParseResult parsed, ReactionInfo r)
    {
        var now = client.Time.GetUtcNow();
        Listing.PrintOne(client.Format(parsed), r, WireJson.Default.ReactionInfo,
            ("Reaction", $"{r.Name}{(r.Off ? ", switched off" : "")}"), ("When", $"{r.CheckName} ({r.Check}) is raised"), ("For", r.Place ?? "everything"), ("Runs", Runs(r)), ("By", $"{r.Owner}, with what he is granted{(r.UsesVault ? ", and the access key from the vault" : "")}"),
            ("After", r.WaitSeconds > 0 ? $"the alert has been open for {Units.Span(TimeSpan.FromSeconds(r.WaitSeconds))}" : "no time"), ("Again", $"on one host not within {Units.Span(TimeSpan.FromSeconds(r.SpacingSeconds))}"),
            ("Ran", r.LastAt is { } at ? $"{(r.Ran == 1 ? "once" : $"{r.Ran} times")}; last {Words.Ago(at, now)}{(r.LastProblem is { } problem ? $", and did not: {problem}" : "")}" : "never"));
    }

    private sealed class Said
    {
        private readonly Option<string?> check = new("--check") { Description = "The check whose alerts it is about, as 'umbrek check list' shows it.", HelpName = "check" };
        private readonly Option<string?> run = new("--run") { Description = "The runbook or script of the library; NAME@2 is its version 2, and the newest at the time without.", HelpName = "name" };
        private readonly Option<string?> host = new("--host") { Description = "For this host.", HelpName = "host" };
        private readonly Option<string?> group = new("--group") { Description = "For this group and below.", HelpName = "group" };
        private readonly Option<bool> everywhere = new("--everywhere") { Description = "For every host." };
        private readonly Option<string?> after = new("--after") { Description = "When the alert has been open for so long, for example 5min; at once when left out.", HelpName = "time" };
        private readonly Option<string?> apart = new("--apart") { Description = "How far apart two runs on one host are at least; an hour when left out.", HelpName = "time" };
        private readonly Option<bool?> vault = new("--from-vault") { Description = "Proves the access key from the vault where a host asks for it." };
        private readonly Option<bool> off = new("--off") { Description = "Switched off: nothing runs." };
        private readonly Option<bool> on = new("--on") { Description = "Switched on." };
        private readonly Argument<string[]> values = new("values") { Description = "Values of the parameters, as PARAMETER=VALUE.", Arity = ArgumentArity.ZeroOrMore };

        public IEnumerable<Symbol> All => [values, check, run, group, host, everywhere, after, apart, vault, off, on];

        /// <summary>What was said, over what is there already.</summary>
        public async Task<NewReaction> ReadAsync(ParseResult parsed, ApiClient api, string name, ReactionInfo? before, CancellationToken cancel)
        {
            var script = parsed.GetValue(run) is { } typed ? await LibraryCommands.FindAnyAsync(api, typed, cancel).ConfigureAwait(false) : (before?.ScriptId, before?.Number);
            var (groupId, hostId) = parsed.GetValue(host) is { } one ? ((Guid?)null, (Guid?)(await HostCommands.FindAsync(api, one, cancel).ConfigureAwait(false)).Id)
                : parsed.GetValue(group) is { } path ? ((await GroupCommands.FindAsync(api, path, cancel).ConfigureAwait(false)).Id, null)
                : parsed.GetValue(everywhere) ? (null, null)
                : before is not null ? (before.GroupId, before.HostId)
                : throw new ClientException("Say for which hosts: --group, --host or --everywhere.", ExitCodes.WrongUse);
            return new NewReaction(
                name,
                parsed.GetValue(check) ?? before?.Check ?? throw new ClientException("Say because of which check: --check. 'umbrek check list' shows all.", ExitCodes.WrongUse),
                script.Item1 ?? throw new ClientException("Say what runs: --run. 'umbrek runbook list' shows the runbooks.", ExitCodes.WrongUse),
                groupId, hostId, script.Item2,
                parsed.GetValue(values) is { Length: > 0 } given ? RunOptions.ReadVariables(given) : before?.Values,
                parsed.GetValue(after) is { } wait ? Typed.Span(wait).TotalSeconds : before?.WaitSeconds ?? 0,
                parsed.GetValue(apart) is { } spacing ? Typed.Span(spacing).TotalSeconds : before?.SpacingSeconds ?? 3600,
                parsed.GetValue(vault) ?? before?.UsesVault ?? false,
                parsed.GetValue(off) || (!parsed.GetValue(on) && before?.Off == true));
        }
    }

    private static Command New(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "What it is called." };
        var said = new Said();
        var command = ClientCommands.Named("new", "Has a runbook or a script run on a host when a check raises an alert there. It runs with what you are granted.", "umbrek reaction new 'Printers come back' --check service-failed --run 'Ready for the first ferry' --group 'Saltmarsh Ferry/Quay' --after 2min UNIT=ticket-print");
        command.Add([name, .. said.All]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var wish = await said.ReadAsync(parsed, api, parsed.GetRequiredValue(name), null, cancel).ConfigureAwait(false);
            var made = await api.PostAsync("reactions", wish, WireJson.Default.NewReaction, WireJson.Default.ReactionInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{made.Name}': '{made.Script}' runs {(made.Place is null ? "on every host" : $"on {made.Place}{(made.HostId is null ? " and below" : "")}")} when '{made.CheckName}' is raised from now on{(made.Off ? ", once it is switched on" : "")}.", made, WireJson.Default.ReactionInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Change(ClientContext client)
    {
        var name = NameArgument(client);
        var rename = new Option<string?>("--name") { Description = "Its new name.", HelpName = "name" };
        var said = new Said();
        var command = ClientCommands.Named("change", "Changes a reaction; from then on it runs with what you are granted.", "umbrek reaction change 'Printers come back' --off");
        command.Add([name, rename, .. said.All]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var before = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var wish = await said.ReadAsync(parsed, api, parsed.GetValue(rename) ?? before.Name, before, cancel).ConfigureAwait(false);
            var after = await api.PutAsync($"reactions/{before.Id}", wish, before.Version, WireJson.Default.NewReaction, WireJson.Default.ReactionInfo, cancel).ConfigureAwait(false);
            Print(client, parsed, after);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var name = NameArgument(client);
        var command = ClientCommands.Named("remove", "Removes a reaction; jobs that it made stay.", "umbrek reaction remove 'Printers come back'");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Delete, $"reactions/{found.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{found.Name}' is removed.", found, WireJson.Default.ReactionInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Argument<string> NameArgument(ClientContext client)
    {
        var argument = new Argument<string>("reaction") { Description = "The reaction.", HelpName = "reaction" };
        argument.CompletionSources.Add(_ => Offered.Ask(client, async (api, cancel) => (await AllAsync(api, cancel).ConfigureAwait(false)).Select(r => r.Name)));
        return argument;
    }

    private static async Task<IReadOnlyList<ReactionInfo>> AllAsync(ApiClient api, CancellationToken cancel) =>
        (await api.GetAsync("reactions", WireJson.Default.PageReactionInfo, cancel).ConfigureAwait(false)).Items;

    private static async Task<ReactionInfo> FindAsync(ApiClient api, string typed, CancellationToken cancel)
    {
        var all = await AllAsync(api, cancel).ConfigureAwait(false);
        return all.FirstOrDefault(r => r.Name.Equals(typed.Trim(), StringComparison.OrdinalIgnoreCase))
            ?? throw new ClientException($"There is no reaction '{TerminalText.Line(typed)}'.{(Similarity.Closest(typed, all.Select(r => r.Name)) is { } close ? $" Did you mean '{close}'?" : $" '{Lister}' shows all.")}", ExitCodes.NothingMatched);
    }
}
