using System.Globalization;
using System.Text;
using Umbrek.Core.Text;

namespace Umbrek.Core.Health;

/// <summary>One alert in a mail.</summary>
/// <param name="Address">Where it is looked at; null when nobody has said where the console is.</param>
public sealed record ToldAlert(string Label, string GroupPath, string CheckName, Severity Severity, DateTimeOffset At, string What, string? Follows, string? Fix, string? Address);

/// <summary>Alerts with one cause, as a mail says them.</summary>
/// <param name="What">One sentence for all of them.</param>
public sealed record ToldLine(string What, Severity Severity, IReadOnlyList<ToldAlert> Alerts);

/// <summary>What a mail says.</summary>
public sealed record MailText(string Subject, string Body);

/// <summary>Writes mails about alerts: plain text, the worst first, one line for one cause.</summary>
public static class NoticeText
{
    private const int MostLines = 40;
    private const int MostNamed = 12;
    private const int MostSubject = 150;

    /// <param name="raised">What is to be told, folded.</param>
    /// <param name="over">What was told before and has ended since.</param>
    /// <param name="waited">How long nobody has taken up what an escalation tells; null when it is told at once.</param>
    public static MailText Write(string notice, IReadOnlyList<ToldLine> raised, IReadOnlyList<ToldAlert> over, TimeSpan? waited, TimeZoneInfo zone)
    {
        var body = new StringBuilder();
        if (waited is { } span && raised.Count > 0)
        {
            body.Append(CultureInfo.InvariantCulture, $"Nobody has taken this up for {Units.Span(span)}.\n\n");
        }
        Lines(body, raised, zone, withAdvice: true);
        Ended(body, over, zone);
        return new MailText(Subject(raised, over, waited), Close(body, notice));
    }

    /// <param name="open">All that asks for somebody now, folded.</param>
    /// <param name="over">What has ended since the last one.</param>
    /// <param name="at">The time of day that it is for.</param>
    public static MailText WriteDigest(string notice, IReadOnlyList<ToldLine> open, IReadOnlyList<ToldAlert> over, DateTimeOffset at, TimeZoneInfo zone)
    {
        var body = new StringBuilder();
        body.Append(CultureInfo.InvariantCulture, $"{Count(open.Sum(l => l.Alerts.Count), "alert")} {(open.Sum(l => l.Alerts.Count) == 1 ? "asks" : "ask")} for somebody.\n\n");
        Lines(body, open, zone, withAdvice: false);
        Ended(body, over, zone);
        var day = TimeZoneInfo.ConvertTime(at, zone).ToString("ddd d MMM HH:mm", CultureInfo.InvariantCulture);
        return new MailText(Line($"{day}: {Count(open.Sum(l => l.Alerts.Count), "alert")} open, {over.Count} over"), Close(body, notice));
    }

    private static string Subject(IReadOnlyList<ToldLine> raised, IReadOnlyList<ToldAlert> over, TimeSpan? waited)
    {
        if (raised is [var worst, ..])
        {
            var more = raised.Count > 1 ? $" (and {raised.Count - 1} more)" : "";
            return Line($"{(waited is null ? "" : "Not taken up: ")}{Word(worst.Severity)}: {worst.What}", more);
        }
        return over is [var one] ? Line($"Over: {one.CheckName} on {one.Label}") : Line($"Over: {over.Count} alerts");
    }

    private static void Lines(StringBuilder body, IReadOnlyList<ToldLine> lines, TimeZoneInfo zone, bool withAdvice)
    {
        foreach (var line in lines.Take(MostLines))
        {
            var lead = line.Alerts[0];
            body.Append(CultureInfo.InvariantCulture, $"{Capital(Word(line.Severity))}: {Clean(line.What)}\n");
            if (line.Alerts.Count == 1)
            {
                body.Append(CultureInfo.InvariantCulture, $"  {Clean(lead.GroupPath)}, since {At(lead.At, zone)}\n");
            }
            else
            {
                body.Append(CultureInfo.InvariantCulture, $"  Since {At(line.Alerts.Min(a => a.At), zone)}\n");
                foreach (var alert in line.Alerts.Take(MostNamed))
                {
                    body.Append(CultureInfo.InvariantCulture, $"  - {Clean(alert.Label)} ({Clean(alert.GroupPath)}){(alert.CheckName == lead.CheckName ? "" : ": " + Clean(alert.What))}\n");
                }
                if (line.Alerts.Count > MostNamed)
                {
                    body.Append(CultureInfo.InvariantCulture, $"  - and {line.Alerts.Count - MostNamed} more\n");
                }
            }
            if (withAdvice)
            {
                Said(body, "What follows", lead.Follows);
                Said(body, "What to do", lead.Fix);
            }
            Said(body, "Look at it", lead.Address);
            body.Append('\n');
        }
        if (lines.Count > MostLines)
        {
            body.Append(CultureInfo.InvariantCulture, $"And {lines.Count - MostLines} more lines; the console has them all.\n\n");
        }
    }

    private static void Ended(StringBuilder body, IReadOnlyList<ToldAlert> over, TimeZoneInfo zone)
    {
        if (over.Count == 0)
        {
            return;
        }
        body.Append("Over:\n");
        foreach (var alert in over.Take(MostLines))
        {
            body.Append(CultureInfo.InvariantCulture, $"  - {Clean(alert.CheckName)} on {Clean(alert.Label)} ({Clean(alert.GroupPath)}), raised {At(alert.At, zone)}\n");
        }
        if (over.Count > MostLines)
        {
            body.Append(CultureInfo.InvariantCulture, $"  - and {over.Count - MostLines} more\n");
        }
        body.Append('\n');
    }

    private static void Said(StringBuilder body, string what, string? text)
    {
        if (!string.IsNullOrWhiteSpace(text))
        {
            body.Append(CultureInfo.InvariantCulture, $"  {what}: {Clean(text)}\n");
        }
    }

    private static string Close(StringBuilder body, string notice) => body.Append(CultureInfo.InvariantCulture, $"-- \nUmbrek, notice '{Clean(notice)}'. Who is told what stands in the console under Rules, Notices.\n").ToString();

    /// <summary>A subject: one line, not too long, its end kept.</summary>
    private static string Line(string text, string end = "")
    {
        var clean = Clean(text);
        return (clean.Length + end.Length <= MostSubject ? clean : clean[..(MostSubject - end.Length - 1)].TrimEnd() + "…") + end;
    }

    private static string Clean(string text) => TerminalText.Line(text);

    private static string At(DateTimeOffset at, TimeZoneInfo zone) => TimeZoneInfo.ConvertTime(at, zone).ToString("ddd d MMM HH:mm", CultureInfo.InvariantCulture);

    private static string Word(Severity severity) => severity switch { Severity.Critical => "critical", Severity.Warning => "warning", _ => "information" };

    private static string Capital(string word) => char.ToUpperInvariant(word[0]) + word[1..];

    private static string Count(int n, string what) => n == 1 ? $"1 {what}" : $"{n} {what}s";
}
