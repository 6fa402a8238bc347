using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Audit;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Audit;

namespace Umbrek.Cli.Audit;

/// <summary>Reading, exporting and checking the audit log.</summary>
public static class AuditCommands
{
    private const int ProgressLines = 10_000;

    public static Command Audit(ClientContext client)
    {
        var command = ClientCommands.Named("audit", "Who did what, from where.", "umbrek audit list --action enrolment");
        command.Add(List(client), Export(client), Verify(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var narrow = new AuditQuery();
        var most = new Option<int>("--most") { Description = "How many lines, newest first.", DefaultValueFactory = _ => 50 };
        var command = ClientCommands.Named("list", "Lists the audit log, newest first.", "umbrek audit list --action enrolment.refuse --from 2026-11-20 --most 20");
        narrow.AddTo(command);
        command.Add(most);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync($"audit?limit={parsed.GetValue(most).ToString(CultureInfo.InvariantCulture)}&{narrow.Read(parsed)}", WireJson.Default.PageAuditInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListAuditInfo, "No line of the audit log is like that.",
                new("No.", a => a.Number.ToString(CultureInfo.InvariantCulture), Right: true),
                new("When", a => Words.Iso(a.At)),
                new("Who", a => a.Actor),
                new("From", a => a.Address ?? ""),
                new("Did", a => a.Action),
                new("To", a => a.Target),
                new("More", a => More(a.Detail), Machine: a => a.Detail));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Export(ClientContext client)
    {
        var narrow = new AuditQuery();
        var format = new Option<string>("--format") { Description = "ndjson holds the hashes' exact lines and can be checked later; csv is for spreadsheets.", DefaultValueFactory = _ => "ndjson" };
        format.AcceptOnlyFromAmong("ndjson", "csv");
        var command = ClientCommands.Named("export", "Writes the audit log to standard output, oldest line first.", "umbrek audit export > audit.ndjson");
        narrow.AddTo(command);
        command.Add(format);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}audit/export?format={parsed.GetValue(format)}&{narrow.Read(parsed)}");
            using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            await using var output = Console.OpenStandardOutput();
            await response.Content.CopyToAsync(output, cancel).ConfigureAwait(false);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Verify(ClientContext client)
    {
        var file = new Argument<FileInfo?>("file") { Description = "A whole export (NDJSON) to check instead of the service's log.", Arity = ArgumentArity.ZeroOrOne };
        var seen = new Option<string?>("--seen") { Description = "A line that was seen earlier, as NUMBER:HASH; without it the last line that this client saw of the service." };
        var command = ClientCommands.Named("verify", "Checks every line of the audit log against its hash and the line before, here, not in the service.", "umbrek audit verify");
        command.Add(file, seen);
        command.SetAction(async (parsed, cancel) =>
        {
            var who = parsed.GetValue(file) is null ? client.State.Require() : null;
            var anchor = parsed.GetValue(seen) is { } text ? ReadAnchor(text) : who is null ? null : client.State.LoadSeen(who.Service);
            var verifier = new AuditVerifier(anchor);
            if (parsed.GetValue(file) is { } export)
            {
                if (!export.Exists)
                {
                    throw new ClientException($"There is no file {export.FullName}. 'umbrek audit export' writes one.", ExitCodes.WrongUse);
                }
                using var lines = export.OpenText();
                await TakeAsync(verifier, lines, cancel).ConfigureAwait(false);
            }
            else
            {
                using var api = client.State.Open();
                using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}audit/export");
                using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
                using var lines = new StreamReader(await response.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false));
                await TakeAsync(verifier, lines, cancel).ConfigureAwait(false);
            }
            verifier.End();
            if (who is not null && verifier is { Findings.Count: 0, Last: { } last })
            {
                client.State.SaveSeen(who.Service, last);
            }
            Print(client.Format(parsed), verifier, anchor);
            return verifier.Findings.Count == 0 ? ExitCodes.Done : ExitCodes.Failed;
        });
        return command;
    }

    private static async Task TakeAsync(AuditVerifier verifier, TextReader lines, CancellationToken cancel)
    {
        var progress = !Console.IsErrorRedirected;
        for (var number = 1; await lines.ReadLineAsync(cancel).ConfigureAwait(false) is { } line; number++)
        {
            if (line.Length == 0)
            {
                continue;
            }
            AuditInfo info;
            byte[] hash;
            try
            {
                info = JsonSerializer.Deserialize(line, WireJson.Default.AuditInfo) ?? throw new JsonException("null");
                hash = Convert.FromHexString(info.Hash);
            }
            catch (Exception e) when (e is JsonException or FormatException or ArgumentNullException)
            {
                throw new ClientException($"Line {number} of the export is no line of an audit log ({e.Message}). Check a whole NDJSON export, as 'umbrek audit export' writes it.", ExitCodes.WrongUse);
            }
            verifier.Take(new AuditEntry(info.Number, info.At, info.Actor, info.Address, info.Action, info.Target, info.Detail), hash);
            if (progress && verifier.Lines % ProgressLines == 0)
            {
                Terminal.Progress($"{verifier.Lines:N0} lines checked");
            }
        }
        if (progress && verifier.Lines >= ProgressLines)
        {
            await Console.Error.WriteLineAsync().ConfigureAwait(false);
        }
    }

    private static void Print(OutputFormat format, AuditVerifier verifier, AuditAnchor? anchor)
    {
        if (format != OutputFormat.Table)
        {
            Listing.Print(format, verifier.Findings, WireJson.Default.ListAuditFinding, "",
                new("fault", f => f.Fault.ToString().ToLowerInvariant()), new("number", f => f.Number.ToString(CultureInfo.InvariantCulture)), new("last", f => f.Last.ToString(CultureInfo.InvariantCulture)), new("text", f => f.Text));
            return;
        }
        foreach (var finding in verifier.Findings)
        {
            Console.Out.WriteLine(Core.Text.TerminalText.Neutralise(finding.Text));
        }
        if (verifier.Findings.Count > 0)
        {
            Console.Out.WriteLine($"The audit log is not as it was written ({verifier.Lines} lines checked). Keep a copy of the database and compare it with an earlier export or backup.");
        }
        else if (verifier.Last is { } last)
        {
            Console.Out.WriteLine($"{verifier.Lines} lines, all as they were written{(anchor is null ? "" : $", line {anchor.Number} as it was seen earlier")}.");
            Console.Out.WriteLine($"Last line {last.Number}, {last.Hash}");
            Console.Out.WriteLine($"Who notes this elsewhere can tell later whether lines were cut off: umbrek audit verify --seen {last.Number}:{last.Hash}");
        }
        else
        {
            Console.Out.WriteLine("The audit log has no line.");
        }
    }

    private static AuditAnchor ReadAnchor(string text) =>
        text.Split(':') is [var number, { Length: 64 } hash] && long.TryParse(number, NumberStyles.None, CultureInfo.InvariantCulture, out var n) && n > 0 && hash.All(char.IsAsciiHexDigit)
            ? new AuditAnchor(n, hash.ToLowerInvariant())
            : throw new ClientException($"'{text}' is no line of an audit log; write NUMBER:HASH as 'umbrek audit verify' printed it.", ExitCodes.WrongUse);

    /// <summary>Name and value pairs as people read them; ids are for machines.</summary>
    internal static string More(string detail)
    {
        try
        {
            using var json = JsonDocument.Parse(detail);
            return string.Join(", ", json.RootElement.EnumerateObject().Where(p => !Guid.TryParse(p.Value.ToString(), out _)).Select(p => $"{p.Name} {p.Value}"));
        }
        catch (Exception e) when (e is JsonException or InvalidOperationException)
        {
            return detail;
        }
    }
}
