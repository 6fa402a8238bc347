namespace Umbrek.Core.Jobs;

public enum RunEventKind
{
    Accepted,
    Started,
    Stdout,
    Stderr,
    Ended,

    /// <summary>A step of a runbook began, ended or was left out.</summary>
    Step,
}

/// <param name="Pid">Process id of the command on its host.</param>
/// <param name="User">The system user it runs as.</param>
public sealed record RunStart(int Pid, string User);

/// <summary>
/// One line of a run's journal, and what travels of it. Sequences start at 0 (accepted) and have no gaps within a run;
/// the service keeps each (run, sequence) once, however often it is delivered.
/// </summary>
public sealed record RunEvent
{
    public required Guid RunId { get; init; }
    public required long Sequence { get; init; }
    public required DateTimeOffset At { get; init; }
    public required RunEventKind Kind { get; init; }

    /// <summary>With stdout and stderr: at most <see cref="MaxDataBytes"/> bytes as the command wrote them.</summary>
    public byte[]? Data { get; init; }
    public RunStart? Start { get; init; }
    public RunEnd? End { get; init; }
    public StepMark? Step { get; init; }

    public const int MaxDataBytes = 16 * 1024;
}

/// <summary>What is known of a run; <see cref="Apply"/> folds events into it.</summary>
public sealed record RunStatus(
    RunState State,
    DateTimeOffset? AcceptedAt = null,
    DateTimeOffset? StartedAt = null,
    DateTimeOffset? EndedAt = null,
    int? ExitStatus = null,
    string? Reason = null,
    string? User = null,
    long LastSequence = -1,
    long StdoutBytes = 0,
    long StderrBytes = 0,
    IReadOnlyList<StepStatus>? Steps = null)
{
    /// <summary>
    /// Takes the next event. One that was taken before changes nothing; a final state that the service set by itself
    /// (expired, or interrupted because the host lost its journal) gives way to what the host really reports.
    /// </summary>
    public RunStatus Apply(RunEvent e)
    {
        if (e.Sequence <= LastSequence)
        {
            return this;
        }
        var next = this with { LastSequence = e.Sequence };
        return e.Kind switch
        {
            RunEventKind.Accepted => next with { State = RunState.Running, AcceptedAt = e.At, Reason = null },
            RunEventKind.Started => next with { State = RunState.Running, StartedAt = e.At, User = e.Start?.User, Reason = null },
            RunEventKind.Stdout => next with { StdoutBytes = StdoutBytes + (e.Data?.Length ?? 0) },
            RunEventKind.Stderr => next with { StderrBytes = StderrBytes + (e.Data?.Length ?? 0) },
            RunEventKind.Step when e.Step is { Index: >= 0 and < RunbookSteps.Most } mark => next with { Steps = StepStatus.Apply(Steps, mark, e.At) },
            RunEventKind.Ended when e.End is { } end => next with { State = end.State, EndedAt = e.At, ExitStatus = end.ExitStatus, Reason = end.Reason },
            _ => next,
        };
    }
}
