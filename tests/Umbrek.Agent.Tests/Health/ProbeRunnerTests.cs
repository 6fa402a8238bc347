using System.Collections.Concurrent;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Access;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Health;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Tests.Hosting;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Tests;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Tests.Health;

/// <summary>What an agent looks at by itself, and what it does about it.</summary>
public sealed class ProbeRunnerTests : IAsyncDisposable
{
    private readonly TestDirectory directory = new();
    private readonly FakeTimeProvider time = new(DateTimeOffset.UtcNow);
    private readonly StateDirectory state;
    private readonly FoundByTest found = new();
    private readonly StringWriter said = new();
    private readonly List<ProbeRunner> opened = [];

    public ProbeRunnerTests()
    {
        state = new StateDirectory(directory.In("s"));
        state.Create();
    }

    private static readonly ProbeOrder Printer = new("ticket-printing-runs", "Ticket printing runs", new Probe(ProbeKind.Service, "ticket-print", EverySeconds: 20, GraceSeconds: 60, Act: ProbeAct.Restart));
    private static readonly ProbeOrder Spool = new("spool", "Spool", new Probe(ProbeKind.Script, "", "echo queue=3"));

    [Fact]
    public async Task A_stopped_service_is_started_again_and_all_of_it_is_told_once()
    {
        found.State = ProbeState.Failed;
        var runner = Open();
        runner.Want(new WantedProbes([Printer]));
        await TickAsync(() => found.Helped == 1);
        found.State = ProbeState.Well;
        await TickAsync(() => Texts(runner).Exists(t => t.Contains("Well again", StringComparison.Ordinal)));
        Texts(runner).ShouldBe(["Ticket printing runs: It is failed.", "Ticket printing runs: service ticket-print was started again.", "Ticket printing runs: Well again: It is well."]);
        var (report, told) = runner.Next()!.Value;
        report.Results.ShouldHaveSingleItem().ShouldSatisfyAllConditions(r => r.Check.ShouldBe("ticket-printing-runs"), r => r.State.ShouldBe(ProbeState.Well));
        told();
        runner.Next().ShouldBeNull();

        // A new link is told where it stands, and not again what happened.
        runner.Rewind();
        runner.Next()!.Value.Report.ShouldSatisfyAllConditions(r => r.Results.Count.ShouldBe(1), r => r.Events.ShouldBeEmpty());
        said.ToString().ShouldContain("was started again");
    }

    [Fact]
    public async Task What_is_wanted_is_kept_over_a_restart_and_goes_when_it_is_wanted_no_more()
    {
        var first = Open();
        first.Want(new WantedProbes([Printer]));
        await first.DisposeAsync();
        opened.Remove(first);
        var second = Open();
        second.Load();
        await TickAsync(() => second.Next() is not null);
        second.Want(new WantedProbes([]));
        second.Rewind();
        second.Next().ShouldBeNull();
        var looks = found.Looks;
        time.Advance(TimeSpan.FromMinutes(10));
        var third = Open();
        third.Load();
        third.Next().ShouldBeNull();
        found.Looks.ShouldBe(looks);
    }

    [Theory]
    [InlineData("allowed", "does not allow to run commands")]
    [InlineData("key", "asks for its access key")]
    [InlineData("consent", "has to agree")]
    public async Task Neither_a_script_nor_help_goes_past_the_host_policy(string narrowed, string says)
    {
        found.State = ProbeState.Failed;
        var policy = narrowed switch
        {
            "allowed" => HostPolicy.Everything with { Allowed = [HostAct.Watch] },
            "key" => HostPolicy.Everything with { KeyFor = [HostAct.Run] },
            _ => HostPolicy.Everything with { Consent = ConsentRule.Always },
        };
        var runner = Open(policy);
        runner.Want(new WantedProbes([Printer, Spool]));
        await TickAsync(() => Texts(runner).Exists(t => t.Contains("nothing was done about it", StringComparison.Ordinal)));
        Texts(runner).ShouldContain(t => t.Contains(says, StringComparison.Ordinal));
        found.Helped.ShouldBe(0);
        await TickAsync(() => All(runner).Exists(r => r.Check == "spool"));
        All(runner).Single(r => r.Check == "spool").ShouldSatisfyAllConditions(r => r.State.ShouldBe(ProbeState.Unknown), r => r.Says.ShouldContain(says));
        found.Kinds.ShouldNotContain(ProbeKind.Script);
        (await runner.TryAsync(Spool.Probe, default)).Says.ShouldContain(says);
    }

