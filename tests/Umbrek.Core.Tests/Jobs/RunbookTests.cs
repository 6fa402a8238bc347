using CsCheck;
using Umbrek.Core.Jobs;

namespace Umbrek.Core.Tests.Jobs;

public sealed class RunbookTests
{
    private const string Document = """
        # Bring the ticket printer back

        For quays whose printer stopped.
        Asks nothing.

        - parameter: UNIT: text = ticket-print -- the unit
        - as: root
        - with: LANG=C.UTF-8
        - time-out: 10 min

        ## Look whether it runs

        Green lamp on the left:

        - by day, look at it
        * by night as well

        - may fail
        - time-out: 30 s

        ```sh
        systemctl is-active "$UNIT"
        ```

        ## Start it

        - when: "Look whether it runs" failed
        - when: UNIT is not ""
        - tries: 3, 10 s apart

        ~~~~ python3
        print("```")
        # no heading
        ~~~~

        ## Tell
        - when: always
        ```
        echo told
        ```
        """;

    private static readonly Gen<string> Word = Gen.Char["abc xyzß#`-*\\\"1:"].Array[1, 12].Select(c => new string(c));
    private static readonly Gen<string> Name = Word.Select(w => w.Replace("\"", "", StringComparison.Ordinal).Trim(' ', '#')).Where(w => w.Length > 0);
    private static readonly Gen<string> Words = Word.Where(w => w.Trim().Length > 0).Array[1, 3].Select(w => string.Join('\n', w.Select(x => x.TrimEnd())).Trim());
    private static readonly Gen<string> Text = Gen.OneOf(Word, Gen.OneOf(Gen.Const("```"), Gen.Const("~~~"), Gen.Const("````x"), Gen.Const("# a"), Gen.Const("- when: b"), Gen.Const(""))).Array[1, 4].Select(l => string.Join('\n', l) + "\n").Where(t => t.Trim().Length > 0);

    private static readonly Gen<StepCondition> Condition = Gen.Select(Gen.Enum<ConditionKind>(), Name, Gen.Int[0, 255].Array[1, 3], Gen.Char["ab \"\\=\nnot"].Array[0, 6].Select(c => new string(c)), (kind, name, exits, value) => kind switch
    {
        ConditionKind.Is or ConditionKind.IsNot => new StepCondition(kind, "MODE", null, value),
        ConditionKind.Exit => new StepCondition(kind, name, exits),
        ConditionKind.Always or ConditionKind.SomethingFailed => new StepCondition(kind),
        _ => new StepCondition(kind, name),
    });

    private static readonly Gen<RunbookStep> Step = Gen.Select(Name, Text, Gen.OneOf(Gen.Const("bash"), Gen.Const("/usr/bin/perl")).Null(), Words.Null(), Condition.Array[1, 3].Null(), Gen.Bool, Gen.Int[1, 5], Gen.OneOf(Gen.Const(0.5), Gen.Const(10.0), Gen.Const(120.0)).Nullable(), (name, text, shell, note, when, mayFail, tries, pause) =>
        new RunbookStep(name, text, shell, note, when, mayFail, tries, pause, pause is { } p ? p * 3 : null));

    [Fact]
    public void A_document_says_it_all()
    {
        var book = Read(Document);
        book.Title.ShouldBe("Bring the ticket printer back");
        book.Description.ShouldBe("For quays whose printer stopped.\nAsks nothing.");
        book.Parameters.ShouldHaveSingleItem().ShouldBe(new ScriptParameter("UNIT", Description: "the unit", Default: "ticket-print"));
        (book.Command.User, book.Command.TimeoutSeconds).ShouldBe(("root", 600));
        book.Command.Environment!.ShouldBe(new Dictionary<string, string> { ["LANG"] = "C.UTF-8" });
        book.Command.Check().ShouldBeNull();
        book.Command.Steps!.ShouldBe([
            new RunbookStep("Look whether it runs", "systemctl is-active \"$UNIT\"\n", null, "Green lamp on the left:\n\n- by day, look at it\n* by night as well", null, MayFail: true, TimeoutSeconds: 30),
            new RunbookStep("Start it", "print(\"```\")\n# no heading\n", "python3", null, [new(ConditionKind.Failed, "Look whether it runs"), new(ConditionKind.IsNot, "UNIT", null, "")], Tries: 3, PauseSeconds: 10),
            new RunbookStep("Tell", "echo told\n", When: [new(ConditionKind.Always)])]);
        book.Command.Display().ShouldBe("runbook of 3 steps: Look whether it runs, Start it, Tell");
    }

