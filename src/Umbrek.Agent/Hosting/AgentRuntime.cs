using Umbrek.Agent.Access;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Files;
using Umbrek.Agent.Health;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Links;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
using Umbrek.Agent.Shell;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;

namespace Umbrek.Agent.Hosting;

/// <summary>A whole agent: its link, its runs and its samples, until it is told to stop.</summary>
public sealed class AgentRuntime(AgentIdentity identity, StateDirectory state, IHostPlatform platform, TimeProvider time, AgentLog log)
{
    private readonly SampleBacklog samples = new();
    private readonly HostKeys keys = new(state, platform.BootId, time);
    private readonly TaskCompletionSource linked = new(TaskCreationOptions.RunContinuationsAsynchronously);

    private SessionTable Sessions => field ??= new SessionTable(keys, time);

    /// <summary>One for all who speak to people here: they answer at one place.</summary>
    private IPeopleHere People => field ??= platform.People(state);

    private ConsentDesk Desk => field ??= new ConsentDesk(People, time);

    private ChannelGate Gate => field ??= new(Rules, Sessions, Desk, time, log);
    private FileView Files => field ??= NewFiles();
    private DesktopView Desktops => field ??= new(platform, state, Gate, time, log);
    private ShellTable Shells => field ??= NewShells();

    private HostRules Rules => field ??= new HostRules(state, identity.Allowed, keys, log);

    /// <summary>Samples taken before the agent runs, for a platform that has them.</summary>
    public void AddEarlier(IEnumerable<Sample> earlier)
    {
        foreach (var sample in earlier)
        {
            samples.Add(sample);
        }
    }

    /// <param name="stop">Ends the agent, which says why to the service.</param>
    /// <remarks>Ends by itself, too, when an update is in its place: whoever runs it starts it again.</remarks>
    /// <param name="abandon">Ends it without a word, as a broken line does.</param>
    public async Task RunAsync(CancellationToken stop, CancellationToken abandon = default)
    {
        using var runs = NewRuns();
        using var ending = new CancellationTokenSource();
        using var restart = new CancellationTokenSource();
        await using var probes = NewProbes();
        using var link = NewLink(runs, probes, restart.Cancel);
        probes.Load();
        var linking = link.RunAsync(ending.Token);
        var sampling = SampleAsync(link, ending.Token);
        using (var either = CancellationTokenSource.CreateLinkedTokenSource(stop, abandon, restart.Token))
        {
            await Task.Delay(Timeout.Infinite, either.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
        if (!abandon.IsCancellationRequested)
        {
            await link.SayGoodbyeAsync(restart.IsCancellationRequested && !stop.IsCancellationRequested ? AwayReason.AgentUpdating : platform.StopReason()).ConfigureAwait(false);
        }
        await ending.CancelAsync().ConfigureAwait(false);
        await Task.WhenAll(linking, sampling).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    /// <summary>The last act of an agent that is being removed: ends its runs, delivers how they ended, and tells the service.</summary>
    /// <returns>False when the service could not be told within the time.</returns>
    public async Task<bool> LeaveAsync(TimeSpan within, CancellationToken cancel)
    {
        using var runs = NewRuns();
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(within);
        using var ending = new CancellationTokenSource();
        await using var probes = NewProbes();
        using var link = NewLink(runs, probes);
        foreach (var run in runs.Unfinished)
        {
            runs.Cancel(run);
        }
        await Shells.EndAllAsync().ConfigureAwait(false);
        var linking = link.RunAsync(ending.Token);
        var told = false;
        try
        {
            await linked.Task.WaitAsync(limit.Token).ConfigureAwait(false);
            while (runs.Unfinished.Count > 0)
            {
                await Task.Delay(50, limit.Token).ConfigureAwait(false);
            }
        }
        catch (OperationCanceledException)
        {
            // Said by what is returned.
        }
        finally
        {
            told = await link.SayGoodbyeAsync(AwayReason.AgentRemoved).ConfigureAwait(false);
            await ending.CancelAsync().ConfigureAwait(false);
            await linking.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
        return told;
    }

    private RunTable NewRuns()
    {
        var runs = new RunTable(state, platform, Rules, Sessions, Desk, new GraceDesk(People, time), time, log);
        runs.Load();
        return runs;
    }

    private ShellTable NewShells()
    {
        var shells = new ShellTable(state, platform, Gate, time, log);
        shells.Load();
        return shells;
    }

    private FileView NewFiles()
    {
        var files = new FileView(platform, state, Gate, time, log);
        files.Tidy();
        return files;
    }

    private ProbeRunner NewProbes() => new(state, platform, Rules, time, log);

    private AgentLink NewLink(RunTable runs, ProbeRunner probes, Action? restart = null)
    {
        Gate.Answered = runs.Answered;
        return new(identity, state, platform, Rules, Sessions, new ChannelDialer(Rules, new KeyDoor(keys, Sessions, log), Shells, new HostView(platform, Gate, time, log), new LogView(platform, Gate, log), Files, Desktops, time, log), Shells, Desktops, runs, samples, probes, time, log, (s, problem) => Report(runs, s, problem), restart);
    }

    private async Task SampleAsync(AgentLink link, CancellationToken ending)
    {
        while (true)
        {
            try
            {
                samples.Add(platform.TakeSample(link.ServiceNow));
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
        if (linkState == LinkState.Linked)
        {
            linked.TrySetResult();
        }
        try
        {
            StateDirectory.WriteWhole(
                state.StatusFile,
                new AgentStatus(linkState, time.GetUtcNow(), Environment.ProcessId, platform.AgentVersion, problem, runs.Unfinished.Count, samples.Count),
                AgentJson.Default.AgentStatus);
        }
        catch (IOException e)
        {
            log.Warning($"the status can't be written: {e.Message}");
        }
    }
}
