using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;
using Umbrek.Tests;

namespace Umbrek.Agent.Tests.Jobs;

/// <summary>Runbooks as a keeper runs them: real processes in a process of its own.</summary>
public sealed class RunbookTests : IDisposable
{
    private readonly TestDirectory directory = new();

    public void Dispose() => directory.Dispose();

    [Fact]
    public async Task Steps_run_one_after_the_other_and_say_what_became_of_them()
    {
        var events = await KeepAsync("""
            ## Look
            - may fail
            ```
            echo looking; echo no >&2; exit 3
            ```
            ## Mend
            - when: "Look" ended with 3
            - when: MODE is full
            ```bash
            printf "mending $MODE in ${BASH##*/}"
            ```
            ## Shout
            - when: "Look" succeeded
            ```
            echo shouting
            ```
            ## Tell
            ```python3
            import os
            print(os.environ["MODE"])
            ```
            """);
        events.Select(e => e.Sequence).ShouldBe(Enumerable.Range(0, events.Count).Select(i => (long)i));
        TestRun.Text(events, RunEventKind.Stdout).ShouldBe("[1 of 4] Look\nlooking\n[2 of 4] Mend\nmending full in bash\n[3 of 4] Shout: left out. 'Look' failed.\n[4 of 4] Tell\nfull\n");
        TestRun.Text(events, RunEventKind.Stderr).ShouldBe("no\n");
        events.Count(e => e.Kind == RunEventKind.Started).ShouldBe(1);
        Marks(events).ShouldBe([
            new(0, StepState.Running), new(0, StepState.Failed, 1, 3), new(1, StepState.Running), new(1, StepState.Succeeded, 1, 0),
            new(2, StepState.LeftOut, Reason: "'Look' failed."), new(3, StepState.Running), new(3, StepState.Succeeded, 1, 0)]);
        events[^1].End.ShouldBe(new RunEnd(RunOutcome.Exited, 0, null));
    }

    [Fact]
    public async Task A_step_is_tried_until_it_ends_well_and_the_rest_is_left_out_when_it_never_does()
    {
        var counter = directory.In("counter");
        var events = await KeepAsync($"""
            ## Third time
            - tries: 5, 0.05 s apart
            ```
            echo x >> {counter}; test "$(wc -l < {counter})" = 3
            ```
            ## Never
            - tries: 2
            ```
            exit 9
            ```
            ## After
            ```
            echo never
            ```
            ## Clean up
            - when: always
            ```
            rm {counter}
            ```
            """);
        TestRun.Text(events, RunEventKind.Stderr).ShouldBe("");
        Marks(events).Where(m => m.State != StepState.Running).ShouldBe([
            new(0, StepState.Succeeded, 3, 0), new(1, StepState.Failed, 2, 9), new(2, StepState.LeftOut, Reason: "'Never' failed."), new(3, StepState.Succeeded, 1, 0)]);
        File.Exists(counter).ShouldBeFalse();
        events[^1].End.ShouldBe(new RunEnd(RunOutcome.Exited, 9, "Step 2 of 4, 'Never', ended with exit status 9 in each of 2 tries."));
        TestRun.Text(events, RunEventKind.Stdout).ShouldContain("[1 of 4] Third time, try 3 of 5\n");
    }

    [Fact]
    public async Task A_program_that_is_not_there_fails_its_step_and_what_takes_too_long_is_ended()
    {
        var events = await KeepAsync("""
            ## Missing
            - may fail
            ```no-such-program-here
            x
            ```
            ## Long
            - time-out: 0.3 s
            ```
            sleep 300
            ```
            """);
        Marks(events).Where(m => m.State != StepState.Running).Select(m => (m.State, m.ExitStatus)).ShouldBe([(StepState.Failed, 127), (StepState.TimedOut, 143)]);
        Marks(events)[1].Reason!.ShouldContain("no-such-program-here");
        events[^1].End.ShouldBe(new RunEnd(RunOutcome.TimedOut, 143, "Step 2 of 2, 'Long', took longer than it may."));
    }