    [Fact]
    public void A_document_is_read_as_it_was_written() =>
        Gen.Select(Name.Null(), Words.Null(), Step.Array[1, 4]).Sample((title, description, steps) =>
        {
            var text = RunbookText.Write(new RunbookDocument(title, description, [], new CommandSpec { Steps = steps, User = "root", TimeoutSeconds = 90, Niceness = -3, OutputLimitBytes = 4096, WorkingDirectory = "/srv" }));
            var book = Read(text);
            book.Title.ShouldBe(title);
            book.Description.ShouldBe(description);
            book.Command.Steps!.ShouldBe(steps);
            (book.Command with { Steps = null }).ShouldBe(new CommandSpec { User = "root", TimeoutSeconds = 90, Niceness = -3, OutputLimitBytes = 4096, WorkingDirectory = "/srv" });
            RunbookText.Write(book).ShouldBe(text);
        });

    [Theory]
    [InlineData("words alone", "The document has no step; a step begins with a line such as: ## Look whether it runs")]
    [InlineData("## Look\n\nwords", "Step 'Look' has nothing to run; put its text between two lines of ```.")]
    [InlineData("## Look\n```\ntrue", "Line 2: the block that begins here has no end; write ``` behind it.")]
    [InlineData("```\ntrue\n```", "Line 1: a block of text belongs to a step; write the step's heading before it, such as: ## Look whether it runs.")]
    [InlineData("## Look\n```\ntrue\n```\n```\nfalse\n```", "Line 5: step 'Look' has a block already; make another step of this one.")]
    [InlineData("## Look\n- if: always\n```\ntrue\n```", "Line 2: 'if' is nothing that a step has; it has when, tries, time-out, may fail. Words for people go without a colon.")]
    [InlineData("## Look\n- tries: often\n", "Line 2: write it like: tries: 3, 10 s apart.")]
    [InlineData("## Look\n- tries\n", "Line 2: behind 'tries' goes a colon and what it is.")]
    [InlineData("## Look\n- may fail: no\n", "Line 2: 'may fail' stands alone; leave out what is behind it.")]
    [InlineData("## Look\n- time-out: long\n", "Line 2: 'long' is no length of time; write it like 90 s, 15 min or 2h.")]
    [InlineData("- as\n## Look\n", "Line 1: behind 'as' goes a colon and what it is.")]
    [InlineData("- niceness: much\n", "Line 1: 'much' is no whole number.")]
    [InlineData("- with: LANG\n", "Line 1: write it like: with: LANG=C.UTF-8.")]
    [InlineData("- parameter: DAYS: colour\n", "Line 1: 'colour' is no kind of parameter; it is one of text, whole, number, yes-no, choice, path, day.")]
    [InlineData("### Look\n", "Line 1: a step's heading has two: ##; deeper ones have no meaning here.")]
    [InlineData("## Look\n# Title\n", "Line 2: a heading of level 1 is the runbook's title, and stands once, at its beginning; a step's has two: ##.")]
    public void What_cannot_be_read_is_said_with_its_line(string text, string problem)
    {
        RunbookText.Read(text, out var said).ShouldBeNull();
        said.ShouldBe(problem);
    }

    [Theory]
    [InlineData("Always", ConditionKind.Always, null)]
    [InlineData("something failed", ConditionKind.SomethingFailed, null)]
    [InlineData("\"Look\"  was left out", ConditionKind.LeftOut, "Look")]
    [InlineData("\"Look\" ended with 3,4", ConditionKind.Exit, "Look")]
    [InlineData("MODE is not full", ConditionKind.IsNot, "MODE")]
    [InlineData("MODE is \"not full\"", ConditionKind.Is, "MODE")]
    [InlineData("Look failed", null, null)]
    [InlineData("\"Look\" ended with much", null, null)]
    [InlineData("MODE is \"x", null, null)]
    [InlineData("", null, null)]
    public void Conditions_that_people_write(string line, ConditionKind? kind, string? of)
    {
        var read = ConditionText.Read(line, out var problem);
        read?.Kind.ShouldBe(kind!.Value);
        (read is null).ShouldBe(kind is null);
        (problem.Length > 0).ShouldBe(kind is null);
        read?.Of.ShouldBe(of);
    }

