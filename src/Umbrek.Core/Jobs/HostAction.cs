using System.Globalization;
using Umbrek.Core.Files;
using Umbrek.Core.Text;

namespace Umbrek.Core.Jobs;

/// <summary>Something that the agent does itself, without a program of the host: one of these is said.</summary>
public sealed record HostAction
{
    public EndProcesses? End { get; init; }
    public RankProcesses? Rank { get; init; }
    public FindProcesses? Find { get; init; }
    public ServiceWish? Service { get; init; }

    public PowerWish? Power { get; init; }
    public WakeWish? Wake { get; init; }
    public DeliverFiles? Deliver { get; init; }

    /// <returns>Null when it can be sent, else what is wrong with it and what to do.</returns>
    public string? Check() => new object?[] { End, Rank, Find, Service, Power, Wake, Deliver }.Count(said => said is not null) != 1 ? "Say one thing that the agent is to do." : this switch
    {
        { End: { } end } => end.Which?.Check() ?? (end.Which is null ? ProcessChoice.Nobody : end.GraceSeconds is < 0 or > 600 ? "The time to end by itself goes from 0 to 600 seconds." : null),
        { Rank: { } rank } => rank.Which?.Check() ?? (rank.Which is null ? ProcessChoice.Nobody : rank.Niceness is < -20 or > 19 ? "Niceness goes from -20, which runs first, to 19, which runs last." : null),
        { Find: { } find } => string.IsNullOrWhiteSpace(find.Text) || find.Text.Length > ProcessChoice.LongestName ? $"Say what to look for among the processes, in at most {ProcessChoice.LongestName} characters." : null,
        { Service: { } service } => service.Check(),
        { Power: { } power } => power.Check(),
        { Deliver: { } deliver } => deliver.Check(),
        _ => Wake!.Check(),
    };

    /// <summary>In words: what whoever is asked about it, and the audit log, read.</summary>
    public string Display() => this switch
    {
        { End: { } end } => $"{(end.Force ? "kill" : "end")} {end.Which.Display()}",
        { Rank: { } rank } => $"set niceness {rank.Niceness} for {rank.Which.Display()}",
        { Find: { } find } => $"find processes with '{TerminalText.Line(find.Text)}'",
        { Service: { } service } => service.Display(),
        { Power: { } power } => power.Display(),
        { Wake: { } wake } => wake.Display(),
        { Deliver: { } deliver } => deliver.Display(),
        _ => "nothing",
    };
}

/// <summary>Asks processes to end, and ends those that do not.</summary>
/// <param name="Force">They are not asked.</param>
/// <param name="GraceSeconds">How long they have, once asked; who is left then is said, not ended.</param>
public sealed record EndProcesses(ProcessChoice Which, bool Force = false, double GraceSeconds = EndProcesses.UsualGrace)
{
    public const double UsualGrace = 10;
}

/// <summary>Gives processes another niceness.</summary>
public sealed record RankProcesses(ProcessChoice Which, int Niceness);

/// <summary>Says which processes have a text in what is shown of them.</summary>
public sealed record FindProcesses(string Text);

/// <summary>Which processes: certain ones of one boot, or all of a program.</summary>
/// <param name="Boot">With <paramref name="Marks"/>: the boot that they are of.</param>
/// <param name="Program">The program's name, without the directory, in full.</param>
/// <param name="User">With a program: only those of this user.</param>
public sealed record ProcessChoice(IReadOnlyList<ProcessMark>? Marks = null, string? Boot = null, string? Program = null, string? User = null)
{
    public const int LongestName = 200;
    public const int MostMarks = 200;
    public const string Nobody = "Say which processes: some by their numbers, or all of a program by its name.";

    public string? Check()
    {
        if (Marks is not null ? Program is not null : string.IsNullOrWhiteSpace(Program))
        {
            return Nobody;
        }
        if (Marks is { } marks)
        {
            return marks.Count is 0 or > MostMarks ? $"Name 1 to {MostMarks} processes at once."
                : string.IsNullOrEmpty(Boot) ? "Processes named by number need the id of the host's boot beside them; read the list again."
                : marks.Any(m => m is not { Pid: > 0, Start: >= 0, Name: not null }) ? "A process is named by its number, its start and its name; read the list again."
                : null;
        }
        return Program!.Length > LongestName || Program.Contains('/') ? $"'{TerminalText.Line(Program)}' is no program's name; write it without the directory." : null;
    }

    public string Display()
    {
        if (Marks is not { } marks)
        {
            return $"every '{TerminalText.Line(Program ?? "")}'{(User is null ? "" : $" of {User}")}";
        }
        var named = string.Join(", ", marks.Take(5).Select(m => string.Create(CultureInfo.InvariantCulture, $"{TerminalText.Line(m.Name)} ({m.Pid})")));
        return marks.Count > 5 ? $"{named} and {marks.Count - 5} more" : named;
    }

    /// <summary>Those of a reading that are meant.</summary>
    public IReadOnlyList<HostProcess> Of(ProcessReading reading) => Marks is { } marks
        ? [.. reading.Processes.Where(p => marks.Any(m => m.Pid == p.Pid && m.Start == p.Start))]
        : [.. reading.Processes.Where(p => p.IsProgram(Program!) && (User is null || p.User == User))];
}
