using System.CommandLine;
using System.Runtime.InteropServices;
using System.Text;
using Microsoft.Win32.SafeHandles;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Sessions;
using Umbrek.Wire.Shell;

namespace Umbrek.Cli.Shell;

/// <summary><c>umbrek shell</c>: a terminal on a host, or one command whose streams and exit status are those of a local one.</summary>
public static class ShellCommand
{
    public static Command Shell(ClientContext client)
    {
        var host = new Argument<string>("host") { Description = "Label or system name of the host." };
        var words = new Argument<string[]>("command") { Description = "Runs this instead of the login shell, with this command's own input and output. One word is a line for /bin/sh; several are a program and its arguments.", Arity = ArgumentArity.ZeroOrMore };
        var user = new Option<string?>("--as") { Description = "The system user that it runs as; the agent's own when left out.", HelpName = "user" };
        var terminal = new Option<bool>("--terminal") { Description = "Gives the command a terminal, as full-screen programs need it." };
        var keep = new Option<string?>("--keep") { Description = "How long it goes on when nobody is connected to it; 10min when left out.", HelpName = "time" };
        var idle = new Option<string?>("--idle") { Description = "A terminal in which no key is pressed ends after this time; 1h when left out.", HelpName = "time" };
        var reason = new Option<string?>("--reason") { Description = "What it is for; shown with the session.", HelpName = "text" };
        var list = new Option<bool>("--list") { Description = "Lists the shells that go on there." };
        var resume = new Option<string?>("--resume") { Description = "Connects to a shell that goes on: its id, or the last characters of it.", HelpName = "id" };
        var end = new Option<string?>("--end") { Description = "Ends a shell that goes on.", HelpName = "id" };
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("shell", "Opens a shell on a host, or runs one command there as if it were here.",
            "umbrek shell quay-ticket-03\n  tar c photos | umbrek shell orrin-srv-01 -- tar x -C /srv\n  umbrek shell quay-ticket-03 --list\n\n" +
            "In a terminal Ctrl-_ leads the client's own keys: then l leaves the shell (it goes on), e ends it, w says where you are.");
        command.Add([host, user, terminal, keep, idle, reason, list, resume, end, .. secrets.WithVault, words]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            if (parsed.GetValue(list))
            {
                return Print(client, parsed, found, await ListAsync(api, found, cancel).ConfigureAwait(false));
            }
            if (parsed.GetValue(end) is { } ending)
            {
                var goesOn = await FindAsync(api, found, ending, cancel).ConfigureAwait(false);
                await api.ActAsync(HttpMethod.Post, $"hosts/{found.Id}/shells/{goesOn.Id}/end", cancel).ConfigureAwait(false);
                Listing.Say(client.Format(parsed), $"The shell of {goesOn.Technician} on {found.Label} is told to end.", goesOn, WireJson.Default.ShellInfo);
                return ExitCodes.Done;
            }
            var typed = parsed.GetValue(words) ?? [];
            var before = parsed.GetValue(resume) is { } id ? await FindAsync(api, found, id, cancel).ConfigureAwait(false) : null;
            var inTerminal = before?.IsTerminal ?? (typed.Length == 0 || parsed.GetValue(terminal));
            if (inTerminal && !RawTerminal.IsThere)
            {
                throw new ClientException("A shell needs a terminal, and this is none. Say what to run instead: umbrek shell HOST -- COMMAND", ExitCodes.WrongUse);
            }
            var wish = new ShellWish
            {
                ShellId = before?.Id,
                Terminal = inTerminal ? RawTerminal.Size : null,
                TerminalType = inTerminal && Environment.GetEnvironmentVariable("TERM") is { Length: > 0 } type ? type : null,
                Command = typed switch { [] => null, [var line] => new CommandSpec { Line = line }, _ => new CommandSpec { Arguments = typed } },
                User = parsed.GetValue(user),
                KeepSeconds = Seconds(parsed.GetValue(keep)),
                IdleSeconds = Seconds(parsed.GetValue(idle)),
            };
            if (wish.Check() is { } problem)
            {
                throw new ClientException(problem, ExitCodes.WrongUse);
            }
            var door = Door(client, api, parsed, secrets, found, parsed.GetValue(reason));
            return inTerminal
                ? await TerminalAsync(client, api, found, wish, secrets.UsesVault(parsed), door, cancel).ConfigureAwait(false)
                : await PipesAsync(client, api, wish, secrets.UsesVault(parsed), door, cancel).ConfigureAwait(false);
        });
        return command;
    }

    /// <summary>Opens sessions on the host; a key is asked for once, also when the line breaks later.</summary>
    private static Func<CancellationToken, Task<ShellSession>> Door(ClientContext client, ApiClient api, ParseResult parsed, HostSecretOptions secrets, HostSummary host, string? reason)
    {
        (string Name, string Text)? secret = secrets.AreGiven(parsed) ? secrets.Read(parsed, $"{host.Label} of {GroupPath.Customer(host.GroupPath)}") : null;
        return async cancel =>
        {
            if (secret is { } given)
            {
                var door = await HostDoor.OpenAsync(api, client.State.Require().NewPin(), host.Id, given.Name, given.Text, cancel).ConfigureAwait(false);
                return new ShellSession(door.Session.Id, door.Seal);
            }
            var session = await api.PostAsync($"hosts/{host.Id}/sessions", new NewSession(reason), WireJson.Default.NewSession, WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
            return new ShellSession(session.Id, null);
        };
    }

    private static async Task<int> TerminalAsync(ClientContext client, ApiClient api, HostSummary host, ShellWish wish, bool usesVault, Func<CancellationToken, Task<ShellSession>> door, CancellationToken cancel)
    {
        var where = $"{host.Label} of {GroupPath.Customer(host.GroupPath)}";
        var screen = new RawOutput(1);
        using var raw = RawTerminal.Take();
        void Say(string sentence) => screen.Write(Encoding.UTF8.GetBytes($"\r\n\e[0;7m {where} \e[0m {TerminalText.Neutralise(sentence)}\r\n"));
        // The terminal's title names the host for as long as it is connected to (xterm control sequences, OSC 2).
        screen.Write(Encoding.UTF8.GetBytes($"\e]2;{TerminalText.Neutralise($"{host.Label} · {GroupPath.Customer(host.GroupPath)}")}\e\\"));
        var told = false;
        using var shell = new RemoteShell(api, client.State.Require().NewPin(), door, wish, usesVault, client.Time)
        {
            Show = (_, data) => screen.Write(data.Span),
            Say = Say,
            Opened = (shell, opened) =>
            {
                if (!told)
                {
                    Say($"{host.GroupPath}, as {opened.User}.{Recorded(shell)} Ctrl-_ then l leaves, e ends, w says where you are.");
                }
                told = true;
            },
        };
        using var resized = OperatingSystem.IsWindows() ? null : PosixSignalRegistration.Create(PosixSignal.SIGWINCH, context => { _ = shell.ResizeAsync(RawTerminal.Size, CancellationToken.None); });
        _ = ReadKeysAsync(shell, Say, where);
        RunEnd? end;
        try
        {
            end = await shell.RunAsync(cancel).ConfigureAwait(false);
        }
        finally
        {
            screen.Write("\e]2;\e\\"u8);
            raw.Dispose();
        }
        if (end is null)
        {
            await Console.Error.WriteLineAsync($"\nThe shell on {where} goes on without you. Back to it: umbrek shell '{host.Label}' --resume {Words.ShortId(shell.ShellId ?? Guid.Empty)}").ConfigureAwait(false);
            return ExitCodes.LeftRunning;
        }
        await shell.EndSessionAsync(cancel).ConfigureAwait(false);
        if (end.Reason is { } why)
        {
            await Console.Error.WriteLineAsync($"\nThe shell on {where} has ended: {why}").ConfigureAwait(false);
        }
        return end.ExitStatus ?? ExitCodes.Failed;
    }

    private static async Task ReadKeysAsync(RemoteShell shell, Action<string> say, string where)
    {
        await Task.Yield();
        await using var keys = new FileStream(new SafeFileHandle(0, ownsHandle: false), FileAccess.Read, bufferSize: 0);
        var reader = new KeyReader();
        var buffer = new byte[4096];
        try
        {
            while (!shell.Over.IsCancellationRequested && await Task.Run(() => keys.Read(buffer)).ConfigureAwait(false) is var got and > 0)
            {
                var (forHost, own) = reader.Read(buffer.AsSpan(0, got));
                // What is typed while the line is broken goes nowhere: nobody sees what it would do.
                if (forHost.Length > 0 && shell.IsConnected)
                {
                    await shell.TypeAsync(forHost, shell.Over).ConfigureAwait(false);
                }
                foreach (var key in own)
                {
                    await ActAsync(shell, key, say, where).ConfigureAwait(false);
                }
            }
        }
        catch (Exception e) when (e is IOException or OperationCanceledException or ObjectDisposedException)
        {
            // The terminal is gone, or the shell is over.
        }
    }

    private static async Task ActAsync(RemoteShell shell, ShellKey key, Action<string> say, string where)
    {
        switch (key)
        {
            case ShellKey.Leave:
                shell.Leave();
                break;
            case ShellKey.End when shell.IsConnected:
                await shell.EndAsync(shell.Over).ConfigureAwait(false);
                break;
            case ShellKey.End:
                say("The line is broken; it ends when it is back. Ctrl-_ then l leaves.");
                await shell.EndAsync(shell.Over).ConfigureAwait(false);
                break;
            case ShellKey.Where:
                say($"You are on {where}{(shell.IsConnected ? "." : "; the line to it is broken.")}{Recorded(shell)}");
                break;
            default:
                say("Ctrl-_ then: l leaves the shell, which goes on; e ends it; w says where you are; Ctrl-_ sends itself.");
                break;
        }
    }

    /// <summary>Whoever works there is told that it is recorded.</summary>
    private static string Recorded(RemoteShell shell) => shell.Recording switch
    {
        null => "",
        { HasKeys: true } => " What is shown and what you type is recorded.",
        _ => " What is shown is recorded.",
    };

    private static async Task<int> PipesAsync(ClientContext client, ApiClient api, ShellWish wish, bool usesVault, Func<CancellationToken, Task<ShellSession>> door, CancellationToken cancel)
    {
        var (stdout, stderr) = (new RawOutput(1), new RawOutput(2));
        using var shell = new RemoteShell(api, client.State.Require().NewPin(), door, wish, usesVault, client.Time)
        {
            Show = (stream, data) => (stream == ShellStream.Error ? stderr : stdout).Write(data.Span),
            Say = sentence => Console.Error.WriteLine(sentence),
        };
        using var signals = new Passing(shell);
        _ = FeedAsync(shell);
        RunEnd? end;
        try
        {
            end = await shell.RunAsync(cancel).ConfigureAwait(false);
        }
        catch (OutputGoneException)
        {
            // Whoever reads our output is gone, as with any pipe (SIGPIPE).
            await shell.EndSessionAsync(cancel).ConfigureAwait(false);
            return 128 + 13;
        }
        await shell.EndSessionAsync(cancel).ConfigureAwait(false);
        if (end is { Outcome: RunOutcome.NotStarted, Reason: { } why })
        {
            await Console.Error.WriteLineAsync(why).ConfigureAwait(false);
        }
        return end?.ExitStatus ?? ExitCodes.Failed;
    }

    private static async Task FeedAsync(RemoteShell shell)
    {
        await Task.Yield();
        await using var stdin = Console.OpenStandardInput();
        var buffer = new byte[ShellWord.MaxData];
        try
        {
            while (await Task.Run(() => stdin.Read(buffer)).ConfigureAwait(false) is var got and > 0)
            {
                await shell.TypeAsync(buffer.AsMemory(0, got), shell.Over).ConfigureAwait(false);
            }
            await shell.EndInputAsync(shell.Over).ConfigureAwait(false);
        }
        catch (Exception e) when (e is IOException or OperationCanceledException or ObjectDisposedException)
        {
            // The command is over.
        }
    }

    /// <summary>Signals that the client is sent go to the command.</summary>
    private sealed class Passing : IDisposable
    {
        private static readonly (PosixSignal Here, ShellSignal There)[] Passed =
            [(PosixSignal.SIGINT, ShellSignal.Interrupt), (PosixSignal.SIGTERM, ShellSignal.Terminate), (PosixSignal.SIGHUP, ShellSignal.HangUp), (PosixSignal.SIGQUIT, ShellSignal.Quit)];

        private readonly List<PosixSignalRegistration> registered;

        public Passing(RemoteShell shell) => registered = [.. Passed.Select(p => PosixSignalRegistration.Create(p.Here, c =>
        {
            c.Cancel = true;
            if (shell.IsConnected)
            {
                _ = shell.SignalAsync(p.There, CancellationToken.None);
            }
            else
            {
                shell.Leave();
            }
        }))];

        public void Dispose() => registered.ForEach(r => r.Dispose());
    }

    private static async Task<List<ShellInfo>> ListAsync(ApiClient api, HostSummary host, CancellationToken cancel) =>
        [.. (await api.GetAsync($"hosts/{host.Id}/shells", WireJson.Default.PageShellInfo, cancel).ConfigureAwait(false)).Items];

    private static async Task<ShellInfo> FindAsync(ApiClient api, HostSummary host, string id, CancellationToken cancel) =>
        ShortIds.Find(await ListAsync(api, host, cancel).ConfigureAwait(false), s => s.Id, id, "shell", $"umbrek shell '{host.Label}' --list");

    private static int Print(ClientContext client, ParseResult parsed, HostSummary host, List<ShellInfo> shells)
    {
        var now = client.Time.GetUtcNow();
        Listing.Print(client.Format(parsed), shells, WireJson.Default.ListShellInfo, $"No shell goes on at {host.Label}.",
            new("Id", s => Words.ShortId(s.Id), Machine: s => $"{s.Id}"),
            new("Of", s => s.Technician),
            new("Runs", s => s.CommandText),
            new("As", s => s.User),
            new("Began", s => Words.Ago(s.BeganAt, now), Machine: s => Words.Iso(s.BeganAt)),
            new("Connected", s => s.IsAttended ? "yes" : "no"));
        return ExitCodes.Done;
    }

    private static int? Seconds(string? text) =>
        text is null ? null : (int)(Units.ParseSpan(text) ?? throw new ClientException($"'{text}' is no length of time; write it like 90s, 15min or 2h.", ExitCodes.WrongUse)).TotalSeconds;
}