    [Theory]
    [InlineData("## A\n```\nx\n```\n## a\n```\nx\n```", "There are two steps 'a'; conditions could not tell them apart. Rename one.")]
    [InlineData("## A\n- when: \"B\" failed\n```\nx\n```\n## B\n```\nx\n```", "A condition of step 'A' speaks of 'B', which is no step before it.")]
    [InlineData("## Look it up\n```\nx\n```\n## B\n- when: \"Look it in\" failed\n```\nx\n```", "A condition of step 'B' speaks of 'Look it in', which is no step before it; did you mean 'Look it up'?")]
    [InlineData("## A\n```\nx\n```\n## B\n- when: \"A\" ended with 256\n```\nx\n```", "A condition of step 'B' must name 1 to 50 exit statuses, each from 0 to 255.")]
    [InlineData("## A\n- tries: 0\n```\nx\n```", "Step 'A' can be tried 1 to 100 times.")]
    [InlineData("## A\n- tries: 2, 2h apart\n```\nx\n```", "Between two tries of step 'A' can be 0 s to 1 h.")]
    [InlineData("## A\n- time-out: 0 s\n```\nx\n```", "The time-out of step 'A' must be more than 0 seconds and at most a year; leave it out for none.")]
    [InlineData("## A \"b\"\n```\nx\n```", "The name of step 1 must have no quotation marks in it and no blanks around it.")]
    [InlineData("## A\n```\n \n```", "Step 'A' has nothing to run; write its text.")]
    public void Steps_that_make_no_sense_are_said(string document, string problem) => Read(document).Command.Check().ShouldBe(problem);

    [Fact]
    public void A_condition_on_a_parameter_that_is_none_is_said()
    {
        var steps = Read("## A\n- when: MODES is full\n```\nx\n```").Command.Steps!;
        RunbookSteps.CheckParameters(steps, ["MODE", "DAYS"]).ShouldBe("A condition of step 'A' speaks of MODES, which is no parameter of the runbook; did you mean MODE?");
        RunbookSteps.CheckParameters(steps, []).ShouldBe("A condition of step 'A' speaks of MODES, which is no parameter of the runbook; it has none.");
        RunbookSteps.CheckParameters(steps, ["MODES"]).ShouldBeNull();
    }

    [Fact]
    public void There_are_bounds()
    {
        RunbookSteps.Check([]).ShouldBe("The runbook has no steps; write at least one.");
        RunbookSteps.Check([.. Enumerable.Range(0, 51).Select(i => new RunbookStep($"{i}", "true"))]).ShouldBe("The runbook has 51 steps; 50 is the most.");
        new CommandSpec { Steps = [new("A", new string('x', CommandSpec.MaxTextBytes))] }.Check()!.ShouldContain("65536 is the most");
        new CommandSpec { Steps = [new("A", "true")], Line = "true" }.Check()!.ShouldContain("beside its steps");
        new CommandSpec { Steps = [new("A", "tr\0ue")] }.Check()!.ShouldContain("zero character");
    }

    /// <summary>Each step is a letter: what stands before the colon are its conditions, behind it how it ends if it runs.</summary>
    [Theory]
    [InlineData("A:0 B:0", "A0 B0", 0)]
    [InlineData("A:3 B:0", "A3 B-", 3)]
    [InlineData("A?:3 B:0", "A3 B0", 0)]
    [InlineData("A:3 B,always:0 C:0", "A3 B0 C-", 3)]
    [InlineData("A:0 B,something failed:0", "A0 B-", 0)]
    [InlineData("A:3 B,something failed:0 C,something failed:4", "A3 B0 C4", 3)]
    [InlineData("A?:3 B,something failed:0", "A3 B-", 0)]
    [InlineData("A?:3 B,\"A\" failed:0 C,\"A\" succeeded:0 D,\"C\" was left out:0", "A3 B0 C- D0", 0)]
    [InlineData("A?:3 B,\"A\" ended with 1, 3:0 C,\"A\" ended with 2:0", "A3 B0 C-", 0)]
    [InlineData("A,MODE is full:0 B,MODE is not full:0 C,OTHER is \"\":0", "A0 B- C0", 0)]
    [InlineData("A:1 B,MODE is full:0", "A1 B-", 1)]
    [InlineData("A:1 B,MODE is full,\"A\" failed:0 C,MODE is empty,\"A\" failed:0", "A1 B0 C-", 1)]
    [InlineData("A,something failed:0", "A-", 0)]
    public void Steps_run_when_their_conditions_are_met(string book, string walked, int status)
    {
        var plan = book.Split(' ').Aggregate(new List<string>(), (list, part) =>
        {
            // Conditions have blanks in them.
            if (list.Count > 0 && !list[^1].Contains(':'))
            {
                list[^1] += " " + part;
            }
            else
            {
                list.Add(part);
            }
            return list;
        });
        var steps = plan.ConvertAll(p =>
        {
            var head = p[..p.LastIndexOf(':')];
            var when = head.Contains(',') ? System.Text.RegularExpressions.Regex.Split(head[(head.IndexOf(',') + 1)..], ",(?=[a-zA-Z\"])").Select(c => ConditionText.Read(c, out _)!).ToArray() : null;
            return new RunbookStep(head[..1], "x", When: when, MayFail: head.Length > 1 && head[1] == '?');
        });
        RunbookSteps.Check(steps).ShouldBeNull();
        var ended = new List<StepMark>();
        for (var i = 0; i < steps.Count; i++)
        {
            var exit = int.Parse(plan[i][(plan[i].LastIndexOf(':') + 1)..], System.Globalization.CultureInfo.InvariantCulture);
            ended.Add(RunbookWalk.WhyNot(steps, i, ended, new Dictionary<string, string> { ["MODE"] = "full" }) is { } why
                ? new StepMark(i, StepState.LeftOut, Reason: why)
                : new StepMark(i, exit == 0 ? StepState.Succeeded : StepState.Failed, 1, exit));
        }
        string.Join(' ', ended.Select(m => $"{steps[m.Index].Name}{(m.State == StepState.LeftOut ? "-" : m.ExitStatus)}")).ShouldBe(walked);
        RunbookWalk.End(steps, ended).ExitStatus.ShouldBe(status);
    }