    [Fact]
    public async Task The_time_of_all_of_it_ends_the_step_that_runs_and_the_rest_does_not_run()
    {
        var events = await KeepAsync("""
            - time-out: 0.5 s
            ## Long
            - may fail
            ```
            sleep 300
            ```
            ## After
            - when: always
            ```
            echo never
            ```
            """);
        Marks(events)[^1].ShouldBe(new StepMark(0, StepState.Stopped, 1, 143));
        events[^1].End!.Outcome.ShouldBe(RunOutcome.TimedOut);
        events[^1].End!.Reason!.ShouldStartWith("It was at step 1 of 2, 'Long' after ");
        TestRun.Text(events, RunEventKind.Stdout).ShouldNotContain("never");
    }

    [Theory]
    [InlineData("sleep 300", 143)]
    [InlineData("echo once; exit 4", 4)]
    public async Task Cancelling_ends_the_step_that_runs_or_waits_for_its_next_try(string text, int status)
    {
        var run = TestRun.Accept(directory, Command($"""
            ## First
            - tries: 3, 10 min apart
            ```
            {text}
            ```
            ## Clean up
            - when: always
            ```
            echo never
            ```
            """));
        await using var keeper = TestRun.StartKeeper(run);
        await Wait.UntilAsync(() => TestRun.Read(run).Exists(e => e.Kind == RunEventKind.Step) && (status != 4 || TestRun.Text(TestRun.Read(run), RunEventKind.Stdout).Contains("once")), "the first step to run");
        await File.WriteAllTextAsync(run.CancelFile, "");
        using (var agent = new System.Net.Sockets.Socket(System.Net.Sockets.AddressFamily.Unix, System.Net.Sockets.SocketType.Stream, System.Net.Sockets.ProtocolType.Unspecified))
        {
            await agent.ConnectAsync(new System.Net.Sockets.UnixDomainSocketEndPoint(run.Socket));
            await Wait.UntilAsync(() => keeper.HasExited, "the keeper to end");
        }
        var events = TestRun.Read(run);
        Marks(events)[^1].ShouldBe(new StepMark(0, StepState.Stopped, 1, status));
        events[^1].End.ShouldBe(new RunEnd(RunOutcome.Cancelled, null, "Cancelled at step 1 of 2, 'First'."));
        TestRun.Text(events, RunEventKind.Stdout).ShouldNotContain("never");
    }

    [Fact]
    public async Task A_keeper_that_dies_between_steps_leaves_what_is_known_and_guesses_nothing()
    {
        var run = TestRun.Accept(directory, Command("""
            ## First
            ```
            echo first
            ```
            ## Second
            ```
            sleep 300
            ```
            """));
        await using (var keeper = TestRun.StartKeeper(run))
        {
            await Wait.UntilAsync(() => Marks(TestRun.Read(run)).Exists(m => m.Index == 1), "the second step to run");
            await keeper.KillAsync();
        }
        await using var next = TestRun.StartKeeper(run);
        await Wait.UntilAsync(() => next.HasExited, "the next keeper to end");
        var events = TestRun.Read(run);
        events[^1].End!.Outcome.ShouldBe(RunOutcome.Interrupted);
        events.Aggregate(new RunStatus(RunState.Sent), (s, e) => s.Apply(e)).Steps!.Select(s => (s.State, s.ExitStatus)).ShouldBe([(StepState.Succeeded, 0), (StepState.Running, null)]);
        TestRun.Text(events, RunEventKind.Stdout).Split("[1 of 2]").Length.ShouldBe(2);
    }

    private static List<StepMark> Marks(IEnumerable<RunEvent> events) => [.. events.Where(e => e.Kind == RunEventKind.Step).Select(e => e.Step!)];

    private static CommandSpec Command(string document)
    {
        var book = RunbookText.Read(document, out var problem);
        problem.ShouldBe("");
        book!.Command.Check().ShouldBeNull();
        return book.Command;
    }

    private Task<List<RunEvent>> KeepAsync(string document) =>
        TestRun.KeepAsync(directory, Command(document) with { Environment = new Dictionary<string, string> { ["MODE"] = "full" } });
}
