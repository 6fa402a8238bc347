using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>Logs of a host: the journal and text files, read and followed.</summary>
public static class LogCommands
{
    public static Command Log(ClientContext client)
    {
        var command = ClientCommands.Named("log", "Logs of a host: the journal and text files, read and followed.", "umbrek log follow quay-ticket-03 --severity warning");
        command.Add(List(client), Show(client), Follow(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var host = HostArgument();
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("list", "Lists the logs of a host, those that changed last first.", "umbrek log list quay-ticket-03");
        command.Add([host, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            await foreach (var word in HostLook.LogAsync(client, api, parsed, secrets, found, new LogWish(0), cancel).ConfigureAwait(false))
            {
                if (word.Sources is { } sources)
                {
                    var now = client.Time.GetUtcNow();
                    if (client.Format(parsed) == OutputFormat.Table)
                    {
                        Console.Out.WriteLine(sources.Journal ? $"{found.Label} keeps a journal; it is shown where no file is named." : $"{found.Label} keeps no journal.");
                    }
                    Listing.Print(client.Format(parsed), sources.Files, WireJson.Default.ListLogFile, "It has no text files under /var/log.",
                        new("File", f => f.Path), new("Size", f => Units.Bytes(f.Bytes), Right: true, Machine: f => $"{f.Bytes}"), new("Changed", f => Words.Ago(f.ChangedAt, now), Machine: f => Words.Iso(f.ChangedAt)));
                    break;
                }
            }
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var host = HostArgument();
        var which = new Which();
        var until = new Option<string?>("--until") { Description = "Only lines before this time (UTC), such as 2026-11-20T08:30.", HelpName = "time" };
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("show", "Shows the newest lines of a log.", "umbrek log show quay-ticket-03 --service ticket-print --since 2h\n  umbrek log show plover-log-01 --file /var/log/syslog --text usb --lines 5000 --output csv > usb.csv");
        command.Add([host, .. which.Options, until, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var wish = which.Read(client, parsed) with { Until = parsed.GetValue(until) is { } end ? TimeText.Read(end, endOfDay: true) : null };
            Check(wish);
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            var lines = new List<LogLine>();
            await foreach (var word in HostLook.LogAsync(client, api, parsed, secrets, found, wish, cancel).ConfigureAwait(false))
            {
                lines.AddRange(word.Lines ?? []);
                if (word.CaughtUp)
                {
                    break;
                }
            }
            if (client.Format(parsed) != OutputFormat.Table)
            {
                Listing.Print(client.Format(parsed), lines, WireJson.Default.ListLogLine, "",
                    new("At", l => Words.Iso(l.At) ?? ""), new("Severity", l => Word(l.Severity)), new("Source", l => l.Source ?? ""), new("Pid", l => $"{l.Pid}"), new("Text", l => l.Text));
            }
            else
            {
                lines.ForEach(l => Console.Out.WriteLine(OneLine(l)));
                if (lines.Count == 0)
                {
                    await Console.Error.WriteLineAsync($"{char.ToUpperInvariant(wish.Name[0])}{wish.Name[1..]} of {found.Label} has no such line.").ConfigureAwait(false);
                }
            }
            return lines.Count > 0 ? ExitCodes.Done : ExitCodes.NothingMatched;
        });
        return command;
    }

    private static Command Follow(ClientContext client)
    {
        var host = HostArgument();
        var which = new Which(10);
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("follow", "Shows lines of a log as they come, until Ctrl-C.", "umbrek log follow quay-ticket-03 --severity warning\n  umbrek log follow quay-ticket-03 --file /var/log/kiosk.log --lines 50");
        command.Add([host, .. which.Options, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var wish = which.Read(client, parsed) with { Follow = true };
            Check(wish);
            using var leave = new Leaving(cancel);
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            try
            {
                await foreach (var word in HostLook.LogAsync(client, api, parsed, secrets, found, wish, leave.Token).ConfigureAwait(false))
                {
                    foreach (var line in word.Lines ?? [])
                    {
                        // For machines a line of JSON for each: a list would have no end.
                        Console.Out.WriteLine(client.Format(parsed) == OutputFormat.Json ? JsonSerializer.Serialize(line, WireJson.Default.LogLine) : OneLine(line));
                    }
                }
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                // Seen enough.
            }
            return ExitCodes.Done;
        });
        return command;
    }

    private static void Check(LogWish wish)
    {
        if (wish.Check() is { } problem)
        {
            throw new ClientException(problem, ExitCodes.WrongUse);
        }
    }

    private static string OneLine(LogLine line) =>
        $"{line.At?.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture) ?? new string(' ', 19)}  {Word(line.Severity),-11}  {(line.Source is null ? "" : $"{TerminalText.Line(line.Source)}{(line.Pid is { } pid ? $"[{pid}]" : "")}: ")}{TerminalText.Line(line.Text)}";

    private static string Word(LogSeverity? severity) => severity?.ToString().ToLowerInvariant() ?? "";

    private static Argument<string> HostArgument() => new("host") { Description = "Label or system name of the host." };

    /// <summary>Which log, and which lines of it.</summary>
    private sealed class Which(int usual = LogWish.Usual)
    {
        private readonly Option<string?> file = new("--file") { Description = "A text file on the host, by its whole path; the journal when left out.", HelpName = "path" };
        private readonly Option<string?> service = new("--service") { Description = "Only what this service wrote to the journal.", HelpName = "name" };
        private readonly Option<string?> text = new("--text") { Description = "Only lines that hold it, letters of either case.", HelpName = "text" };
        private readonly Option<string?> severity = new("--severity") { Description = $"Only lines that are at least as grave: {string.Join(", ", Enum.GetValues<LogSeverity>().Select(s => Word(s)))}.", HelpName = "severity" };
        private readonly Option<string?> since = new("--since") { Description = "Only lines from there on: 2h, 3d, or a time (UTC) such as 2026-11-20T08:30.", HelpName = "time" };
        private readonly Option<int> lines = new("--lines") { Description = $"At most so many of those that are there, the newest; up to {LogWish.Most}.", HelpName = "number", DefaultValueFactory = _ => usual };

        public IEnumerable<Option> Options => [file, service, text, severity, since, lines];

        public LogWish Read(ClientContext client, ParseResult parsed) => new(
            parsed.GetValue(lines), parsed.GetValue(file), parsed.GetValue(service), parsed.GetValue(text),
            parsed.GetValue(severity) is { } grave ? Typed.Word(grave, WireJson.Default.LogSeverity, "severity") : null,
            parsed.GetValue(since) is not { } begin ? null : Units.ParseSpan(begin) is { } span ? client.Time.GetUtcNow() - span : TimeText.Read(begin));
    }
}
