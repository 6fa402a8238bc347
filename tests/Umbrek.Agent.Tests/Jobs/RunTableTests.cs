using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Access;
using Umbrek.Agent.Health;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
using Umbrek.Agent.Tests.Hosting;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Agent.Enrolment;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Tests;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Tests.Jobs;

public sealed class RunTableTests : IDisposable
{
    private readonly TestDirectory directory = new();
    private readonly StateDirectory state;
    private readonly ProcessPlatform platform = new();
    private readonly FakeTimeProvider deskTime = new(DateTimeOffset.UtcNow);

    public RunTableTests() => state = new StateDirectory(directory.In("s"));

    public void Dispose() => directory.Dispose();

    [Fact]
    public async Task An_order_that_comes_again_and_again_runs_once()
    {
        var marker = directory.In("marker");
        var order = TestRun.Order($"echo x >> {marker}");
        for (var life = 0; life < 3; life++)
        {
            using var runs = Open();
            for (var i = 0; i < 3; i++)
            {
                runs.Accept(order, DateTimeOffset.UtcNow).ShouldBeNull();
            }
            if (life < 2)
            {
                await DeliverAsync(runs, order.RunId);
            }
        }
        File.ReadAllText(marker).ShouldBe("x\n");
        Directory.EnumerateDirectories(state.Runs).ShouldBeEmpty();
        File.Exists(Path.Combine(state.Seen, order.RunId.ToString("N"))).ShouldBeTrue();
    }

    [Fact]
    public async Task A_run_goes_on_while_the_agent_is_gone_and_is_found_again()
    {
        var gate = directory.In("gate");
        var order = TestRun.Order($"echo before; while ! [ -e {gate} ]; do sleep 0.02; done; echo after");
        using (var first = Open())
        {
            first.Accept(order, DateTimeOffset.UtcNow);
            await Wait.UntilAsync(() => TestRun.Text(TestRun.Read(Run(order)), RunEventKind.Stdout) == "before\n", "the first output");
        }
        File.WriteAllText(gate, "");
        using var second = Open();
        second.Unfinished.ShouldBe([order.RunId]);
        var events = await DeliverAsync(second, order.RunId);
        TestRun.Text(events, RunEventKind.Stdout).ShouldBe("before\nafter\n");
        events[^1].End!.State.ShouldBe(RunState.Succeeded);
    }

    [Fact]
    public async Task What_was_not_acknowledged_is_sent_again_on_the_next_link()
    {
        var order = TestRun.Order("echo one; echo two");
        using var runs = Open();
        runs.Accept(order, DateTimeOffset.UtcNow);
        await Wait.UntilAsync(() => TestRun.EndOf(Run(order)) is not null, "the run to end");
        var entry = runs.Entries.Single();
        var sent = runs.NextBatch(entry);
        runs.NextBatch(entry).ShouldBeEmpty();
        runs.Kept(new RunKept(order.RunId, 1));
        runs.Rewind();
        runs.NextBatch(entry).Select(e => e.Sequence).ShouldBe(sent.Select(e => e.Sequence).Where(s => s > 1));
    }

    [Fact]
    public async Task Sending_never_runs_further_ahead_than_its_window()
    {
        var order = TestRun.Order("head -c 3000000 /dev/zero");
        using var runs = Open();
        runs.Accept(order, DateTimeOffset.UtcNow);
        await Wait.UntilAsync(() => TestRun.EndOf(Run(order)) is not null, "the run to end");
        var entry = runs.Entries.Single();
        var received = new List<RunEvent>();
        for (var round = 0; !entry.Finished; round++)
        {
            round.ShouldBeLessThan(1000);
            var inFlight = new List<RunEvent>();
            while (runs.NextBatch(entry) is { Count: > 0 } batch)
            {
                batch.Sum(e => e.Data?.Length ?? 0).ShouldBeLessThanOrEqualTo(RunEvent.MaxDataBytes + 4096);
                inFlight.AddRange(batch);
            }
            inFlight.Sum(e => e.Data?.Length ?? 0).ShouldBeLessThanOrEqualTo(RunEntry.Window + RunEvent.MaxDataBytes);
            received.AddRange(inFlight);
            runs.Kept(new RunKept(order.RunId, inFlight[^1].Sequence));
        }
        received.Sum(e => e.Data?.Length ?? 0).ShouldBe(3_000_000);
    }

    [Fact]
    public void Orders_that_cannot_be_taken_safely_are_refused_with_a_reason()
    {
        using var runs = Open();
        runs.Accept(TestRun.Order("x") with { OrderedAt = DateTimeOffset.UtcNow.AddDays(-91) }, DateTimeOffset.UtcNow)!.End!.Reason!.ShouldContain("older than 90 days");
        runs.Accept(TestRun.Order(new CommandSpec()), DateTimeOffset.UtcNow)!.End!.Outcome.ShouldBe(RunOutcome.Refused);
        Directory.EnumerateFileSystemEntries(state.Runs).ShouldBeEmpty();
    }

