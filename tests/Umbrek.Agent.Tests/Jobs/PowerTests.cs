using System.IO.Pipelines;
using System.Net.NetworkInformation;
using System.Net.Sockets;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Tests;
using Umbrek.Wire.Jobs;

namespace Umbrek.Agent.Tests.Jobs;

/// <summary>Acts on a computer as a whole, with a recorder in its place.</summary>
public sealed class PowerTests : IDisposable
{
    private readonly TestDirectory directory = new();
    private readonly FakeTimeProvider time = new(DateTimeOffset.UtcNow);
    private readonly Recorder computer = new();

    public void Dispose() => directory.Dispose();

    [Theory]
    [InlineData(PowerAct.Restart, "restart", "The computer restarts now.\n")]
    [InlineData(PowerAct.ShutDown, "shut down", "The computer shuts down now.\n")]
    [InlineData(PowerAct.Sleep, "sleep", "The computer goes to sleep now.\n")]
    [InlineData(PowerAct.LogOut, "log out carys, log out elin", "carys is logged out.\nelin is logged out.\n")]
    [InlineData(PowerAct.Lock, "lock carys, lock elin", "carys has a locked screen now.\nelin has a locked screen now.\n")]
    public void Each_act_is_done_once_and_said(PowerAct act, string done, string said)
    {
        Do(new PowerWish(act)).ShouldBe((0, said));
        string.Join(", ", computer.Done).ShouldBe(done);
    }

    [Fact]
    public void What_is_in_the_way_is_said_and_fails()
    {
        computer.Problem = "systemctl ended with 1: Access denied";
        Do(new PowerWish(PowerAct.Restart)).ShouldBe((1, "The computer restarts now.\nIt can't be restarted: systemctl ended with 1: Access denied\n"));
        Do(new PowerWish(PowerAct.Lock, Person: "elin")).ShouldBe((1, "elin keeps the screen open: systemctl ended with 1: Access denied\n"));
    }

    [Fact]
    public void One_person_is_meant_and_no_other()
    {
        Do(new PowerWish(PowerAct.LogOut, Person: "elin")).ShouldBe((0, "elin is logged out.\n"));
        Do(new PowerWish(PowerAct.LogOut, Person: "dov")).ShouldBe((1, "dov is not logged in here.\n"));
        computer.Done.ShouldBe(["log out elin"]);
        computer.People = [];
        Do(new PowerWish(PowerAct.LogOut)).ShouldBe((0, "Nobody is logged in here.\n"));
    }

    [Fact]
    public void Packets_go_into_the_networks_that_both_stand_in()
    {
        var sent = new List<string>();
        using var say = new StringWriter();
        var acts = new WakeActs(
            [Card("52:54:00:00:00:01 10.20.1.1/24"), Card("52:54:00:00:00:02 10.20.2.1/24"), Card("52:54:00:00:00:01 2001:db8:77::1/64")],
            (from, card) =>
            {
                if (from.Address.AddressFamily == AddressFamily.InterNetworkV6)
                {
                    throw new SocketException((int)SocketError.NetworkUnreachable);
                }
                sent.Add($"{from.Address} {NetworkCard.Write(card)}");
            },
            say);
        acts.Do(new WakeWish([new("till-1", ["52:54:00:00:00:aa 10.20.1.15/24", "52:54:00:00:00:ab 10.20.3.15/24"]), new("till-2", ["52:54:00:00:00:ac 10.20.2.16/24"])])).ShouldBe(0);
        sent.ShouldBe(["10.20.1.1 52:54:00:00:00:aa", "10.20.2.1 52:54:00:00:00:ac"]);
        // The same network by a longer prefix is another.
        acts.Do(new WakeWish([new("till-3", ["52:54:00:00:00:ad 10.20.1.15/25"]), new("till-4", ["rubbish"]), new("till-5", ["52:54:00:00:00:ae 2001:db8:77::5/64"])])).ShouldBe(1);
        sent.Count.ShouldBe(2);
        var lines = say.ToString().Split('\n');
        lines[0].ShouldBe("till-1: a packet for its network card 52:54:00:00:00:aa was sent into 10.20.1.0/24.");
        lines[2].ShouldBe("till-3: this host stands in none of its networks (10.20.1.0/25).");
        lines[3].ShouldBe("till-4: none of its network cards can be read.");
        lines[4].ShouldStartWith("till-5: no packet could be sent into 2001:db8:77::/64: ");
    }

