using Umbrek.Agent.Access;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
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

    private RunTable Open()
    {
        var (keys, log) = (new HostKeys(state, null, TimeProvider.System), new AgentLog(TextWriter.Null, TimeProvider.System));
        var runs = new RunTable(state, platform, new HostRules(state, HostPolicy.Everything, keys, log), new SessionTable(keys, TimeProvider.System), TimeProvider.System, log);
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

    /// <summary>Keepers as real processes; nothing else of a host.</summary>
    private sealed class ProcessPlatform : IHostPlatform
    {
        public string SystemName => "test";
        public string? MachineId => null;

        public string AgentVersion => "0";

        public IAgentUpdate? Update(StateDirectory state) => null;

        public IAsyncEnumerable<ScanAnswer?> ScanAsync(ScanOrder order, CancellationToken cancel) => throw new NotSupportedException();

        public string? HardwareId => null;

        public string? BootId => null;

        public IReadOnlyList<Fact> GatherFacts(DateTimeOffset now) => [];

        public Sample TakeSample(DateTimeOffset now) => new() { At = now };

        public void StartKeeper(string runDirectory) => _ = TestPrograms.Start("umbrek-agent", ["keeper", runDirectory]);

        public AwayReason StopReason() => AwayReason.AgentStopped;
    }
}