    [Fact]
    public void A_directory_that_was_being_made_when_the_agent_died_is_no_run()
    {
        state.Create();
        Directory.CreateDirectory(Path.Combine(state.Runs, Guid.CreateVersion7().ToString("N") + ".new"));
        using var runs = Open();
        runs.Unfinished.ShouldBeEmpty();
        Directory.EnumerateDirectories(state.Runs).ShouldBeEmpty();
    }

    private static readonly HostPolicy Asking = HostPolicy.Everything with { Consent = ConsentRule.WhenSomebodyIsLoggedIn, Notice = NoticeRule.During };

    [Fact]
    public async Task A_person_who_is_logged_in_is_asked_once_and_told_what_begins_and_ends()
    {
        var people = new PeopleDouble("elin");
        var first = TestRun.Order("echo one");
        using var runs = Open(Asking, people);
        runs.Accept(first, DateTimeOffset.UtcNow).ShouldBeNull();
        runs.Accept(first, DateTimeOffset.UtcNow).ShouldBeNull();
        await Wait.UntilAsync(() => people.Asked.Count == 1, "the question");
        runs.Holds.ShouldContain(h => h.RunId == first.RunId && h.Reason!.StartsWith("A person at the host is asked first"));
        people.Asked[0].What.ShouldBe("echo one");
        runs.Unfinished.ShouldBe([first.RunId]);
        Directory.EnumerateDirectories(state.Runs).ShouldBeEmpty();

        people.Answer(new ConsentAnswer(true, "elin"));
        await DeliverAsync(runs, first.RunId);
        runs.Answers.ShouldHaveSingleItem().ShouldBe(new ConsentReport(first.RunId, first.OrderedBy, "elin", true));
        await Wait.UntilAsync(() => people.Told.Count == 2, "both words");
        people.Told.ShouldBe([$"{first.OrderedBy} begins now on this computer: echo one", $"{first.OrderedBy} has ended on this computer: echo one"]);

        // The agreement counts for a while, and then no longer.
        var second = TestRun.Order("echo two");
        runs.Accept(second, DateTimeOffset.UtcNow);
        await DeliverAsync(runs, second.RunId);
        people.Asked.Count.ShouldBe(1);
        deskTime.Advance(ConsentDesk.GoodFor);
        runs.Accept(TestRun.Order("echo three"), DateTimeOffset.UtcNow);
        await Wait.UntilAsync(() => people.Asked.Count == 2, "the question anew");
    }

