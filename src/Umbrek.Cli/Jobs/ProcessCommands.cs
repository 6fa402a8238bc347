using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>Processes of hosts: seen, ended, ranked, looked for on many.</summary>
public static class ProcessCommands
{
    public static Command Process(ClientContext client)
    {
        var command = ClientCommands.Named("process", "What runs on hosts: see it, end it, put it behind the rest, look who runs something.", "umbrek process list quay-ticket-03 --sort memory");
        command.Add(List(client), Watch(client), End(client), Niceness(client), Find(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var host = HostArgument();
        var view = new ProcessView();
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("list", "Lists the processes of a host; what each uses is measured over a second.", "umbrek process list quay-ticket-03 firefox\n  umbrek process list orrin-srv-01 --tree");
        command.Add([host, view.Words, .. view.Options, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            var reading = await ReadAsync(client, api, parsed, secrets, found, 2, cancel).ConfigureAwait(false);
            var shown = view.Of(parsed, reading);
            var depths = shown.ToDictionary(s => s.Process.Pid, s => s.Depth);
            Listing.Print(client.Format(parsed), shown.ConvertAll(s => s.Process), WireJson.Default.ListHostProcess, $"{found.Label} runs nothing of that.",
                new("Number", p => $"{p.Pid}", Right: true), new("User", p => p.User), new("Proc %", p => ProcessView.Percent(p.ProcessorPercent), Right: true),
                new("Memory", p => Units.Bytes(p.MemoryBytes), Right: true, Machine: p => $"{p.MemoryBytes}"), new("Used", p => ProcessView.Used(p.ProcessorSeconds), Right: true, Machine: p => $"{p.ProcessorSeconds}"),
                new("Nice", p => $"{p.Niceness}", Right: true), new("Started", p => Words.Ago(p.StartedAt, reading.At), Machine: p => Words.Iso(p.StartedAt)), new("Command line", p => ProcessView.CommandLine(p, depths[p.Pid]), Machine: p => p.CommandLine ?? p.Name));
            return shown.Count > 0 ? ExitCodes.Done : ExitCodes.NothingMatched;
        });
        return command;
    }

    private static Command Watch(ClientContext client)
    {
        var host = HostArgument();
        var view = new ProcessView();
        var every = new Option<double>("--every") { Description = "Seconds between two readings.", DefaultValueFactory = _ => ViewWish.Usual, HelpName = "seconds" };
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("watch", "Shows the processes of a host as they change, until Ctrl-C.", "umbrek process watch quay-ticket-03 --sort memory");
        command.Add([host, view.Words, every, .. view.Options, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            if (Console.IsOutputRedirected)
            {
                throw new ClientException("This is for a terminal; 'umbrek process list' writes a table, JSON or CSV.", ExitCodes.WrongUse);
            }
            var wish = new ViewWish(parsed.GetValue(every));
            if (wish.Check() is { } problem)
            {
                throw new ClientException(problem, ExitCodes.WrongUse);
            }
            using var leave = new Leaving(cancel);
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            // The other screen of the terminal, without a cursor; what stood there before comes back (xterm control sequences).
            Terminal.Draw("\e[?1049h\e[?25l");
            try
            {
                await foreach (var reading in HostLook.ProcessesAsync(client, api, parsed, secrets, found, wish, leave.Token).ConfigureAwait(false))
                {
                    var screen = ProcessView.Screen($"{found.Label} of {GroupPath.Customer(found.GroupPath)}", reading, view.Of(parsed, reading), Console.WindowWidth, Console.WindowHeight);
                    Terminal.Draw($"\e[H{TerminalText.Neutralise(screen).Replace("\n", "\e[K\n")}\e[J");
                }
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                // Seen enough.
            }
            finally
            {
                Terminal.Draw("\e[?25h\e[?1049l");
            }
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command End(ClientContext client)
    {
        var which = new ChoiceOptions(client);
        var kill = new Option<bool>("--kill") { Description = "Ends them without asking them to." };
        var grace = new Option<string?>("--grace") { Description = "How long they have to end by themselves; 10s when left out.", HelpName = "time" };
        return Act(client, which, "end", "Asks processes to end, or kills them.",
            "umbrek process end quay-ticket-03 1377\n  umbrek process end --on 'in \"Copperbeech Libraries\"' --program firefox-esr --kill", [kill, grace],
            (parsed, choice) => new HostAction { End = new EndProcesses(choice, parsed.GetValue(kill), HowOptions.Seconds(parsed.GetValue(grace)) ?? EndProcesses.UsualGrace) });
    }

    private static Command Niceness(ClientContext client)
    {
        var which = new ChoiceOptions(client);
        var niceness = new Option<int>("--niceness") { Description = "From -20, before everything else, to 19, behind it.", HelpName = "number", Required = true };
        return Act(client, which, "rank", "Puts processes before the rest or behind it.", "umbrek process rank orrin-srv-01 833 --niceness 10", [niceness],
            (parsed, choice) => new HostAction { Rank = new RankProcesses(choice, parsed.GetRequiredValue(niceness)) });
    }

    private static Command Act(ClientContext client, ChoiceOptions which, string name, string says, string example, Option[] more, Func<ParseResult, ProcessChoice, HostAction> action)
    {
        var yes = new Option<bool>("--yes") { Description = "Does not ask again." };
        var secrets = new HostSecretOptions();
        var follow = new FollowOptions();
        var command = ClientCommands.Named(name, says, example);
        command.Add([.. which.Arguments, .. more, .. which.Options, yes, .. follow.All, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var (selection, where, choice) = await which.ReadAsync(parsed, api, host => ReadAsync(client, api, parsed, secrets, host, 1, cancel), cancel).ConfigureAwait(false);
            var spec = new CommandSpec { Action = action(parsed, choice) };
            if (spec.Check() is { } problem)
            {
                throw new ClientException(problem, ExitCodes.WrongUse);
            }
            var doing = spec.Display();
            Prompt.Confirm($"{char.ToUpperInvariant(doing[0])}{doing[1..]} on {where}", parsed.GetValue(yes));
            return await RunCommand.SendAsync(client, parsed, api, new NewJob(selection, spec, follow.Expires(parsed)), spec, secrets, follow, cancel).ConfigureAwait(false);
        });
        return command;
    }

    private static Command Find(ClientContext client)
    {
        var text = new Argument<string>("text") { Description = "Words in name, user or command line of a process." };
        var on = SelectionArgument.Option(client, "--on");
        var secrets = new HostSecretOptions();
        var follow = new FollowOptions();
        var command = ClientCommands.Named("find", "Says which hosts run something; equal answers as one.", "umbrek process find smbd --on all");
        command.Add([text, on, .. follow.All, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var spec = new CommandSpec { Action = new HostAction { Find = new FindProcesses(parsed.GetRequiredValue(text)) } };
            return await RunCommand.SendAsync(client, parsed, api, new NewJob(parsed.GetRequiredValue(on), spec, follow.Expires(parsed)), spec, secrets, follow, cancel, folded: true).ConfigureAwait(false);
        });
        return command;
    }

    private static Argument<string> HostArgument() => new("host") { Description = "Label or system name of the host." };

    /// <summary>So many readings of a host; the last.</summary>
    private static async Task<ProcessReading> ReadAsync(ClientContext client, ApiClient api, ParseResult parsed, HostSecretOptions secrets, HostSummary host, int readings, CancellationToken cancel)
    {
        await foreach (var reading in HostLook.ProcessesAsync(client, api, parsed, secrets, host, new ViewWish(1), cancel).ConfigureAwait(false))
        {
            if (--readings == 0)
            {
                return reading;
            }
        }
        throw new ClientException($"{host.Label} shows no processes.");
    }

    /// <summary>Which processes, of one host by number, or of many by their program.</summary>
    private sealed class ChoiceOptions(ClientContext client)
    {
        private readonly Argument<string?> host = new("host") { Description = "The host; left out with --on.", Arity = ArgumentArity.ZeroOrOne };
        private readonly Argument<int[]> numbers = new("number") { Description = "The processes' numbers, as 'umbrek process list' shows them.", Arity = ArgumentArity.ZeroOrMore };
        private readonly Option<string?> on = Optional(client);
        private readonly Option<string?> program = new("--program") { Description = "All processes of this program, instead of numbers.", HelpName = "name" };
        private readonly Option<string?> user = new("--user") { Description = "With --program: only those of this user.", HelpName = "user" };

        public IEnumerable<Argument> Arguments => [host, numbers];

        public IEnumerable<Option> Options => [on, program, user];

        private static Option<string?> Optional(ClientContext client)
        {
            var option = new Option<string?>("--on") { Description = SelectionArgument.Says, HelpName = "selection" };
            option.CompletionSources.Add(context => SelectionArgument.Complete(client, context));
            return option;
        }

        /// <param name="read">Reads a host's processes, so that numbers name those that are meant and no later ones.</param>
        public async Task<(string Selection, string Where, ProcessChoice Choice)> ReadAsync(ParseResult parsed, ApiClient api, Func<HostSummary, Task<ProcessReading>> read, CancellationToken cancel)
        {
            var (name, many, typed) = (parsed.GetValue(host), parsed.GetValue(on), parsed.GetValue(numbers) ?? []);
            if ((name is null) == (many is null))
            {
                throw new ClientException("Name one host, or several with --on.", ExitCodes.WrongUse);
            }
            if (parsed.GetValue(program) is { } of ? typed.Length > 0 : typed.Length == 0)
            {
                throw new ClientException("Name processes by their numbers, or all of a program with --program.", ExitCodes.WrongUse);
            }
            if (many is not null)
            {
                var hosts = await HostCommands.SelectAsync(api, many, cancel).ConfigureAwait(false);
                return typed.Length == 0
                    ? (many, HostCommands.Where(hosts), new ProcessChoice(Program: parsed.GetValue(program), User: parsed.GetValue(user)))
                    : throw new ClientException("Numbers name processes of one host; on several hosts name the program with --program.", ExitCodes.WrongUse);
            }
            var found = await HostCommands.FindAsync(api, name!, cancel).ConfigureAwait(false);
            var (selection, where) = ($"{SelectionWords.Quote(found.Label)} and in {SelectionWords.Quote(found.GroupPath)}", $"{found.Label} of {GroupPath.Customer(found.GroupPath)}");
            if (typed.Length == 0)
            {
                return (selection, where, new ProcessChoice(Program: parsed.GetValue(program), User: parsed.GetValue(user)));
            }
            var reading = await read(found).ConfigureAwait(false);
            var marks = typed.Distinct().Select(n => reading.Processes.FirstOrDefault(p => p.Pid == n) is { } process ? new ProcessMark(n, process.Start, process.Name) : throw new ClientException($"{found.Label} runs no process {n}; nothing was done.", ExitCodes.NothingMatched));
            return (selection, where, new ProcessChoice([.. marks], reading.Boot));
        }
    }
}
