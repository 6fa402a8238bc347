using System.Text.Json.Serialization;
using System.Text.RegularExpressions;
using Umbrek.Core.Jobs;

namespace Umbrek.Core.Shell;

/// <summary>What a technician wants of a host's shell: a new one, or one that goes on there.</summary>
public sealed partial record ShellWish
{
    /// <summary>A shell that goes on; null begins one.</summary>
    public Guid? ShellId { get; init; }

    /// <summary>The id under which a new one begins. When one of that id goes on there it is that one: what is asked for again after a broken line begins once.</summary>
    public Guid? BeginAs { get; init; }

    /// <summary>With <see cref="ShellId"/>: how many bytes of its output were seen already.</summary>
    public long Seen { get; init; }

    /// <summary>A terminal of this size; null means pipes, whose bytes arrive as they were written and whose two outputs stay apart.</summary>
    public TerminalSize? Terminal { get; init; }

    /// <summary>The kind of terminal, as terminfo(5) names it; null means xterm-256color.</summary>
    public string? TerminalType { get; init; }

    /// <summary>What to run; null means the user's own shell.</summary>
    public CommandSpec? Command { get; init; }

    /// <summary>The system user that it runs as; null means the agent's.</summary>
    public string? User { get; init; }

    /// <summary>How long it goes on when nobody is connected to it, in seconds; null means <see cref="DefaultKeepSeconds"/>.</summary>
    public int? KeepSeconds { get; init; }

    /// <summary>How long a terminal stays open without a key, in seconds; null means <see cref="DefaultIdleSeconds"/>.</summary>
    public int? IdleSeconds { get; init; }

    public const int DefaultKeepSeconds = 600;
    public const int DefaultIdleSeconds = 3600;
    public const int MostSeconds = 86_400;
    public const string DefaultTerminalType = "xterm-256color";

    [JsonIgnore]
    public TimeSpan Keep => TimeSpan.FromSeconds(KeepSeconds ?? DefaultKeepSeconds);

    [JsonIgnore]
    public TimeSpan Idle => TimeSpan.FromSeconds(IdleSeconds ?? DefaultIdleSeconds);

    /// <returns>Null when it can be sent, else what is wrong with it and what to do.</returns>
    public string? Check()
    {
        if (Terminal is { } size && size != size.Within())
        {
            return $"A terminal of {size.Columns} by {size.Rows} characters can't be; from 1 to {TerminalSize.Most} each way are possible.";
        }
        if (TerminalType is { } type && !TypeName().IsMatch(type))
        {
            return "The kind of terminal is no name of one; write it as TERM has it, for example xterm-256color.";
        }
        if (User is { } user && !SystemUserName.IsOne(user))
        {
            return SystemUserName.Problem(user);
        }
        if (Terminal is null && Command is null && ShellId is null)
        {
            return "Without a terminal there has to be a command; say what to run.";
        }
        if (KeepSeconds is < 0 or > MostSeconds || IdleSeconds is < 60 or > MostSeconds)
        {
            return "A shell goes on alone for at most a day, and waits for a key from a minute to a day.";
        }
        if (BeginAs is { } own && (ShellId is not null || own == Guid.Empty))
        {
            return "A shell either begins under an id, or goes on under one; say which.";
        }
        if (Seen < 0)
        {
            return "What was seen of a shell can't be less than nothing.";
        }
        if (Command is { IsPlain: false })
        {
            return "A shell takes a line or a program; scripts, variables, input and limits are for jobs.";
        }
        return Command?.Check();
    }

    /// <summary>What it runs, as a person would read it.</summary>
    public string Display() => Command?.Display() ?? "login shell";

    [GeneratedRegex("^[A-Za-z0-9][A-Za-z0-9.+_-]{0,39}$")]
    private static partial Regex TypeName();
}
