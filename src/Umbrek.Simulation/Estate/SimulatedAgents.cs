using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Jobs;
using Umbrek.Simulation.Health;

namespace Umbrek.Simulation.Estate;

/// <summary>Runs the real agent for many simulated hosts in this process, each with a state directory of its own.</summary>
public sealed class SimulatedAgents(string directory, TimeProvider time)
{
    private static readonly TimeSpan Past = TimeSpan.FromHours(8);

    /// <summary>A line that comes and goes is there for the first part of each turn, by the clock: all of one place go together.</summary>
    private static readonly TimeSpan LineTurn = TimeSpan.FromMinutes(9);
    private static readonly TimeSpan LineThere = TimeSpan.FromMinutes(4);
    private static readonly TimeSpan LineAtLeast = TimeSpan.FromMinutes(1);
    private static readonly TimeSpan PastStep = TimeSpan.FromMinutes(2);

    private static readonly TimeSpan PlugHolds = TimeSpan.FromSeconds(75);
    private static readonly TimeSpan PlugIsOut = TimeSpan.FromSeconds(20);
    /// <summary>From going down to being up again.</summary>
    private static readonly TimeSpan RestartTakes = TimeSpan.FromSeconds(9);
    private static readonly TimeSpan StartTakes = TimeSpan.FromSeconds(5);

    private readonly SimulatedNetwork network = new();

    private static readonly TimeSpan ClockBehindBy = TimeSpan.FromMinutes(7);

    public StateDirectory StateOf(SimulatedHost host) => new(Path.Combine(directory, host.Name));

    public async Task EnrolAsync(SimulatedHost host, Uri service, string token, CancellationToken cancel)
    {
        var state = StateOf(host);
        if (AgentIdentity.Load(state) is null)
        {
            await new Enroller(state, new SimulatedPlatform(host, time, state)).EnrolAsync(service, token, null, AccessKeyChoice.None, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>One host's agent until <paramref name="stop"/>; a host whose line comes and goes is cut off now and then.</summary>
    public async Task RunAsync(SimulatedHost host, CancellationToken stop)
    {
        var state = StateOf(host);
        var told = false;
        DateTimeOffset? restartedAt = null;
        while (!stop.IsCancellationRequested)
        {
            var identity = AgentIdentity.Load(state)!;
            var clock = host.Story == HostStory.ClockBehind ? new ClockOfItsOwn(time, -ClockBehindBy) : time;
            using var down = new CancellationTokenSource();
            var platform = new SimulatedPlatform(host, clock, state, network, restartedAt, down);
            var runtime = new AgentRuntime(identity, state, platform, clock, new AgentLog(TextWriter.Null, time));
            if (!told)
            {
                var now = clock.GetUtcNow();
                runtime.AddEarlier(Enumerable.Range(1, (int)(Past / PastStep)).Reverse().Select(n => SimulatedHealth.At(host, now - n * PastStep)));
                told = true;
            }
            using var cut = new CancellationTokenSource();
            if (host.Story == HostStory.LinkComesAndGoes)
            {
                var there = LineThere - SinceTurn() + TimeSpan.FromSeconds(host.Number % 5);
                cut.CancelAfter(there > LineAtLeast ? there : LineAtLeast);
            }
            else if (host.Story == HostStory.LoosePlug)
            {
                cut.CancelAfter(PlugHolds);
            }
            using var ends = CancellationTokenSource.CreateLinkedTokenSource(stop);
            // A computer that falls asleep says nothing of it.
            using var asleep = platform.Down.Register(() => (platform.Goes == PowerAct.Sleep ? cut : ends).Cancel());
            await runtime.RunAsync(ends.Token, cut.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            if (!stop.IsCancellationRequested && platform.Goes is { } act)
            {
                await UpAgainAsync(platform, act, host, stop).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                restartedAt = act == PowerAct.Sleep ? restartedAt : clock.GetUtcNow();
                continue;
            }
            if (!stop.IsCancellationRequested && cut.IsCancellationRequested)
            {
                await Task.Delay(host.Story == HostStory.LoosePlug ? PlugIsOut : LineTurn - SinceTurn() + TimeSpan.FromSeconds(host.Number % 7), time, stop).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
        }
    }

    private async Task UpAgainAsync(SimulatedPlatform platform, PowerAct act, SimulatedHost host, CancellationToken stop)
    {
        if (act != PowerAct.Restart)
        {
            await network.WaitAsync(platform.Card.Hardware, stop).ConfigureAwait(false);
        }
        await Task.Delay((act == PowerAct.Restart ? RestartTakes : StartTakes) + TimeSpan.FromMilliseconds(host.Number % 8 * 400), time, stop).ConfigureAwait(false);
    }

    /// <summary>A clock that nobody keeps: it goes as fast as any, and shows another time.</summary>
    private sealed class ClockOfItsOwn(TimeProvider right, TimeSpan off) : TimeProvider
    {
        public override DateTimeOffset GetUtcNow() => right.GetUtcNow() + off;

        public override long GetTimestamp() => right.GetTimestamp();

        public override long TimestampFrequency => right.TimestampFrequency;

        public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period) => right.CreateTimer(callback, state, dueTime, period);
    }

    private TimeSpan SinceTurn() => TimeSpan.FromTicks(time.GetUtcNow().UtcTicks % LineTurn.Ticks);
}
