namespace Umbrek.Core.Jobs;

/// <summary>
/// What to run: either a line for a shell, or an exact program with its arguments.
/// </summary>
public sealed record CommandSpec
{
    /// <summary>A line given to <see cref="Shell"/> with <c>-c</c>.</summary>
    public string? Line { get; init; }

    /// <summary>Program and arguments, run without a shell.</summary>
    public IReadOnlyList<string>? Arguments { get; init; }

    /// <summary>The shell for <see cref="Line"/>; null means /bin/sh.</summary>
    public string? Shell { get; init; }

    /// <summary>Absolute directory; null means the agent's own home.</summary>
    public string? WorkingDirectory { get; init; }

    /// <summary>Null means no limit.</summary>
    public double? TimeoutSeconds { get; init; }

    /// <summary>Most bytes of command text, so that an order always fits into one message of the link.</summary>
    public const int MaxTextBytes = 16 * 1024;

    /// <returns>Null when the command can be sent, else what is wrong with it and what to do.</returns>
    public string? Check()
    {
        if ((Line is null) == (Arguments is null))
        {
            return "Give either a line for the shell or a program with arguments, not both.";
        }
        if (Line is not null && string.IsNullOrWhiteSpace(Line))
        {
            return "The command is empty; write what to run.";
        }
        if (Arguments is not null && (Arguments.Count == 0 || Arguments[0].Length == 0))
        {
            return "The program's name is empty; write what to run.";
        }
        if (Arguments is not null && Shell is not null)
        {
            return "A shell goes with a command line, not with an exact program; leave one of them out.";
        }
        var texts = (Arguments ?? [Line!]).Append(Shell ?? "").Append(WorkingDirectory ?? "").ToList();
        if (texts.Exists(t => t.Contains('\0')))
        {
            return "The command holds a zero character, which no system accepts; leave it out.";
        }
        var bytes = texts.Sum(System.Text.Encoding.UTF8.GetByteCount);
        if (bytes > MaxTextBytes)
        {
            return $"The command has {bytes} bytes; {MaxTextBytes} is the most. Put longer work into a script on the host.";
        }
        if (WorkingDirectory is { } directory && !directory.StartsWith('/') && !(directory.Length > 2 && directory[1] == ':'))
        {
            return $"The working directory '{directory}' is not absolute; start it at the root.";
        }
        if (TimeoutSeconds is { } timeout && !(timeout > 0 && timeout <= 366 * 86400.0))
        {
            return "The time-out must be more than 0 seconds and at most a year; leave it out for no limit.";
        }
        return null;
    }

    /// <summary>The command as a person would read it.</summary>
    public string Display() => Line ?? string.Join(' ', (Arguments ?? []).Select(QuoteForReading));

    private static string QuoteForReading(string argument) =>
        argument.Length > 0 && argument.All(c => char.IsLetterOrDigit(c) || "-_./=:,+@%".Contains(c))
            ? argument
            : "'" + argument.Replace("'", "'\\''") + "'";
}