    [Fact]
    public void How_it_ended_is_said_with_the_step()
    {
        RunbookStep[] steps = [new("Look", "x"), new("Start it", "x", Tries: 3)];
        RunbookWalk.End(steps, [new(0, StepState.Succeeded, 1, 0), new(1, StepState.Failed, 3, 5)]).ShouldBe(new RunEnd(RunOutcome.Exited, 5, "Step 2 of 2, 'Start it', ended with exit status 5 in each of 3 tries."));
        RunbookWalk.End(steps, [new(0, StepState.TimedOut, 1, 143, "It was still running after 1 s and was ended.")]).ShouldBe(new RunEnd(RunOutcome.TimedOut, 143, "Step 1 of 2, 'Look', took longer than it may."));
        RunbookWalk.End(steps, [new(0, StepState.Failed, 1, 127, "There is no program 'x'.")]).ShouldBe(new RunEnd(RunOutcome.Exited, 127, "Step 1 of 2, 'Look', did not start: There is no program 'x'."));
        RunbookWalk.End(steps, [new(0, StepState.LeftOut), new(1, StepState.LeftOut)]).ShouldBe(new RunEnd(RunOutcome.Exited, 0, "The conditions of no step were met; nothing was run."));
        RunbookWalk.WhyNot([new("Look", "x"), new("B", "x", When: [new(ConditionKind.Exit, "Look", [3])])], 1, [new(0, StepState.Succeeded, 1, 0)], new Dictionary<string, string>()).ShouldBe("'Look' ended with exit status 0.");
        RunbookWalk.WhyNot([new("Look", "x"), new("B", "x")], 1, [new(0, StepState.Failed, 1, 1)], new Dictionary<string, string>()).ShouldBe("'Look' failed.");
    }

    [Fact]
    public void What_a_run_says_of_its_steps_is_kept_once()
    {
        var at = new DateTimeOffset(2026, 3, 2, 9, 0, 0, TimeSpan.Zero);
        var status = new RunStatus(RunState.Sent);
        RunEvent Says(long sequence, StepMark mark) => new() { RunId = Guid.Empty, Sequence = sequence, At = at.AddSeconds(sequence), Kind = RunEventKind.Step, Step = mark };
        RunEvent[] events = [Says(0, new(0, StepState.Running)), Says(1, new(0, StepState.Running, 2)), Says(2, new(0, StepState.Succeeded, 2, 0)), Says(3, new(1, StepState.LeftOut, Reason: "Nothing has failed.")), Says(4, new(70, StepState.Running))];
        foreach (var e in events.Concat(events))
        {
            status = status.Apply(e);
        }
        status.Steps.ShouldBe([
            new StepStatus(0, StepState.Succeeded, 2, at, at.AddSeconds(2), 0, null),
            new StepStatus(1, StepState.LeftOut, 0, null, at.AddSeconds(3), null, "Nothing has failed.")]);
        status.LastSequence.ShouldBe(4);
    }

    private static RunbookDocument Read(string text)
    {
        var book = RunbookText.Read(text, out var problem);
        problem.ShouldBe("");
        return book.ShouldNotBeNull();
    }
}
