using System.Globalization;
using System.Text;

namespace Umbrek.Core.Audit;

/// <summary>A line of the audit log as a syslog message (RFC 5424), framed by its length (RFC 6587 §3.4.1, RFC 5425 §4.3).</summary>
public static class SyslogLine
{
    /// <summary>"log audit" (RFC 5424 §6.2.1, table 1).</summary>
    private const int Facility = 13;
    private const int Warning = 4;
    private const int Informational = 6;

    /// <summary>The number for examples (RFC 5612); it is part of the structured data's name.</summary>
    private const string Structure = "umbrek@32473";
    private const string Nil = "-";

    /// <param name="hash">The line's hash, in hex.</param>
    /// <param name="service">The machine that the service runs on.</param>
    public static byte[] Frame(AuditEntry entry, string hash, string service)
    {
        var severity = entry.Action.EndsWith(".refuse", StringComparison.Ordinal) ? Warning : Informational;
        var text = new StringBuilder();
        text.Append(CultureInfo.InvariantCulture, $"<{Facility * 8 + severity}>1 {entry.At.UtcDateTime:yyyy-MM-ddTHH:mm:ss.fffZ} {Token(service, 255)} umbrekd {Nil} {Token(entry.Action, 32)} ");
        text.Append(CultureInfo.InvariantCulture, $"[{Structure} number=\"{entry.Number}\" actor=\"{Value(entry.Actor)}\"");
        if (entry.Address is { } address)
        {
            text.Append(CultureInfo.InvariantCulture, $" address=\"{Value(address)}\"");
        }
        text.Append(CultureInfo.InvariantCulture, $" target=\"{Value(entry.Target)}\" hash=\"{Value(hash)}\"] ");
        // The mark says that what follows is UTF-8 (RFC 5424 §6.4).
        text.Append('\uFEFF').Append(OneLine($"{entry.Actor}{(entry.Address is null ? "" : $" from {entry.Address}")}: {entry.Action} {entry.Target} {entry.Detail}"));
        var message = Encoding.UTF8.GetBytes(text.ToString());
        return [.. Encoding.ASCII.GetBytes($"{message.Length} "), .. message];
    }

    /// <summary>Printable ASCII without blanks, cut to its greatest length.</summary>
    private static string Token(string text, int most)
    {
        var clean = new string([.. text.Where(c => c is > ' ' and <= '~').Take(most)]);
        return clean.Length == 0 ? Nil : clean;
    }

    /// <summary>A parameter's value: '"', '\' and ']' are escaped (RFC 5424 §6.3.3).</summary>
    private static string Value(string text) =>
        OneLine(text).Replace("\\", "\\\\", StringComparison.Ordinal).Replace("\"", "\\\"", StringComparison.Ordinal).Replace("]", "\\]", StringComparison.Ordinal);

    private static string OneLine(string text) => new([.. text.Select(c => char.IsControl(c) ? ' ' : c)]);
}
