using Umbrek.Core.Jobs;
using Umbrek.Core.Text;

namespace Umbrek.Agent.Jobs;

/// <summary>Runs the steps of a runbook one after the other.</summary>
/// <param name="run">Runs a step's command to its end; the token is the time of the whole runbook.</param>
/// <param name="note">Keeps what has become of a step.</param>
/// <param name="say">Puts a line between what the steps put out.</param>
/// <param name="cancelled">Somebody has cancelled the run.</param>
/// <param name="abandon">The keeper goes, and decides nothing more.</param>
internal sealed class StepWalk(
    CommandSpec command,
    IReadOnlyList<RunbookStep> steps,
    TimeProvider time,
    Func<CommandSpec, CancellationToken, Task<RunEnd>> run,
    Func<StepMark, Task> note,
    Func<string, Task> say,
    CancellationToken cancelled,
    CancellationToken abandon)
{
    private readonly IReadOnlyDictionary<string, string> values = command.Environment ?? new Dictionary<string, string>();
    private readonly List<StepMark> ended = [];

    public async Task<RunEnd> RunAsync()
    {
        using var whole = command.TimeoutSeconds is { } seconds
            ? new CancellationTokenSource(TimeSpan.FromSeconds(Math.Min(seconds, 4_000_000)), time)
            : new CancellationTokenSource();
        for (var index = 0; index < steps.Count; index++)
        {
            if (Cut(index, whole) is { } before)
            {
                return before;
            }
            if (RunbookWalk.WhyNot(steps, index, ended, values) is { } why)
            {
                await say($"{Heading(index)}: left out. {why}").ConfigureAwait(false);
                await EndAsync(new StepMark(index, StepState.LeftOut, Reason: why)).ConfigureAwait(false);
            }
            else if (await DoAsync(index, whole).ConfigureAwait(false) is { } cut)
            {
                return cut;
            }
        }
        return RunbookWalk.End(steps, ended);
    }

    /// <returns>Null when the step has ended by itself, else how the run ends with it.</returns>
    private async Task<RunEnd?> DoAsync(int index, CancellationTokenSource whole)
    {
        var step = steps[index];
        for (var attempt = 1; ; attempt++)
        {
            await say($"{Heading(index)}{(attempt > 1 ? $", try {attempt} of {step.Tries}" : "")}").ConfigureAwait(false);
            await note(new StepMark(index, StepState.Running, attempt)).ConfigureAwait(false);
            var end = await run(command.OfStep(step), whole.Token).ConfigureAwait(false);
            if (end.Outcome == RunOutcome.Cancelled || (end.Outcome == RunOutcome.TimedOut && whole.IsCancellationRequested))
            {
                await note(new StepMark(index, StepState.Stopped, attempt, end.ExitStatus)).ConfigureAwait(false);
                return Cut(index, whole) ?? end;
            }
            var state = end.State == RunState.Succeeded ? StepState.Succeeded : end.Outcome == RunOutcome.TimedOut ? StepState.TimedOut : StepState.Failed;
            if (state == StepState.Succeeded || attempt >= step.Tries)
            {
                await EndAsync(new StepMark(index, state, attempt, end.ExitStatus, end.Reason)).ConfigureAwait(false);
                return null;
            }
            if (step.PauseSeconds is > 0 and var pause)
            {
                using var either = CancellationTokenSource.CreateLinkedTokenSource(whole.Token, cancelled, abandon);
                await Task.Delay(TimeSpan.FromSeconds(pause), time, either.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                abandon.ThrowIfCancellationRequested();
            }
            if (Cut(index, whole) is { } cut)
            {
                await note(new StepMark(index, StepState.Stopped, attempt, end.ExitStatus, end.Reason)).ConfigureAwait(false);
                return cut;
            }
        }
    }

    private Task EndAsync(StepMark mark)
    {
        ended.Add(mark);
        return note(mark);
    }

    /// <returns>How the run ends at this step when somebody has cancelled it, or its time is over.</returns>
    private RunEnd? Cut(int index, CancellationTokenSource whole) =>
        cancelled.IsCancellationRequested ? new RunEnd(RunOutcome.Cancelled, null, $"Cancelled at step {Place(index)}.")
        : whole.IsCancellationRequested ? new RunEnd(RunOutcome.TimedOut, null, $"It was at step {Place(index)} after {Units.Span(TimeSpan.FromSeconds(command.TimeoutSeconds ?? 0))} and was ended.")
        : null;

    private string Place(int index) => $"{RunbookSteps.Place(index, steps.Count)}, '{steps[index].Name}'";

    private string Heading(int index) => $"[{RunbookSteps.Place(index, steps.Count)}] {steps[index].Name}";
}
