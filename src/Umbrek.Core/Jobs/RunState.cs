namespace Umbrek.Core.Jobs;

/// <summary>A run's states. The last seven are final.</summary>
public enum RunState
{
    /// <summary>The host is away, or the order has not been sent yet.</summary>
    Waiting,
    Sent,
    Running,
    Succeeded,
    Failed,
    TimedOut,
    Refused,
    Cancelled,
    Expired,

    /// <summary>The host went down in the middle, or lost its journal: how the command ended can't be known.</summary>
    Interrupted,
}

public static class RunStates
{
    public static bool IsFinal(this RunState state) => state >= RunState.Succeeded;

    /// <summary>Ended, and not as it was meant to; that somebody cancelled it is no trouble.</summary>
    public static bool IsTrouble(this RunState state) => state.IsFinal() && state is not (RunState.Succeeded or RunState.Cancelled);
}

/// <summary>How a command ended, as the host saw it.</summary>
public enum RunOutcome
{
    Exited,
    Signalled,
    TimedOut,
    Cancelled,
    NotStarted,
    Refused,
    Interrupted,
}

/// <param name="ExitStatus">The exit status, 128 + the signal's number when a signal ended it, 127 or 126 when it could not start.</param>
/// <param name="Reason">One sentence where there is more to say.</param>
public sealed record RunEnd(RunOutcome Outcome, int? ExitStatus, string? Reason)
{
    public RunState State => Outcome switch
    {
        RunOutcome.Exited => ExitStatus == 0 ? RunState.Succeeded : RunState.Failed,
        RunOutcome.Signalled or RunOutcome.NotStarted => RunState.Failed,
        RunOutcome.TimedOut => RunState.TimedOut,
        RunOutcome.Cancelled => RunState.Cancelled,
        RunOutcome.Refused => RunState.Refused,
        _ => RunState.Interrupted,
    };
}