    [Fact]
    public async Task A_restart_is_done_when_the_computer_is_back()
    {
        var run = Order(new PowerWish(PowerAct.Restart));
        var runner = new Runner();
        using var power = new CancellationTokenSource();
        using (var first = new Keeper(run, runner, time, "life 1"))
        {
            var keeping = first.RunAsync(power.Token);
            await runner.EndAsync(new RunEnd(RunOutcome.Exited, 0, null));
            await Wait.UntilAsync(() => TestRun.Text(TestRun.Read(run), RunEventKind.Stdout) == "going\n", "the output");
            // The system has taken the order: that is not the end yet.
            keeping.IsCompleted.ShouldBeFalse();
            await power.CancelAsync();
            await Should.ThrowAsync<OperationCanceledException>(() => keeping);
        }
        TestRun.EndOf(run).ShouldBeNull();
        File.SetLastWriteTimeUtc(run.StartingFile, time.GetUtcNow().UtcDateTime);
        time.Advance(TimeSpan.FromSeconds(48));
        using var second = new Keeper(run, runner, time, "life 2");
        await second.RunAsync(default);
        TestRun.EndOf(run).ShouldBe(new RunEnd(RunOutcome.Exited, 0, null));
        TestRun.Text(TestRun.Read(run), RunEventKind.Stdout).ShouldBe("going\nIt is back after 48 s.\n");
        runner.Started.ShouldBe(1);
    }

    [Theory]
    [InlineData(PowerAct.ShutDown, 0, false, RunOutcome.Exited, null)]
    [InlineData(PowerAct.Restart, 1, false, RunOutcome.Exited, null)]
    [InlineData(PowerAct.Restart, 0, true, RunOutcome.Exited, "has not gone down within 10 minutes")]
    [InlineData(PowerAct.Restart, 143, true, RunOutcome.Signalled, null)]
    [InlineData(PowerAct.Sleep, 0, false, RunOutcome.Exited, null)]
    public async Task One_that_does_not_go_down_says_so(PowerAct act, int status, bool waits, RunOutcome outcome, string? reason)
    {
        var run = Order(new PowerWish(act));
        var runner = new Runner();
        using var keeper = new Keeper(run, runner, time, "life 1");
        var keeping = keeper.RunAsync(default);
        await runner.EndAsync(new RunEnd(status > 128 ? RunOutcome.Signalled : RunOutcome.Exited, status, null));
        if (waits)
        {
            await Wait.UntilAsync(
                () =>
                {
                    time.Advance(TimeSpan.FromMinutes(1));
                    return keeping.IsCompleted;
                },
                "the patience to end");
        }
        await keeping;
        var end = TestRun.EndOf(run)!;
        end.Outcome.ShouldBe(outcome);
        (end.Reason?.Contains(reason ?? "?", StringComparison.Ordinal) ?? false).ShouldBe(reason is not null);
    }

    [Fact]
    public async Task A_keeper_that_dies_in_the_same_life_leaves_the_computer_time_to_go_down()
    {
        var run = Order(new PowerWish(PowerAct.Restart));
        StateDirectory.WriteWhole(run.StartingFile, "life 1"u8);
        using var keeper = new Keeper(run, new Runner(), time, "life 1");
        var keeping = keeper.RunAsync(default);
        await Wait.UntilAsync(() => File.Exists(run.Socket), "the keeper");
        TestRun.EndOf(run).ShouldBeNull();
        await Wait.UntilAsync(
            () =>
            {
                time.Advance(Keeper.LastMoments);
                return keeping.IsCompleted;
            },
            "the end");
        TestRun.EndOf(run)!.Outcome.ShouldBe(RunOutcome.Interrupted);
    }

    [Fact]
    public async Task People_are_told_and_may_put_it_off_as_far_as_policy_goes()
    {
        var people = new People("elin");
        var (holds, putOff) = (new List<string?>(), new List<(string, TimeSpan)>());
        var began = time.GetUtcNow();
        var order = TestRun.Order(new CommandSpec { Action = new HostAction { Power = new PowerWish(PowerAct.Restart, 300, "a new kernel") } });
        var waiting = new GraceDesk(people, time).WaitAsync(HostPolicy.Everything with { PutOffMinutes = 20 }, order, holds.Add, (who, by) => putOff.Add((who, by)), default);
        people.Warnings.ShouldHaveSingleItem().ShouldBe(new PowerWarning("Ines Okafor", order.Command.Action!.Power!, began.AddMinutes(5), TimeSpan.FromMinutes(20)));
        holds.ShouldHaveSingleItem()!.ShouldStartWith("elin is logged in there and has been told; it is done at ");
        people.PutOff("elin", 15);
        await Wait.UntilAsync(() => people.Warnings.Count == 2, "the second word");
        // What is left of the twenty minutes.
        people.PutOff("elin", 15);
        await Wait.UntilAsync(() => people.Warnings.Count == 3, "the third word");
        people.Warnings[2].ShouldBe(people.Warnings[0] with { At = began.AddMinutes(25), Most = TimeSpan.Zero });
        putOff.ShouldBe([("elin", TimeSpan.FromMinutes(15)), ("elin", TimeSpan.FromMinutes(5))]);
        holds[^1]!.ShouldStartWith("elin has put it off by 5 min. ");
        time.Advance(TimeSpan.FromMinutes(24));
        people.Told.ShouldHaveSingleItem().ShouldBe("In a minute Ines Okafor restarts this computer. Save what you work on.");
        waiting.IsCompleted.ShouldBeFalse();
        time.Advance(TimeSpan.FromMinutes(1));
        await waiting;
        holds[^1].ShouldBeNull();
    }

