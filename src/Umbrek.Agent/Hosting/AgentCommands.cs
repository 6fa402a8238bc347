using System.CommandLine;
using System.Runtime.InteropServices;
using Umbrek.Agent.Access;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Files;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Agent.Shell;
using Umbrek.Core.Enrolment;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Hosting;

/// <summary>The agent's command line.</summary>
public static class AgentCommands
{
    internal const int Failed = 1;

    /// <summary>Ended by the signal TERM, as shells report it.</summary>
    private const int Ended = 143;

    public static RootCommand Build()
    {
        var root = new RootCommand("Keeps this computer reachable for the people who look after it.");
        root.Subcommands.Add(InstallCommands.Install());
        root.Subcommands.Add(InstallCommands.Uninstall());
        root.Subcommands.Add(StatusCommand.Status());
        root.Subcommands.Add(LimitCommand.Limit());
        root.Subcommands.Add(KeyCommands.AccessKey());
        root.Subcommands.Add(KeyCommands.Passcode());
        root.Subcommands.Add(ConsentCommands.Consent());
        root.Subcommands.Add(ConsentCommands.PutOff());
        root.Subcommands.Add(Enrol());
        root.Subcommands.Add(Run());
        root.Subcommands.Add(KeeperCommand());
        root.Subcommands.Add(ShellKeeperCommand());
        root.Subcommands.Add(ActCommand());
        root.Subcommands.Add(ShelfCommand());
        root.Subcommands.Add(GoDownCommand());
        root.Subcommands.Add(WireCommand());
        return root;
    }

    internal static Option<string> StateOption() => new("--state")
    {
        Description = "The directory for identity, runs and status.",
        DefaultValueFactory = _ => StateDirectory.Default(),
    };

    private static Command Enrol()
    {
        var service = new Option<string>("--service") { Description = "Address of the service, for example https://care.halyard.example:8443", Required = true };
        var token = new Option<string>("--token") { Description = "The enrolment token.", Required = true };
        var label = new Option<string?>("--label") { Description = "A friendly name; the system's own name is used when it is left out." };
        var state = StateOption();
        var command = new Command("enrol", "Joins this computer to a service without installing anything; 'install' does both. Example: umbrek-agent enrol --service https://care.halyard.example:8443 --token TOKEN") { service, token, label, state };
        command.SetAction(async (parsed, cancel) =>
        {
            try
            {
                var address = ReadAddress(parsed.GetRequiredValue(service));
                var directory = new StateDirectory(parsed.GetRequiredValue(state));
                var (identity, joined) = await new Enroller(directory, new LinuxPlatform()).EnrolAsync(address, parsed.GetRequiredValue(token), parsed.GetValue(label), AccessKeyChoice.None, cancel).ConfigureAwait(false);
                Console.WriteLine(joined == EnrolmentState.Waiting
                    ? $"{identity.Label} waits to be let into {identity.GroupPath} by a person there. Start the agent now, it comes in by itself: umbrek-agent run"
                    : $"Enrolled as {identity.Label} in {identity.GroupPath}. Now start the agent: umbrek-agent run");
                return 0;
            }
            catch (Exception e) when (e is EnrolmentException or InvalidDataException or IOException or UnauthorizedAccessException)
            {
                return Complain(e.Message);
            }
        });
        return command;
    }

    /// <exception cref="EnrolmentException">It is none.</exception>
    internal static Uri ReadAddress(string text) => Uri.TryCreate(text, UriKind.Absolute, out var address) && address.Scheme is ("https" or "http")
        ? address
        : throw new EnrolmentException($"'{text}' is no address of a service; write it like https://care.halyard.example:8443");

    private static Command Run()
    {
        var state = StateOption();
        var command = new Command("run", "Runs the agent until it is stopped. Example: umbrek-agent run") { state };
        command.SetAction(async (parsed, cancel) =>
        {
            var directory = new StateDirectory(parsed.GetRequiredValue(state));
            AgentIdentity? identity;
            try
            {
                identity = AgentIdentity.Load(directory);
            }
            catch (Exception e) when (e is InvalidDataException or IOException or UnauthorizedAccessException)
            {
                return Complain(e.Message);
            }
            if (identity is null)
            {
                return Complain($"This host is not enrolled (no {directory.IdentityFile}). Enrol it first: umbrek-agent enrol --service URL --token TOKEN");
            }
            using var held = directory.TryLock();
            if (held is null)
            {
                return Complain($"Another agent runs with {directory.Path}; one is enough.");
            }
            using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            using var term = PosixSignalRegistration.Create(PosixSignal.SIGTERM, c => { c.Cancel = true; stop.Cancel(); });
            using var interrupt = PosixSignalRegistration.Create(PosixSignal.SIGINT, c => { c.Cancel = true; stop.Cancel(); });
            await new AgentRuntime(identity, directory, new LinuxPlatform(), TimeProvider.System, new AgentLog(Console.Error, TimeProvider.System)).RunAsync(stop.Token).ConfigureAwait(false);
            return 0;
        });
        return command;
    }

