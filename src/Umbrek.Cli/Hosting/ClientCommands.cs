using System.CommandLine;
using System.CommandLine.Help;
using System.CommandLine.Invocation;
using Umbrek.Cli.Access;
using Umbrek.Cli.Audit;
using Umbrek.Cli.Desktop;
using Umbrek.Cli.Enrolment;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Files;
using Umbrek.Cli.Health;
using Umbrek.Cli.Jobs;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Cli.Shell;
using Umbrek.Wire.Api;

namespace Umbrek.Cli.Hosting;

/// <summary>The client's command line.</summary>
public static class ClientCommands
{
    public static async Task<int> RunAsync(string[] args, CancellationToken cancel)
    {
        if (args is [var first, var line] && first.StartsWith("[suggest:", StringComparison.Ordinal) && int.TryParse(first.AsSpan(9).TrimEnd(']'), out var point))
        {
            return Suggest(line.AsSpan(0, Math.Clamp(point, 0, line.Length)));
        }
        var parsed = Build(out _).Parse(args);
        try
        {
            var code = await parsed.InvokeAsync(new InvocationConfiguration { EnableDefaultExceptionHandler = false, ProcessTerminationTimeout = null }, cancel).ConfigureAwait(false);
            return code != ExitCodes.Done && parsed.Errors.Count > 0 ? ExitCodes.WrongUse : code;
        }
        catch (ClientException e)
        {
            return Complain(e.Message, e.ExitCode);
        }
        catch (ApiException e)
        {
            return Complain(e.Message, e.Problem.Word switch
            {
                ProblemTypes.NotSignedIn => ExitCodes.NotSignedIn,
                ProblemTypes.SelectionEmpty => ExitCodes.NothingMatched,
                ProblemTypes.SelectionUnreadable => ExitCodes.WrongUse,
                _ => ExitCodes.Failed,
            });
        }
        catch (Exception e) when (e is Wire.Sessions.DoorException or Wire.Api.UnreachableException or IOException or UnauthorizedAccessException)
        {
            return Complain(e.Message, ExitCodes.Failed);
        }
    }

    /// <summary>Prints how the word that is being typed can go on: whole words, as they are without the shell's quotation marks.</summary>
    private static int Suggest(ReadOnlySpan<char> line)
    {
        var words = ShellWords.Split(line);
        var root = Build(out var client);
        client.Completing = words[^1];
        // What stands before is parsed without the word itself: a selection of several words must not be taken apart.
        // An empty word in its place is asked about as an argument; after an option the option itself is asked.
        string[] before = [.. words.Skip(1).SkipLast(1)];
        var parsed = root.Parse(before is [.., ['-', ..]] ? before : [.. before, ""]);
        foreach (var item in parsed.GetCompletions())
        {
            if (item.SortText == SelectionArgument.Whole || item.Label.StartsWith(words[^1], StringComparison.OrdinalIgnoreCase))
            {
                Console.Out.WriteLine(item.Label);
            }
        }
        return ExitCodes.Done;
    }

