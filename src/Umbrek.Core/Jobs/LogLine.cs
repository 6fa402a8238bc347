namespace Umbrek.Core.Jobs;

/// <summary>How grave a line of a log is: RFC 5424, 6.2.1, from worst to least.</summary>
public enum LogSeverity
{
    Emergency,
    Alert,
    Critical,
    Error,
    Warning,
    Notice,
    Information,
    Debug,
}

/// <summary>A line of a log.</summary>
/// <param name="At">Null where the line does not say.</param>
/// <param name="Severity">Null where it is not known.</param>
/// <param name="Source">What wrote it.</param>
/// <param name="Pid">The process that wrote it.</param>
/// <param name="Text">What it says; of a line that could not be read to its beginnings, all of it.</param>
public sealed record LogLine(DateTimeOffset? At, LogSeverity? Severity, string? Source, int? Pid, string Text);

/// <summary>Which lines of a log are wanted.</summary>
/// <param name="Text">Lines that hold it, letters of either case.</param>
/// <param name="Least">Lines that are at least as grave; those of which that is not known are left out.</param>
public sealed record LogFilter(string? Text = null, LogSeverity? Least = null, DateTimeOffset? Since = null, DateTimeOffset? Until = null)
{
    /// <param name="lastAt">The time of the line before: one without a time of its own belongs to it.</param>
    public bool Takes(LogLine line, DateTimeOffset? lastAt = null)
    {
        var at = line.At ?? lastAt;
        return (Least is not { } least || line.Severity <= least)
            && (Since is not { } since || at >= since)
            && (Until is not { } until || at < until)
            && (Text is not { Length: > 0 } text || line.Text.Contains(text, StringComparison.OrdinalIgnoreCase) || line.Source?.Contains(text, StringComparison.OrdinalIgnoreCase) == true);
    }
}