    [Fact]
    public async Task A_service_that_lies_about_a_probe_is_not_followed()
    {
        var runner = Open();
        runner.Want(new WantedProbes([Printer with { Probe = Printer.Probe with { Target = "--now; reboot" } }]));
        await TickAsync(() => runner.Next() is not null);
        runner.Next()!.Value.Report.Results.Single().ShouldSatisfyAllConditions(r => r.State.ShouldBe(ProbeState.Unknown), r => r.Says.ShouldContain("Name the service"));
        found.Looks.ShouldBe(0);
        (await runner.TryAsync(new Probe(ProbeKind.Log, "relative", "x"), default)).State.ShouldBe(ProbeState.Unknown);
    }

    [Fact]
    public async Task Events_that_nobody_takes_are_bounded()
    {
        var runner = Open();
        found.Flutters = true;
        runner.Want(new WantedProbes([Printer with { Probe = Printer.Probe with { Act = ProbeAct.None, GraceSeconds = 0 } }]));
        await TickAsync(() => found.Looks > 450, 20);
        var told = 0;
        while (runner.Next() is var (report, done))
        {
            told += report.Events.Count;
            done();
        }
        told.ShouldBeInRange(1, 200);
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var runner in opened)
        {
            await runner.DisposeAsync();
        }
        directory.Dispose();
    }

    private ProbeRunner Open(HostPolicy? policy = null)
    {
        var log = new AgentLog(TextWriter.Synchronized(said), time);
        var runner = new ProbeRunner(state, new FoundPlatform(found), new HostRules(state, policy ?? HostPolicy.Everything, new HostKeys(state, null, time), log), time, log);
        opened.Add(runner);
        return runner;
    }

    /// <summary>Lets time go on, step by step, until it is so.</summary>
    private Task TickAsync(Func<bool> done, int seconds = 1) => Wait.UntilAsync(
        () =>
        {
            time.Advance(TimeSpan.FromSeconds(seconds));
            return done();
        }, "what was waited for");

    private static List<string> Texts(ProbeRunner runner) => runner.Next() is var (report, _) ? [.. report.Events.Select(e => e.Text)] : [];

    private static List<ProbeResult> All(ProbeRunner runner)
    {
        runner.Rewind();
        return runner.Next() is var (report, _) ? [.. report.Results] : [];
    }

    /// <summary>What the test has a probe find.</summary>
    private sealed class FoundByTest : IProber
    {
        public ProbeState State { get; set; } = ProbeState.Well;
        public bool Flutters { get; set; }
        public int Helped { get; private set; }
        public int Looks { get; private set; }
        public ConcurrentBag<ProbeKind> Kinds { get; } = [];

        public Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel)
        {
            Looks++;
            Kinds.Add(probe.Kind);
            var now = Flutters ? Looks / 2 % 2 == 0 ? ProbeState.Well : ProbeState.Failed : State;
            return Task.FromResult(new ProbeReading(now, $"It is {now.ToString().ToLowerInvariant()}.", []));
        }

        public Task<ProbeReading> HelpAsync(Probe probe, CancellationToken cancel)
        {
            Helped++;
            return Task.FromResult(ProbeReading.Well($"service {probe.Target} was started again."));
        }
    }

    private sealed class FoundPlatform(FoundByTest found) : BarePlatform
    {
        public override string SystemName => "quay-ticket-03";

        public override IProber Prober(StateDirectory state) => found;

        public override IPeopleHere People(StateDirectory state) => new NobodyHere();
    }

    private sealed class NobodyHere : IPeopleHere
    {
        public IReadOnlyList<string> LoggedIn() => [];

        public void Tell(string text)
        {
        }

        public Task<ConsentAnswer> AskAsync(ConsentQuestion question, CancellationToken cancel) => throw new NotSupportedException();

        public Task<PutOff> WarnAsync(PowerWarning warning, CancellationToken cancel) => throw new NotSupportedException();
    }
}
