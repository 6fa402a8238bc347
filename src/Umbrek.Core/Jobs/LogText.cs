using System.Globalization;
using System.Text.RegularExpressions;

namespace Umbrek.Core.Jobs;

/// <summary>Reads a line of a text file as a line of a log: when, what wrote it and how grave it is, where it begins as RFC 3339 or RFC 3164 have it.</summary>
public static partial class LogText
{
    /// <summary>A line says at its beginning how grave it is, or not at all.</summary>
    private const int Beginning = 160;

    private static readonly string[] Months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

    /// <param name="now">The host's own time, with its offset: a line without a year or an offset is of these.</param>
    public static LogLine Read(string line, DateTimeOffset now)
    {
        var (at, rest) = ReadTime(line, now);
        if (at is null)
        {
            return new LogLine(null, SeverityOf(line), null, null, line);
        }
        var header = Header().Match(rest);
        var (source, pid, text) = header.Success
            ? (header.Groups["source"].Value, int.TryParse(header.Groups["pid"].Value, CultureInfo.InvariantCulture, out var number) ? number : (int?)null, rest[header.Length..])
            : (null, null, rest);
        return new LogLine(at.Value.ToUniversalTime(), SeverityOf(text), source, pid, text);
    }

    private static (DateTimeOffset? At, string Behind) ReadTime(string line, DateTimeOffset now)
    {
        if (Iso().Match(line) is { Success: true } iso)
        {
            var text = iso.Groups["time"].Value.Replace(',', '.').Replace(' ', 'T');
            var zone = iso.Groups["zone"].Value;
            return DateTime.TryParse(text, CultureInfo.InvariantCulture, DateTimeStyles.None, out var local)
                ? (new DateTimeOffset(local, OffsetOf(zone) ?? now.Offset), line[iso.Length..].TrimStart(' ', ']', ':'))
                : (null, line);
        }
        if (Old().Match(line) is not { Success: true } old)
        {
            return (null, line);
        }
        var month = Array.IndexOf(Months, old.Groups["month"].Value) + 1;
        // No year: the one in which it is no later than tomorrow.
        foreach (var year in (int[])[now.Year + 1, now.Year, now.Year - 1])
        {
            if (DateTime.TryParseExact($"{year:0000}-{month:00}-{int.Parse(old.Groups["day"].Value, CultureInfo.InvariantCulture):00} {old.Groups["time"].Value}", "yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture, DateTimeStyles.None, out var local)
                && new DateTimeOffset(local, now.Offset) is var at && at <= now.AddDays(1))
            {
                return (at, line[old.Length..]);
            }
        }
        return (null, line);
    }

    private static TimeSpan? OffsetOf(string zone)
    {
        if (zone is "Z" or "z")
        {
            return TimeSpan.Zero;
        }
        var digits = zone.Replace(":", "");
        return digits.Length == 5 && int.TryParse(digits.AsSpan(1, 2), CultureInfo.InvariantCulture, out var hours) && int.TryParse(digits.AsSpan(3, 2), CultureInfo.InvariantCulture, out var minutes) && hours < 15 && minutes < 60
            ? new TimeSpan(hours, minutes, 0) * (digits[0] == '-' ? -1 : 1)
            : null;
    }

    private static LogSeverity? SeverityOf(string text)
    {
        var match = Grave().Match(text.Length > Beginning ? text[..Beginning] : text);
        return !match.Success ? null : match.Groups["word"].Value.ToUpperInvariant() switch
        {
            "EMERG" or "EMERGENCY" or "PANIC" => LogSeverity.Emergency,
            "ALERT" => LogSeverity.Alert,
            "CRIT" or "CRITICAL" or "FATAL" => LogSeverity.Critical,
            "ERR" or "ERROR" or "SEVERE" => LogSeverity.Error,
            "WARN" or "WARNING" => LogSeverity.Warning,
            "NOTICE" => LogSeverity.Notice,
            "INFO" or "INFORMATION" => LogSeverity.Information,
            _ => LogSeverity.Debug,
        };
    }

    /// <summary>RFC 3339, also with a blank for the T, a comma before the parts of a second, and without an offset.</summary>
    [GeneratedRegex(@"^\[?(?<time>\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d([.,]\d{1,7})?)\d*(?<zone>Z|z|[+-]\d\d:?\d\d)?", RegexOptions.ExplicitCapture)]
    private static partial Regex Iso();

    /// <summary>RFC 3164, 4.1.2: "Nov  6 04:05:06 ".</summary>
    [GeneratedRegex(@"^(?<month>Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec) (?<day>[ 123]?\d) (?<time>\d\d:\d\d:\d\d) ", RegexOptions.ExplicitCapture)]
    private static partial Regex Old();

    /// <summary>RFC 3164, 4.1.2 and 4.1.3: the host, then what wrote it: "quay-ticket-03 kiosk[311]: ".</summary>
    [GeneratedRegex(@"^[\w.:-]{1,255} (?<source>[\w./@()-]{1,80})(\[(?<pid>\d{1,10})\])?: ", RegexOptions.ExplicitCapture)]
    private static partial Regex Header();

    /// <summary>A word in capitals, or one in brackets or behind "level=".</summary>
    [GeneratedRegex(@"(^|[\s(:|])(?<word>EMERG|EMERGENCY|PANIC|ALERT|CRIT|CRITICAL|FATAL|ERR|ERROR|SEVERE|WARN|WARNING|NOTICE|INFO|INFORMATION|DEBUG|TRACE)(?=[\s):|,]|$)|(\[|<|\blevel=""?)(?<word>(?i:emerg|emergency|panic|alert|crit|critical|fatal|err|error|severe|warn|warning|notice|info|information|debug|trace))\b", RegexOptions.ExplicitCapture)]
    private static partial Regex Grave();
}
