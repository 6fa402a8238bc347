using System.Text;
using System.Text.Json.Serialization;
using System.Text.RegularExpressions;
using Umbrek.Core.Access;

namespace Umbrek.Core.Jobs;

/// <summary>
/// What to run, and how: a line for a shell, an exact program with its arguments, a script, the steps of a runbook, or an act of the agent itself.
/// </summary>
public sealed partial record CommandSpec
{
    /// <summary>A line given to <see cref="Shell"/> with <c>-c</c>.</summary>
    public string? Line { get; init; }

    /// <summary>Program and arguments, run without a shell; beside a <see cref="Script"/> its arguments.</summary>
    public IReadOnlyList<string>? Arguments { get; init; }

    /// <summary>Text of a script. It is put into a file on the host, which <see cref="Shell"/> is given.</summary>
    public string? Script { get; init; }

    /// <summary>Steps of a runbook, one after the other; how they run is said for all of them.</summary>
    public IReadOnlyList<RunbookStep>? Steps { get; init; }

    /// <summary>Something that the agent does itself, as its own user.</summary>
    public HostAction? Action { get; init; }

    /// <summary>The shell for <see cref="Line"/>, or the program that reads the <see cref="Script"/>; null means /bin/sh, or what the script's first line says after "#!".</summary>
    public string? Shell { get; init; }

    /// <summary>Absolute directory; null means the home of the user that it runs as.</summary>
    public string? WorkingDirectory { get; init; }

    /// <summary>Set on top of the host's own environment.</summary>
    public IReadOnlyDictionary<string, string>? Environment { get; init; }

    /// <summary>What it reads on standard input; null means nothing.</summary>
    public byte[]? Input { get; init; }

    /// <summary>The system user that it runs as; null means the agent's own.</summary>
    public string? User { get; init; }

    /// <summary>From -20, first, to 19, last (setpriority(2)); null leaves the agent's own.</summary>
    public int? Niceness { get; init; }

    /// <summary>Null means no limit.</summary>
    public double? TimeoutSeconds { get; init; }

    /// <summary>What it puts out beyond so many bytes is read and not kept; null means <see cref="UsualOutputLimit"/>.</summary>
    public long? OutputLimitBytes { get; init; }

    /// <summary>Most bytes of command, script, environment and input together: an order is one message of the link.</summary>
    public const int MaxTextBytes = 64 * 1024;

    public const long UsualOutputLimit = 1L << 30;
    public const long MostOutputLimit = 1L << 36;

    private const int MostVariables = 200;

    [JsonIgnore]
    public long OutputLimit => OutputLimitBytes ?? UsualOutputLimit;

    /// <summary>As what the host's side counts it; null for a packet to a neighbour, which changes nothing on the host that sends it.</summary>
    [JsonIgnore]
    public HostAct? Act => Action switch { { Wake: not null } => null, { Power: not null } => HostAct.Power, { Deliver: not null } => HostAct.WriteFiles, _ => HostAct.Run };

    /// <summary>What somebody has to be granted who orders it.</summary>
    [JsonIgnore]
    public Permission Needs => Action switch { { Power: not null } or { Wake: not null } => Permission.Power, { Deliver: not null } => Permission.WriteFiles, _ => Permission.Run };

    /// <summary>Whether it says what to run and where, and nothing about how.</summary>
    [JsonIgnore]
    public bool IsPlain => Action is null && Script is null && Steps is null && User is null && Environment is null && Input is null && Niceness is null && TimeoutSeconds is null && OutputLimitBytes is null;

    /// <returns>Null when the command can be sent, else what is wrong with it and what to do.</returns>
    public string? Check()
    {
        if (Action is { } action)
        {
            return this == new CommandSpec { Action = action, TimeoutSeconds = TimeoutSeconds, OutputLimitBytes = OutputLimitBytes }
                ? action.Check() ?? CheckHow()
                : "What the agent does itself takes neither a command nor user, directory, variables, input or niceness; leave them out.";
        }
        if (Steps is not null)
        {
            return Line is not null || Arguments is not null || Script is not null || Shell is not null || Input is not null
                ? "A runbook takes neither a command nor arguments, a shell or input beside its steps; leave them out."
                : RunbookSteps.Check(Steps) ?? CheckTexts() ?? CheckHow();
        }
        if (Line is not null ? Arguments is not null || Script is not null : Arguments is null && Script is null)
        {
            return "Give one of these: a line for the shell, a program with its arguments, a script, or steps.";
        }
        if ((Line is not null && string.IsNullOrWhiteSpace(Line)) || (Script is not null && string.IsNullOrWhiteSpace(Script)))
        {
            return "The command is empty; write what to run.";
        }
        if (Script is null && Arguments is not null && (Arguments.Count == 0 || Arguments[0].Length == 0))
        {
            return "The program's name is empty; write what to run.";
        }
        if (Script is null && Arguments is not null && Shell is not null)
        {
            return "A shell goes with a command line or a script, not with an exact program; leave one of them out.";
        }
        return CheckTexts() ?? CheckHow();
    }

