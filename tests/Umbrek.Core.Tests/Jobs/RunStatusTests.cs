using CsCheck;
using Umbrek.Core.Jobs;

namespace Umbrek.Core.Tests.Jobs;

public sealed class RunStatusTests
{
    private static readonly Guid Run = Guid.CreateVersion7();
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);

    private static readonly RunEvent[] Whole =
    [
        Event(0, RunEventKind.Accepted),
        Event(1, RunEventKind.Started) with { Start = new RunStart(7, "root") },
        Event(2, RunEventKind.Stdout) with { Data = [1, 2, 3] },
        Event(3, RunEventKind.Stderr) with { Data = [4] },
        Event(4, RunEventKind.Stdout) with { Data = [5] },
        Event(5, RunEventKind.Ended) with { End = new RunEnd(RunOutcome.Exited, 0, null) },
    ];

    [Fact]
    public void A_run_ends_with_everything_counted_once()
    {
        var end = Whole.Aggregate(new RunStatus(RunState.Sent), (s, e) => s.Apply(e));
        end.ShouldBe(new RunStatus(RunState.Succeeded, Noon, Noon.AddSeconds(1), Noon.AddSeconds(5), 0, null, "root", 5, 4, 1));
    }

    [Fact]
    public void Delivering_any_prefix_again_and_again_changes_nothing() =>
        Gen.Int[0, Whole.Length].List[1, 6].Sample(restarts =>
        {
            // Each broken link starts again somewhere before its end, in order, as an agent does.
            var status = new RunStatus(RunState.Sent);
            foreach (var upTo in restarts.Append(Whole.Length))
            {
                status = Whole.Take(upTo).Aggregate(status, (s, e) => s.Apply(e));
            }
            status.ShouldBe(Whole.Aggregate(new RunStatus(RunState.Sent), (s, e) => s.Apply(e)));
        });

    [Fact]
    public void What_the_host_reports_beats_what_the_service_guessed()
    {
        var guessed = new RunStatus(RunState.Interrupted, Noon, LastSequence: 1, Reason: "lost");
        guessed.Apply(Whole[5]).State.ShouldBe(RunState.Succeeded);
    }

    [Theory]
    [InlineData(RunOutcome.Exited, 0, RunState.Succeeded)]
    [InlineData(RunOutcome.Exited, 3, RunState.Failed)]
    [InlineData(RunOutcome.Signalled, 137, RunState.Failed)]
    [InlineData(RunOutcome.NotStarted, 127, RunState.Failed)]
    [InlineData(RunOutcome.TimedOut, null, RunState.TimedOut)]
    [InlineData(RunOutcome.Cancelled, null, RunState.Cancelled)]
    [InlineData(RunOutcome.Refused, null, RunState.Refused)]
    [InlineData(RunOutcome.Interrupted, null, RunState.Interrupted)]
    public void Every_outcome_has_its_state(RunOutcome outcome, int? status, RunState state)
    {
        new RunEnd(outcome, status, null).State.ShouldBe(state);
        state.IsFinal().ShouldBeTrue();
    }

    [Theory]
    [InlineData(null, null, "one of these")]
    [InlineData("x", "y", "one of these")]
    [InlineData(" ", null, "empty")]
    [InlineData("a\0b", null, "zero character")]
    public void A_command_that_cannot_be_sent_says_why(string? line, string? program, string word) =>
        new CommandSpec { Line = line, Arguments = program is null ? null : [program] }.Check().ShouldNotBeNull().ShouldContain(word);

    [Fact]
    public void Limits_of_a_command_are_checked()
    {
        new CommandSpec { Line = new string('x', 70_000) }.Check()!.ShouldContain("70000 bytes");
        new CommandSpec { Line = new string('x', 40_000), Input = new byte[40_000] }.Check()!.ShouldContain("80000 bytes");
        new CommandSpec { Line = "x", OutputLimitBytes = CommandSpec.MostOutputLimit + 1 }.Check()!.ShouldContain("64.0 GiB");
        new CommandSpec { Line = "x", WorkingDirectory = "relative" }.Check()!.ShouldContain("not absolute");
        new CommandSpec { Line = "x", TimeoutSeconds = 0 }.Check()!.ShouldContain("time-out");
        new CommandSpec { Line = "x", TimeoutSeconds = double.NaN }.Check()!.ShouldContain("time-out");
        new CommandSpec { Arguments = ["df", "-h"] }.Check().ShouldBeNull();
    }

    [Fact]
    public void A_program_is_shown_as_it_could_be_typed() =>
        new CommandSpec { Arguments = ["grep", "-r", "two words", "it's", ""] }.Display().ShouldBe("grep -r 'two words' 'it'\\''s' ''");

    private static RunEvent Event(long sequence, RunEventKind kind) => new() { RunId = Run, Sequence = sequence, At = Noon.AddSeconds(sequence), Kind = kind };
}