    [Fact]
    public async Task Nobody_there_is_waited_for_and_what_is_called_off_is_said()
    {
        var order = TestRun.Order(new CommandSpec { Action = new HostAction { Power = new PowerWish(PowerAct.ShutDown, 300) } });
        await new GraceDesk(new People(), time).WaitAsync(HostPolicy.Everything, order, _ => throw new InvalidOperationException(), (_, _) => { }, default);
        var people = new People("elin", "carys");
        using var withdrawn = new CancellationTokenSource();
        var waiting = new GraceDesk(people, time).WaitAsync(HostPolicy.Everything, order, _ => { }, (_, _) => { }, withdrawn.Token);
        await withdrawn.CancelAsync();
        await Should.ThrowAsync<OperationCanceledException>(() => waiting);
        people.Told.ShouldHaveSingleItem().ShouldBe("Ines Okafor does not do it after all: shut the computer down");
    }

    private (int Status, string Said) Do(PowerWish wish)
    {
        using var say = new StringWriter();
        return (new PowerActs(computer, say).Do(wish), say.ToString());
    }

    private RunDirectory Order(PowerWish wish) => TestRun.Accept(directory, new CommandSpec { Action = new HostAction { Power = wish } });

    private static NetworkCard Card(string text) => NetworkCard.Read(text)!;

    /// <summary>Writes down what is asked of it, and stays on.</summary>
    private sealed class Recorder : IPowerControl
    {
        public List<string> Done { get; } = [];
        public string? Problem { get; set; }
        public IReadOnlyList<string> People { get; set; } = ["carys", "elin"];

        public IReadOnlyList<string> LoggedIn() => People;
        public string? Restart() => Note("restart");
        public string? ShutDown() => Note("shut down");
        public string? Sleep() => Note("sleep");
        public string? LogOut(string person) => Note($"log out {person}");
        public string? Lock(string person) => Note($"lock {person}");

        private string? Note(string what)
        {
            Done.Add(what);
            return Problem;
        }
    }

    /// <summary>People who put things off when the test says so.</summary>
    private sealed class People(params string[] here) : IPeopleHere
    {
        private TaskCompletionSource<PutOff> next = new(TaskCreationOptions.RunContinuationsAsynchronously);

        public List<PowerWarning> Warnings { get; } = [];
        public List<string> Told { get; } = [];

        public void PutOff(string person, double minutes) => Interlocked.Exchange(ref next, new(TaskCreationOptions.RunContinuationsAsynchronously)).SetResult(new PutOff(person, TimeSpan.FromMinutes(minutes)));

        public IReadOnlyList<string> LoggedIn() => here;

        public void Tell(string text) => Told.Add(text);

        public Task<ConsentAnswer> AskAsync(ConsentQuestion question, CancellationToken cancel) => throw new NotSupportedException();

        public Task<PutOff> WarnAsync(PowerWarning warning, CancellationToken cancel)
        {
            var answer = next.Task.WaitAsync(cancel);
            Warnings.Add(warning);
            return answer;
        }
    }

    /// <summary>Starts a command that says one line, and ends when the test says so.</summary>
    private sealed class Runner : ICommandRunner
    {
        private readonly TaskCompletionSource<Command> started = new(TaskCreationOptions.RunContinuationsAsynchronously);

        public int Started { get; private set; }

        public IRunningCommand Start(CommandSpec command)
        {
            Started++;
            var made = new Command();
            started.SetResult(made);
            return made;
        }

        public async Task EndAsync(RunEnd end) => await (await started.Task).EndAsync(end);

        private sealed class Command : IRunningCommand
        {
            private readonly TaskCompletionSource<RunEnd> ended = new(TaskCreationOptions.RunContinuationsAsynchronously);
            private readonly Pipe output = new();

            public int Pid => 4711;
            public string User => "root";
            public Stream Stdout => output.Reader.AsStream();
            public Stream Stderr => Stream.Null;
            public Task<RunEnd> Ended => ended.Task;

            public async Task EndAsync(RunEnd end)
            {
                await output.Writer.WriteAsync("going\n"u8.ToArray());
                await output.Writer.CompleteAsync();
                ended.SetResult(end);
            }

            public void Terminate(bool force) => ended.TrySetResult(new RunEnd(RunOutcome.Signalled, 143, null));

            public void Dispose()
            {
                // Nothing is open.
            }
        }
    }
}