    private string? CheckTexts()
    {
        var texts = (Arguments ?? []).Concat([Line ?? "", Script ?? "", Shell ?? "", WorkingDirectory ?? ""]).Concat((Environment ?? new Dictionary<string, string>()).SelectMany(e => new[] { e.Key, e.Value }))
            .Concat((Steps ?? []).SelectMany(s => new[] { s.Name, s.Text, s.Shell ?? "", s.Note ?? "" })).ToList();
        if (texts.Exists(t => t is null))
        {
            return "An argument or a variable has no text; leave it out or make it empty.";
        }
        if (texts.Exists(t => t.Contains('\0')))
        {
            return "The command holds a zero character, which no system accepts; leave it out.";
        }
        var bytes = texts.Sum(Encoding.UTF8.GetByteCount) + (Input?.Length ?? 0);
        return bytes > MaxTextBytes ? $"Command, script, environment and input have {bytes} bytes together; {MaxTextBytes} is the most. Put longer work into a file on the host." : null;
    }

    private string? CheckHow()
    {
        if (WorkingDirectory is { } directory && !directory.StartsWith('/') && !(directory.Length > 2 && directory[1] == ':'))
        {
            return $"The working directory '{directory}' is not absolute; start it at the root.";
        }
        if (Environment is { } environment)
        {
            if (environment.Count > MostVariables)
            {
                return $"There are {environment.Count} variables; {MostVariables} is the most.";
            }
            if (environment.Keys.FirstOrDefault(k => !VariableName().IsMatch(k)) is { } wrong)
            {
                return $"'{wrong}' is no name of a variable; use letters, digits and _, and begin with no digit.";
            }
        }
        if (User is { } user && !SystemUserName.IsOne(user))
        {
            return SystemUserName.Problem(user);
        }
        if (Niceness is < -20 or > 19)
        {
            return "Niceness goes from -20, which runs first, to 19, which runs last.";
        }
        if (TimeoutSeconds is { } timeout && !(timeout > 0 && timeout <= 366 * 86400.0))
        {
            return "The time-out must be more than 0 seconds and at most a year; leave it out for no limit.";
        }
        return OutputLimitBytes is < 0 or > MostOutputLimit ? $"The output limit goes from 0 to {Text.Units.Bytes(MostOutputLimit)}; leave it out for {Text.Units.Bytes(UsualOutputLimit)}." : null;
    }

    /// <summary>What those may see of it who may see that it was run, and not run it: nothing that may be a secret.</summary>
    public CommandSpec ForOnlookers() => this with
    {
        Script = Script is null ? null : "",
        Steps = Steps?.Select(s => new RunbookStep(s.Name, "")).ToList(),
        Environment = Environment?.ToDictionary(e => e.Key, _ => ""),
        Input = Input is null ? null : [],
    };

    /// <summary>One of the <see cref="Steps"/> as a command of its own.</summary>
    public CommandSpec OfStep(RunbookStep step) => this with { Steps = null, Script = step.Text, Shell = step.Shell, TimeoutSeconds = step.TimeoutSeconds };

    /// <summary>The command as a person would read it: a script by its length and its first line that says something.</summary>
    public string Display()
    {
        if (Action is { } action)
        {
            return action.Display();
        }
        if (Steps is { } steps)
        {
            return $"runbook of {steps.Count} {(steps.Count == 1 ? "step" : "steps")}: {string.Join(", ", steps.Take(3).Select(s => s.Name))}{(steps.Count > 3 ? ", …" : "")}";
        }
        if (Script is not { } script)
        {
            return Line ?? string.Join(' ', (Arguments ?? []).Select(QuoteForReading));
        }
        var lines = script.TrimEnd().Split('\n');
        var telling = lines.Select(l => l.Trim()).FirstOrDefault(l => l.Length > 0 && !l.StartsWith("#!", StringComparison.Ordinal)) ?? "";
        var first = telling.Length > 60 ? string.Concat(telling.AsSpan(0, char.IsHighSurrogate(telling[58]) ? 58 : 59), "…") : telling;
        return string.Join(' ', [$"script of {lines.Length} {(lines.Length == 1 ? "line" : "lines")}: {first}", .. (Arguments ?? []).Select(QuoteForReading)]);
    }

    /// <summary>An argument as a shell of POSIX would read it.</summary>
    public static string QuoteForReading(string argument) =>
        argument.Length > 0 && argument.All(c => char.IsLetterOrDigit(c) || "-_./=:,+@%".Contains(c))
            ? argument
            : "'" + argument.Replace("'", "'\\''") + "'";

    /// <summary>Whether a variable of the environment can have this name: POSIX.1-2017, Base Definitions, section 8.1.</summary>
    public static bool IsVariableName(string? name) => name is not null && VariableName().IsMatch(name);

    [GeneratedRegex(@"^[A-Za-z_][A-Za-z0-9_]{0,99}\z")]
    private static partial Regex VariableName();
}