    [Fact]
    public async Task A_refusal_no_answer_and_nobody_to_ask_each_run_nothing_and_say_so()
    {
        var people = new PeopleDouble("elin");
        var marker = directory.In("marker");
        using var runs = Open(Asking with { Consent = ConsentRule.Always }, people);
        async Task<string> EndOfAsync(RunEvent? at, Action? meanwhile)
        {
            at.ShouldBeNull();
            meanwhile?.Invoke();
            RunEvent? end = null;
            await Wait.UntilAsync(() => runs.Refusals.TryDequeue(out end), "the refusal");
            end!.End!.Outcome.ShouldBe(RunOutcome.Refused);
            return end.End.Reason!;
        }
        async Task<string> AskedAsync(Action then)
        {
            var before = people.Asked.Count;
            var order = runs.Accept(TestRun.Order($"touch {marker}"), DateTimeOffset.UtcNow);
            await Wait.UntilAsync(() => people.Asked.Count > before, "the question");
            return await EndOfAsync(order, then);
        }
        (await AskedAsync(() => people.Answer(new ConsentAnswer(false, "elin")))).ShouldBe("elin, who is logged in there, has refused it. Nothing was run.");
        runs.Answers.ShouldHaveSingleItem().Agreed.ShouldBeFalse();
        (await AskedAsync(() => deskTime.Advance(ConsentDesk.AnswerWithin))).ShouldBe("Nobody at this host has agreed within 2 minutes. Nothing was run.");
        people.Here = [];
        (await EndOfAsync(runs.Accept(TestRun.Order($"touch {marker}"), DateTimeOffset.UtcNow), null)).ShouldStartWith("A person at this host has to agree each time, and nobody is logged in there.");
        File.Exists(marker).ShouldBeFalse();
        people.Told.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_run_that_is_cancelled_while_a_person_is_asked_never_begins()
    {
        var people = new PeopleDouble("elin");
        var order = TestRun.Order("echo no");
        using var runs = Open(Asking, people);
        runs.Accept(order, DateTimeOffset.UtcNow);
        await Wait.UntilAsync(() => people.Asked.Count == 1, "the question");
        runs.Cancel(order.RunId);
        RunEvent? end = null;
        await Wait.UntilAsync(() => runs.Refusals.TryDequeue(out end), "the end");
        (end!.RunId, end.End!.State).ShouldBe((order.RunId, RunState.Cancelled));
        await Wait.UntilAsync(() => people.Withdrawn == 1, "the question to be withdrawn");
        runs.Unfinished.ShouldBeEmpty();
    }

    [Fact]
    public async Task What_ends_a_persons_work_waits_until_the_time_that_was_given_is_over()
    {
        var people = new PeopleDouble("elin");
        CommandSpec LogOut(double grace) => new() { Action = new HostAction { Power = new PowerWish(PowerAct.LogOut, grace, Person: "nobody") } };
        var order = TestRun.Order(LogOut(60));
        using var runs = Open(HostPolicy.Everything with { Allowed = [HostAct.Power] }, people);
        runs.Accept(order, DateTimeOffset.UtcNow).ShouldBeNull();
        await Wait.UntilAsync(() => runs.Holds.Any(h => h.Reason?.Contains("elin is logged in there and has been told", StringComparison.Ordinal) == true), "the hold");
        Directory.EnumerateDirectories(state.Runs).ShouldBeEmpty();
        deskTime.Advance(TimeSpan.FromMinutes(1));
        await Wait.UntilAsync(() => runs.Entries.Any(), "it to begin");
        var events = await DeliverAsync(runs, order.RunId);
        TestRun.Text(events, RunEventKind.Stdout).ShouldBe("nobody is not logged in here.\n");

        // Allowing that is not allowing commands, and the other way round.
        runs.Accept(TestRun.Order("true"), DateTimeOffset.UtcNow)!.End!.Reason!.ShouldContain("does not allow commands");
        using var others = Open(HostPolicy.Everything with { Allowed = [HostAct.Run] }, people);
        others.Accept(TestRun.Order(LogOut(0)), DateTimeOffset.UtcNow)!.End!.Reason!.ShouldContain("does not allow to restart it, shut it down");
    }

    [Fact]
    public async Task Where_people_are_told_before_it_begins_a_moment_later()
    {
        var people = new PeopleDouble("elin");
        var order = TestRun.Order("echo later");
        using var runs = Open(HostPolicy.Everything with { Notice = NoticeRule.Before }, people);
        runs.Accept(order, DateTimeOffset.UtcNow);
        people.Told.ShouldHaveSingleItem().ShouldBe($"{order.OrderedBy} begins in 5 seconds on this computer: echo later");
        Directory.EnumerateDirectories(state.Runs).ShouldBeEmpty();
        people.Asked.ShouldBeEmpty();
        deskTime.Advance(ConsentDesk.Warning);
        await DeliverAsync(runs, order.RunId);
    }

    private RunTable Open(HostPolicy? policy = null, IPeopleHere? people = null)
    {
        var (keys, log) = (new HostKeys(state, null, TimeProvider.System), new AgentLog(TextWriter.Null, TimeProvider.System));
        var runs = new RunTable(state, platform, new HostRules(state, policy ?? HostPolicy.Everything, keys, log), new SessionTable(keys, TimeProvider.System), new ConsentDesk(people ??= new PeopleDouble(), deskTime), new GraceDesk(people, deskTime), TimeProvider.System, log);
        runs.Load();
        return runs;
    }

    private RunDirectory Run(RunOrder order) => new(Path.Combine(state.Runs, order.RunId.ToString("N")));

    /// <summary>Takes a run's events as a service would, acknowledging each batch.</summary>
    private static async Task<List<RunEvent>> DeliverAsync(RunTable runs, Guid runId)
    {
        var events = new List<RunEvent>();
        await Wait.UntilAsync(
            () =>
            {
                if (runs.Entries.FirstOrDefault(e => e.Directory.RunId == runId) is not { } entry)
                {
                    return true;
                }
                var batch = runs.NextBatch(entry);
                events.AddRange(batch);
                if (batch.Count > 0)
                {
                    runs.Kept(new RunKept(runId, batch[^1].Sequence));
                }
                return false;
            },
            "the run to be delivered");
        return events;
    }

    /// <summary>People who answer when the test says so.</summary>
    private sealed class PeopleDouble(params string[] here) : IPeopleHere
    {
        private TaskCompletionSource<ConsentAnswer> next = new();

        public IReadOnlyList<string> Here { get; set; } = here;
        public List<ConsentQuestion> Asked { get; } = [];
        public List<string> Told { get; } = [];
        public int Withdrawn { get; private set; }

        public void Answer(ConsentAnswer answer) => Interlocked.Exchange(ref next, new()).SetResult(answer);

        public IReadOnlyList<string> LoggedIn() => Here;

        public void Tell(string text)
        {
            lock (Told)
            {
                Told.Add(text);
            }
        }

        public Task<PutOff> WarnAsync(PowerWarning warning, CancellationToken cancel) => Task.Delay(Timeout.Infinite, cancel).ContinueWith<PutOff>(_ => throw new OperationCanceledException(cancel), TaskScheduler.Default);

        public async Task<ConsentAnswer> AskAsync(ConsentQuestion question, CancellationToken cancel)
        {
            var answer = next.Task;
            Asked.Add(question);
            try
            {
                return await answer.WaitAsync(cancel);
            }
            catch (OperationCanceledException)
            {
                Withdrawn++;
                throw;
            }
        }
    }

    /// <summary>Keepers as real processes; nothing else of a host.</summary>
    private sealed class ProcessPlatform : BarePlatform
    {
        public override IPeopleHere People(StateDirectory state) => new PeopleDouble();

        public override void StartKeeper(string runDirectory) => _ = TestPrograms.Start("umbrek-agent", ["keeper", runDirectory]);
    }
}
