using System.CommandLine;
using System.Globalization;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;

namespace Umbrek.Cli.Audit;

/// <summary>The options that narrow the audit log, alike for every command that reads it.</summary>
internal sealed class AuditQuery
{
    private readonly Option<string?> action = new("--action") { Description = "Only actions that begin so: installer, enrolment.refuse, sign-in …" };
    private readonly Option<string?> by = new("--by") { Description = "Only what was done by somebody whose name has this in it." };
    private readonly Option<string?> to = new("--target") { Description = "Only what was done to something whose name has this in it." };
    private readonly Option<string?> address = new("--address") { Description = "Only from this address." };
    private readonly Option<string?> from = new("--from") { Description = "Not before this day or time (UTC): 2026-11-20 or 2026-11-20T08:30." };
    private readonly Option<string?> until = new("--to") { Description = "Before this day or time (UTC)." };

    public void AddTo(Command command) => command.Add(action, by, to, address, from, until);

    /// <summary>The query's part behind the question mark; empty when nothing is narrowed.</summary>
    public string Read(ParseResult parsed)
    {
        (string Name, string? Value)[] parts =
        [
            ("action", parsed.GetValue(action)), ("actor", parsed.GetValue(by)), ("target", parsed.GetValue(to)), ("address", parsed.GetValue(address)),
            ("from", Time(parsed.GetValue(from))), ("to", Time(parsed.GetValue(until))),
        ];
        return string.Join('&', parts.Where(p => p.Value is not null).Select(p => $"{p.Name}={Uri.EscapeDataString(p.Value!)}"));
    }

    private static string? Time(string? text) => text is null ? null : TimeText.Read(text).ToString("O", CultureInfo.InvariantCulture);
}