    private static RootCommand Build(out ClientContext client)
    {
        var output = new Option<string>("--output")
        {
            Description = "table for people, json or csv for machines",
            DefaultValueFactory = _ => "table",
            Recursive = true,
        };
        output.AcceptOnlyFromAmong("table", "json", "csv");
        client = new ClientContext(new ClientState(), output, TimeProvider.System);

        var root = new RootCommand("Looks after many computers from the terminal.");
        root.Options.Add(output);
        root.Subcommands.Add(AccessCommands.SetUp(client));
        root.Subcommands.Add(AccessCommands.SignIn(client));
        root.Subcommands.Add(AccessCommands.SignOut(client));
        root.Subcommands.Add(OwnCommands.Password(client));
        root.Subcommands.Add(OwnCommands.SignIns(client));
        root.Subcommands.Add(DeviceCommands.Device(client));
        root.Subcommands.Add(DeviceCommands.Passkey(client));
        root.Subcommands.Add(OwnCommands.Token(client));
        root.Subcommands.Add(SecondFactorCommands.SecondFactor(client));
        root.Subcommands.Add(TechnicianCommands.Technician(client));
        root.Subcommands.Add(TeamCommands.Team(client));
        root.Subcommands.Add(RoleCommands.Role(client));
        root.Subcommands.Add(PolicyCommands.Policy(client));
        root.Subcommands.Add(AccessKeyCommands.AccessKey(client));
        root.Subcommands.Add(SecretCommands.Secret(client));
        root.Subcommands.Add(VaultCommands.Vault(client));
        root.Subcommands.Add(SessionCommands.Session(client));
        root.Subcommands.Add(InvitationCommands.Invitation(client));
        root.Subcommands.Add(FileCommands.File(client));
        root.Subcommands.Add(SendCommand.Send(client));
        root.Subcommands.Add(FetchCommand.Fetch(client));
        root.Subcommands.Add(GatherCommand.Gather(client));
        root.Subcommands.Add(DeliverCommand.Deliver(client));
        root.Subcommands.Add(ParcelCommands.Parcel(client));
        root.Subcommands.Add(TwinCommands.Twin(client));
        root.Subcommands.Add(ShelfCommands.Shelf(client));
        root.Subcommands.Add(GrantCommands.Access(client));
        root.Subcommands.Add(HostCommands.Host(client));
        root.Subcommands.Add(FindCommand.Find(client));
        root.Subcommands.Add(GroupCommands.Group(client));
        root.Subcommands.Add(CustomerCommands.Customer(client));
        root.Subcommands.Add(SelectionCommands.Selection(client));
        root.Subcommands.Add(EstateCommands.Estate(client));
        root.Subcommands.Add(InstallerCommands.Installer(client));
        root.Subcommands.Add(EnrolmentCommands.Enrolment(client));
        root.Subcommands.Add(ScanCommands.Scan(client));
        root.Subcommands.Add(UpdateCommands.Release(client));
        root.Subcommands.Add(UpdateCommands.Update(client));
        root.Subcommands.Add(WatchCommand.Watch(client));
        root.Subcommands.Add(AlertCommands.Alert(client));
        root.Subcommands.Add(CheckCommands.Check(client));
        root.Subcommands.Add(NoticeCommands.Notice(client));
        root.Subcommands.Add(MaintenanceCommands.Maintenance(client));
        root.Subcommands.Add(ReactionCommands.Reaction(client));
        root.Subcommands.Add(RunCommand.Run(client));
        root.Subcommands.Add(ShellCommand.Shell(client));
        root.Subcommands.Add(DesktopCommand.Desktop(client));
        root.Subcommands.Add(RecordingCommands.Recording(client));
        root.Subcommands.Add(JobCommands.Job(client));
        root.Subcommands.Add(ScriptCommands.Script(client));
        root.Subcommands.Add(RunbookCommands.Runbook(client));
        root.Subcommands.Add(ProcessCommands.Process(client));
        root.Subcommands.Add(ServiceCommands.Service(client));
        root.Subcommands.Add(PowerCommands.Power(client));
        root.Subcommands.Add(LogCommands.Log(client));
        root.Subcommands.Add(AuditCommands.Audit(client));
        root.Subcommands.Add(CompletionCommand.Completion());
        ShowExamples(root);
        return root;
    }

    /// <summary>A command with an example; help shows it below the options.</summary>
    public static Command Named(string name, string description, string example)
    {
        var command = new Command(name, description);
        Examples[command] = example;
        return command;
    }

    private static readonly Dictionary<Command, string> Examples = [];

    private static void ShowExamples(RootCommand root)
    {
        var help = root.Options.OfType<HelpOption>().Single();
        help.Action = new HelpWithExample((HelpAction)help.Action!);
    }

    private static int Complain(string message, int code)
    {
        Console.Error.WriteLine(message);
        return code;
    }

    private sealed class HelpWithExample(HelpAction inner) : SynchronousCommandLineAction
    {
        public override int Invoke(ParseResult parseResult)
        {
            var code = inner.Invoke(parseResult);
            var command = parseResult.CommandResult.Command;
            var example = Examples.GetValueOrDefault(command) ?? "umbrek host list\n  umbrek run --on 'in \"Saltmarsh Ferry/Quay\"' -- uptime";
            Console.Out.WriteLine($"Example:\n  {example}\n");
            if (command is RootCommand or { Name: "run" })
            {
                Console.Out.WriteLine(ExitCodes.Help);
            }
            return code;
        }
    }
}

/// <summary>What every command works with.</summary>
public sealed record ClientContext(ClientState State, Option<string> Output, TimeProvider Time)
{
    /// <summary>The word that a shell asks to complete.</summary>
    public string? Completing { get; set; }

    public OutputFormat Format(ParseResult parsed) => parsed.GetValue(Output) switch
    {
        "json" => OutputFormat.Json,
        "csv" => OutputFormat.Csv,
        _ => OutputFormat.Table,
    };
}
