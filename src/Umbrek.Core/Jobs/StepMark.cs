namespace Umbrek.Core.Jobs;

/// <summary>A step's states in a run. All but the first are final.</summary>
public enum StepState
{
    Running,
    Succeeded,
    Failed,
    TimedOut,

    /// <summary>Its conditions were not met.</summary>
    LeftOut,

    /// <summary>The run was cancelled, or came to its own time limit, while it ran.</summary>
    Stopped,
}

/// <summary>What a run says of one of its steps.</summary>
/// <param name="Index">Which step, counted from 0.</param>
/// <param name="Try">Which try of it, counted from 1.</param>
/// <param name="ExitStatus">As a shell reports it; null where nothing ended.</param>
/// <param name="Reason">One sentence where there is more to say.</param>
public sealed record StepMark(int Index, StepState State, int Try = 1, int? ExitStatus = null, string? Reason = null)
{
    public bool IsTrouble => State is StepState.Failed or StepState.TimedOut;
}

/// <summary>A step of a run, as far as is known.</summary>
public sealed record StepStatus(int Index, StepState State, int Tries, DateTimeOffset? StartedAt, DateTimeOffset? EndedAt, int? ExitStatus, string? Reason)
{
    /// <summary>The list with what the mark says; steps come in order, so a new one goes to the end.</summary>
    public static IReadOnlyList<StepStatus> Apply(IReadOnlyList<StepStatus>? known, StepMark mark, DateTimeOffset at)
    {
        var steps = (known ?? []).ToList();
        var place = steps.FindIndex(s => s.Index == mark.Index);
        var before = place < 0 ? null : steps[place];
        var after = mark.State switch
        {
            StepState.Running => new StepStatus(mark.Index, mark.State, mark.Try, before?.StartedAt ?? at, null, null, mark.Reason),
            StepState.LeftOut => new StepStatus(mark.Index, mark.State, 0, null, at, null, mark.Reason),
            _ => new StepStatus(mark.Index, mark.State, mark.Try, before?.StartedAt ?? at, at, mark.ExitStatus, mark.Reason),
        };
        if (place >= 0)
        {
            steps[place] = after;
        }
        else if (steps.Count < RunbookSteps.Most)
        {
            steps.Add(after);
        }
        return steps;
    }
}
