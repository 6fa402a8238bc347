using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Health;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Links;
using Umbrek.Agent.Platform;
using Umbrek.Core.Health;

namespace Umbrek.Agent.Hosting;

/// <summary>A whole agent: its link, its runs and its samples, until it is told to stop.</summary>
public sealed class AgentRuntime(AgentIdentity identity, StateDirectory state, IHostPlatform platform, TimeProvider time, AgentLog log)
{
    private readonly SampleBacklog samples = new();

    /// <summary>Samples taken before the agent runs, for a platform that has them.</summary>
    public void AddEarlier(IEnumerable<Sample> earlier)
    {
        foreach (var sample in earlier)
        {
            samples.Add(sample);
        }
    }

    /// <param name="stop">Ends the agent, which says why to the service.</param>
    /// <param name="abandon">Ends it without a word, as a broken line does.</param>
    public async Task RunAsync(CancellationToken stop, CancellationToken abandon = default)
    {
        using var runs = new RunTable(state, platform, time, log);
        runs.Load();
        using var ending = new CancellationTokenSource();
        using var link = new AgentLink(identity, platform, runs, samples, time, log, (s, problem) => Report(runs, s, problem));
        var linking = link.RunAsync(ending.Token);
        var sampling = SampleAsync(link, ending.Token);
        using (var either = CancellationTokenSource.CreateLinkedTokenSource(stop, abandon))
        {
            await Task.Delay(Timeout.Infinite, either.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
        if (!abandon.IsCancellationRequested)
        {
            await link.SayGoodbyeAsync(platform.StopReason()).ConfigureAwait(false);
        }
        await ending.CancelAsync().ConfigureAwait(false);
        await Task.WhenAll(linking, sampling).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    private async Task SampleAsync(AgentLink link, CancellationToken ending)
    {
        while (true)
        {
            try
            {
                samples.Add(platform.TakeSample(time.GetUtcNow()));
                link.SampleTaken();
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException or FormatException or IndexOutOfRangeException)
            {
                log.Warning($"no sample could be taken: {e.Message}");
            }
            await Task.Delay(TimeSpan.FromSeconds(link.SampleIntervalSeconds), time, ending).ConfigureAwait(false);
        }
    }

    private void Report(RunTable runs, LinkState linkState, string? problem)
    {
        try
        {
            StateDirectory.WriteWhole(
                state.StatusFile,
                new AgentStatus(linkState, time.GetUtcNow(), Environment.ProcessId, AgentVersion.Text, problem, runs.Unfinished.Count, samples.Count),
                AgentJson.Default.AgentStatus);
        }
        catch (IOException e)
        {
            log.Warning($"the status can't be written: {e.Message}");
        }
    }
}
