namespace Umbrek.Core.Jobs;

/// <summary>Which steps of a runbook run, and how the run ends: decisions about what has ended before, and nothing else.</summary>
public static class RunbookWalk
{
    /// <param name="ended">How the steps before it ended, in order.</param>
    /// <param name="values">Of the parameters, by name.</param>
    /// <returns>Null when the step is to run, else a sentence that says why not.</returns>
    public static string? WhyNot(IReadOnlyList<RunbookStep> steps, int index, IReadOnlyList<StepMark> ended, IReadOnlyDictionary<string, string> values)
    {
        var conditions = steps[index].When ?? [];
        if (!conditions.Any(c => !c.IsOfParameter) && FirstTrouble(steps, ended) is { } trouble)
        {
            return $"'{steps[trouble.Index].Name}' failed.";
        }
        return conditions.Select(c => WhyNot(c, steps, ended, values)).FirstOrDefault(w => w is not null);
    }

    /// <summary>How a run ends of which every step has ended or was left out.</summary>
    public static RunEnd End(IReadOnlyList<RunbookStep> steps, IReadOnlyList<StepMark> ended)
    {
        if (FirstTrouble(steps, ended) is { } trouble)
        {
            var which = $"Step {RunbookSteps.Place(trouble.Index, steps.Count)}, '{steps[trouble.Index].Name}',";
            var tries = trouble.Try > 1 ? $" in each of {trouble.Try} tries" : "";
            return trouble.State == StepState.TimedOut
                ? new RunEnd(RunOutcome.TimedOut, trouble.ExitStatus, $"{which} took longer than it may{tries}.")
                : new RunEnd(RunOutcome.Exited, trouble.ExitStatus is null or 0 ? 1 : trouble.ExitStatus, $"{which} {(trouble.Reason is { } reason && trouble.ExitStatus is 126 or 127 ? $"did not start{tries}: {reason}" : $"ended with exit status {trouble.ExitStatus}{tries}.")}");
        }
        return new RunEnd(RunOutcome.Exited, 0, ended.All(m => m.State == StepState.LeftOut) ? "The conditions of no step were met; nothing was run." : null);
    }

    /// <summary>The first step that failed and may not.</summary>
    private static StepMark? FirstTrouble(IReadOnlyList<RunbookStep> steps, IReadOnlyList<StepMark> ended) =>
        ended.FirstOrDefault(m => m.IsTrouble && !steps[m.Index].MayFail);

    private static string? WhyNot(StepCondition condition, IReadOnlyList<RunbookStep> steps, IReadOnlyList<StepMark> ended, IReadOnlyDictionary<string, string> values)
    {
        var mark = condition.IsOfStep ? ended.FirstOrDefault(m => steps[m.Index].Name == condition.Of) : null;
        var value = condition.IsOfParameter ? values.GetValueOrDefault(condition.Of!) ?? "" : "";
        return condition.Kind switch
        {
            ConditionKind.SomethingFailed => FirstTrouble(steps, ended) is null ? "Nothing has failed." : null,
            ConditionKind.Succeeded => mark?.State == StepState.Succeeded ? null : $"'{condition.Of}' {How(mark)}.",
            ConditionKind.Failed => mark?.IsTrouble == true ? null : $"'{condition.Of}' {How(mark)}.",
            ConditionKind.LeftOut => mark?.State == StepState.LeftOut ? null : $"'{condition.Of}' {How(mark)}.",
            ConditionKind.Exit => mark?.ExitStatus is { } status && condition.Exits!.Contains(status) ? null : $"'{condition.Of}' {(mark?.ExitStatus is { } other ? $"ended with exit status {other}" : How(mark))}.",
            ConditionKind.Is => value == (condition.Value ?? "") ? null : $"{condition.Of} is {Shown(value)}.",
            ConditionKind.IsNot => value != (condition.Value ?? "") ? null : $"{condition.Of} is {Shown(value)}.",
            _ => null,
        };
    }

    private static string Shown(string value) => value.Length == 0 ? "not given" : $"'{Text.TerminalText.Line(value, 60)}'";

    private static string How(StepMark? mark) => mark?.State switch
    {
        StepState.Succeeded => "succeeded",
        StepState.Failed => "failed",
        StepState.TimedOut => "took too long",
        StepState.LeftOut => "was left out",
        _ => "did not run",
    };
}