    private static Command KeeperCommand()
    {
        var run = new Argument<string>("directory");
        var command = new Command("keeper", "Keeps one run; started by the agent itself.") { run };
        command.Hidden = true;
        command.SetAction(async (parsed, cancel) =>
        {
            // A stop of the agent is no stop of its runs.
            using var term = PosixSignalRegistration.Create(PosixSignal.SIGTERM, c => c.Cancel = true);
            using var hangUp = PosixSignalRegistration.Create(PosixSignal.SIGHUP, c => c.Cancel = true);
            using var keeper = new Keeper(new RunDirectory(parsed.GetRequiredValue(run)), new LinuxCommandRunner(parsed.GetRequiredValue(run)), TimeProvider.System, LinuxPlatform.LifeId);
            await keeper.RunAsync(CancellationToken.None).ConfigureAwait(false);
            return 0;
        });
        return command;
    }

    private static Command ShellKeeperCommand()
    {
        var shell = new Argument<string>("directory");
        var command = new Command("shell-keeper", "Keeps one shell; started by the agent itself.") { shell };
        command.Hidden = true;
        command.SetAction(async (parsed, cancel) =>
        {
            // A stop of the agent is no stop of its shells.
            using var term = PosixSignalRegistration.Create(PosixSignal.SIGTERM, c => c.Cancel = true);
            using var hangUp = PosixSignalRegistration.Create(PosixSignal.SIGHUP, c => c.Cancel = true);
            await new ShellKeeper(new ShellDirectory(parsed.GetRequiredValue(shell)), new LinuxShellRunner(), TimeProvider.System).RunAsync(CancellationToken.None).ConfigureAwait(false);
            return 0;
        });
        return command;
    }

    private static Command ActCommand()
    {
        var run = new Argument<string?>("directory") { DefaultValueFactory = _ => null };
        var command = new Command("act", "Does what standard input says; started by the agent itself.") { run };
        command.Hidden = true;
        command.SetAction(async (parsed, cancel) =>
        {
            // What fetches files does so by the order that its keeper has.
            if (parsed.GetValue(run) is { } directory)
            {
                using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
                using var term = PosixSignalRegistration.Create(PosixSignal.SIGTERM, c => { c.Cancel = true; stop.Cancel(); });
                return await DeliverAsync(directory, stop.Token).ConfigureAwait(false);
            }
            using var input = Console.OpenStandardInput();
            return System.Text.Json.JsonSerializer.Deserialize(input, Wire.LinkJson.Default.HostAction) is { } action ? new LinuxActs(Console.Out, TimeProvider.System).Do(action) : Failed;
        });
        return command;
    }

    private static Command ShelfCommand()
    {
        var folder = new Argument<string>("folder");
        var state = new Argument<string>("state");
        var changes = new Option<bool>("--changes");
        var command = new Command("shelf", "Serves one folder of the service on standard input and output; started by the service itself.") { folder, state, changes };
        command.Hidden = true;
        command.SetAction(async (parsed, cancel) =>
        {
            var log = new AgentLog(Console.Error, TimeProvider.System);
            using var line = new TwoWayStream(Console.OpenStandardInput(), Console.OpenStandardOutput());
            try
            {
                await new ShelfServer(parsed.GetRequiredValue(folder), new StateDirectory(parsed.GetRequiredValue(state)), new LinuxPlatform(), TimeProvider.System, log).ServeAsync(line, parsed.GetValue(changes), cancel).ConfigureAwait(false);
                return 0;
            }
            catch (Exception e) when (e is IOException or System.Net.WebSockets.WebSocketException or OperationCanceledException)
            {
                // The service has gone.
                return Failed;
            }
        });
        return command;
    }

    private static async Task<int> DeliverAsync(string directory, CancellationToken stop)
    {
        try
        {
            return await DeliveryActs.RunAsync(new RunDirectory(directory), new LinuxPlatform(), Console.Out, TimeProvider.System, stop).ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            return Ended;
        }
    }

    private static Command GoDownCommand()
    {
        var how = new Argument<string>("how");
        how.AcceptOnlyFromAmong("restart", "off");
        var command = new Command(LinuxPower.GoDown, "Ends this container; started by the agent itself.") { how };
        command.Hidden = true;
        command.SetAction(async (parsed, _) => await LinuxPower.GoDownAsync(parsed.GetRequiredValue(how)).ConfigureAwait(false) is { } problem ? Complain(problem) : 0);
        return command;
    }

    private static Command WireCommand()
    {
        var command = new Command("wire", "Reads link messages as lines 'TYPE JSON' and writes each back as this agent understands it. For those who write an agent or a service of their own.") { Hidden = true };
        command.SetAction(_ =>
        {
            while (Console.ReadLine() is { } line)
            {
                Console.WriteLine(Links.WireEcho.Echo(line));
            }
            return 0;
        });
        return command;
    }

    internal static int Complain(string message)
    {
        Console.Error.WriteLine(message);
        return Failed;
    }
}
