using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Simulation.Health;

namespace Umbrek.Simulation.Estate;

/// <summary>Runs the real agent for many simulated hosts in this process, each with a state directory of its own.</summary>
public sealed class SimulatedAgents(string directory, TimeProvider time)
{
    private static readonly TimeSpan Past = TimeSpan.FromHours(6);
    private static readonly TimeSpan PastStep = TimeSpan.FromMinutes(2);

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
        while (!stop.IsCancellationRequested)
        {
            var identity = AgentIdentity.Load(state)!;
            var runtime = new AgentRuntime(identity, state, new SimulatedPlatform(host, time, state), time, new AgentLog(TextWriter.Null, time));
            if (!told)
            {
                var now = time.GetUtcNow();
                runtime.AddEarlier(Enumerable.Range(1, (int)(Past / PastStep)).Reverse().Select(n => SimulatedHealth.At(host, now - n * PastStep)));
                told = true;
            }
            using var cut = new CancellationTokenSource();
            if (host.Story == HostStory.LinkComesAndGoes)
            {
                cut.CancelAfter(TimeSpan.FromSeconds(75 + 5 * (host.Number % 3)));
            }
            await runtime.RunAsync(stop, cut.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            if (!stop.IsCancellationRequested && cut.IsCancellationRequested)
            {
                await Task.Delay(TimeSpan.FromSeconds(40), time, stop).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
        }
    }
}
