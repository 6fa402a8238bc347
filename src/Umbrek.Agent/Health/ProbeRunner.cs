using System.Collections.Concurrent;
using System.Text.Json;
using Umbrek.Agent.Access;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Core.Access;
using Umbrek.Core.Files;
using Umbrek.Core.Health;
using Umbrek.Wire;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Health;

/// <summary>
/// Looks at what the service's checks name, linked or not and over restarts, helps where that is wanted and the host policy allows it, and keeps what the service
/// has not been told.
/// </summary>
public sealed class ProbeRunner(StateDirectory state, IHostPlatform platform, HostRules rules, TimeProvider time, AgentLog log) : IAsyncDisposable
{
    /// <summary>Looks at one time.</summary>
    private const int AtOnce = 4;

    /// <summary>What happened while nobody could be told; older ones go first.</summary>
    private const int MostEvents = 200;

    /// <summary>Figures that alone are new are told this often.</summary>
    private static readonly TimeSpan FiguresEvery = TimeSpan.FromSeconds(60);

    private readonly IProber prober = platform.Prober(state);
    private readonly IPeopleHere people = platform.People(state);
    private readonly ConcurrentDictionary<string, Running> running = new(StringComparer.Ordinal);
    private readonly SemaphoreSlim atOnce = new(AtOnce);
    private readonly Lock gate = new();
    private readonly List<ProbeEvent> events = [];
    private readonly CancellationTokenSource stopping = new();
    private string kept = "";
    private DateTimeOffset lastEvent;

    private sealed class Running(ProbeOrder order, CancellationTokenSource stop)
    {
        public ProbeOrder Order => order;
        public CancellationTokenSource Stop => stop;
        public Task Task { get; set; } = Task.CompletedTask;
        public ProbeResult? Result { get; set; }

        /// <summary>What the service was told last.</summary>
        public ProbeResult? Told { get; set; }
        public DateTimeOffset ToldAt { get; set; }
    }

    /// <summary>Released when there is something that can't wait.</summary>
    public SemaphoreSlim News { get; } = new(0);

    /// <summary>Released when a probe stands otherwise than before: other things that are known of the host may have changed with it.</summary>
    public SemaphoreSlim Turned { get; } = new(0);

    /// <summary>Takes up what was wanted last.</summary>
    public void Load()
    {
        try
        {
            if (File.Exists(state.ProbesFile) && JsonSerializer.Deserialize(File.ReadAllBytes(state.ProbesFile), LinkJson.Default.WantedProbes) is { Probes: not null } wanted)
            {
                Take(wanted);
            }
        }
        catch (Exception e) when (e is JsonException or IOException)
        {
            log.Warning($"{state.ProbesFile} can't be read ({e.Message}); nothing is looked at until the service is linked");
        }
    }

    /// <summary>Looks at exactly this from now on, over restarts too.</summary>
    public void Want(WantedProbes wanted)
    {
        Take(wanted);
        var json = JsonSerializer.Serialize(wanted, LinkJson.Default.WantedProbes);
        if (json == kept)
        {
            return;
        }
        try
        {
            StateDirectory.WriteWhole(state.ProbesFile, wanted, LinkJson.Default.WantedProbes);
            kept = json;
        }
        catch (IOException e)
        {
            log.Warning($"what is to be looked at can't be kept over a restart: {e.Message}");
        }
    }

    /// <summary>A new link: whatever stands is told again.</summary>
    public void Rewind()
    {
        foreach (var one in running.Values)
        {
            one.Told = null;
        }
        News.Release();
    }

    /// <summary>What the service has yet to be told, and a call for when it has been; null when there is nothing.</summary>
    public (ProbeReport Report, Action Told)? Next()
    {
        var now = time.GetUtcNow();
        var some = running.Values.Where(r => IsNews(r, now)).Take(ProbeReport.MaxResults).Select(r => (Running: r, Result: r.Result!)).ToList();
        List<ProbeEvent> happened;
        lock (gate)
        {
            happened = [.. events.Take(ProbeReport.MaxEvents)];
        }
        if (some.Count + happened.Count == 0)
        {
            return null;
        }
        return (new ProbeReport(now, [.. some.Select(s => s.Result)], happened), Told);

        void Told()
        {
            foreach (var (one, result) in some)
            {
                (one.Told, one.ToldAt) = (result, now);
            }
            lock (gate)
            {
                events.RemoveAll(happened.Contains);
            }
        }
    }

    /// <summary>Looks once for somebody who tries a check, and does nothing about it.</summary>
    public async Task<ProbeReading> TryAsync(Probe probe, CancellationToken cancel) =>
        probe.Normalise(out var problem) is not { } usable ? ProbeReading.Unknown(problem)
        : Forbids(usable) is { } forbidden ? ProbeReading.Unknown(forbidden)
        : Tame(await prober.LookAsync(null, usable, cancel).ConfigureAwait(false));

    /// <summary>Looks no more.</summary>
    public async ValueTask DisposeAsync()
    {
        await stopping.CancelAsync().ConfigureAwait(false);
        await Task.WhenAll(running.Values.Select(r => r.Task)).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        stopping.Dispose();
        atOnce.Dispose();
    }

    private static bool IsNews(Running one, DateTimeOffset now) =>
        one.Result is { } result && (one.Told is not { } told || told.State != result.State || (told.At != result.At && now - one.ToldAt >= FiguresEvery));

    private void Take(WantedProbes wanted)
    {
        lock (gate)
        {
            var orders = wanted.Probes.Where(p => p is { Check.Length: > 0 and <= 100, Probe: not null }).Take(WantedProbes.MaxCount).DistinctBy(p => p.Check).ToDictionary(p => p.Check);
            foreach (var (check, one) in running)
            {
                if (!orders.TryGetValue(check, out var order) || order != one.Order)
                {
                    one.Stop.Cancel();
                    running.TryRemove(check, out _);
                }
            }
            foreach (var (check, order) in orders)
            {
                if (!running.ContainsKey(check))
                {
                    var stop = CancellationTokenSource.CreateLinkedTokenSource(stopping.Token);
                    var one = running[check] = new Running(order, stop);
                    one.Task = RunAsync(one, stop.Token);
                }
            }
        }
    }

    private async Task RunAsync(Running one, CancellationToken stop)
    {
        await Task.Yield();
        var (check, name, wish) = one.Order;
        if (wish.Normalise(out var problem) is not { } probe)
        {
            Note(one, new ProbeResult(check, ProbeState.Unknown, $"This agent can't look at that: {problem}", [], time.GetUtcNow(), time.GetUtcNow()));
            return;
        }
        var track = ProbeTrack.Begin(time.GetUtcNow());
        // A thousand hosts that are told at once do not look at once.
        await Task.Delay(TimeSpan.FromSeconds(Random.Shared.NextDouble() * Math.Min(3, probe.EverySeconds)), time, stop).ConfigureAwait(false);
        while (true)
        {
            var reading = Tame(await LookAsync(check, probe, stop).ConfigureAwait(false));
            var now = time.GetUtcNow();
            track = track.Step(probe, reading, platform.BootedAt(now), now, out var happened, out var act);
            if (happened is not null)
            {
                Tell(check, $"{name}: {happened}", track.State == ProbeState.Failed);
            }
            if (!track.Doubts)
            {
                Note(one, new ProbeResult(check, track.State, reading.Says, reading.Figures, track.Since, now));
            }
            if (act)
            {
                await HelpAsync(check, name, probe, stop).ConfigureAwait(false);
            }
            var wait = TimeSpan.FromSeconds(probe.EverySeconds);
            await Task.Delay((track.Doubts || act) && wait > ProbeTrack.AgainAfter ? ProbeTrack.AgainAfter : wait, time, stop).ConfigureAwait(false);
        }
    }

    private async Task<ProbeReading> LookAsync(string check, Probe probe, CancellationToken stop)
    {
        if (Forbids(probe) is { } forbidden)
        {
            return ProbeReading.Unknown(forbidden);
        }
        await atOnce.WaitAsync(stop).ConfigureAwait(false);
        try
        {
            return await prober.LookAsync(check, probe, stop).ConfigureAwait(false);
        }
        catch (Exception e) when (e is not OperationCanceledException and not OutOfMemoryException)
        {
            log.Warning($"a look for {check} failed: {e}");
            return ProbeReading.Unknown("It could not look; the agent's log says why.");
        }
        finally
        {
            atOnce.Release();
        }
    }

    private async Task HelpAsync(string check, string name, Probe probe, CancellationToken stop)
    {
        if (Forbids(HostAct.Run) is { } forbidden)
        {
            Tell(check, $"{name}: nothing was done about it. {forbidden}", true);
            return;
        }
        var done = Tame(await prober.HelpAsync(probe, stop).ConfigureAwait(false));
        Tell(check, $"{name}: {done.Says}", done.State != ProbeState.Well);
    }

    private string? Forbids(Probe probe) =>
        Forbids(probe.Needs) ?? (probe.Kind == ProbeKind.Log && rules.Side().InForce.FileRoots is { } roots && FileRoots.Find(roots, platform.Files(null).PlaceOf(new FileName(probe.Target))) is null
            ? $"{probe.Target} does not lie in what this host lets technicians into: {FileRoots.Words(roots)}."
            : null);

    /// <summary>Why the host's side is against an act that nobody is there to prove a key or to be asked for; null when it is not.</summary>
    private string? Forbids(HostAct? act)
    {
        if (act is not { } needed)
        {
            return null;
        }
        var side = rules.Side();
        var what = HostPolicyWords.Describe(needed);
        return !side.InForce.Allows(needed) ? $"This host does not allow to {what}: {side.Problem ?? "its host policy leaves that out."}"
            : side.InForce.AsksKey(needed) ? $"This host asks for its access key before anybody may {what}, and a check has none."
            : side.InForce.ConsentWith(people.LoggedIn().Count > 0) != ConsentNeed.None ? $"A person at this host has to agree before anybody may {what}, and a check does not ask."
            : null;
    }

    private void Note(Running one, ProbeResult result)
    {
        var news = one.Result?.State != result.State;
        one.Result = result;
        if (news)
        {
            News.Release();
            Turned.Release();
        }
    }

    private void Tell(string check, string text, bool bad)
    {
        if (bad)
        {
            log.Warning(text);
        }
        else
        {
            log.Info(text);
        }
        lock (gate)
        {
            if (events.Count >= MostEvents)
            {
                events.RemoveAt(0);
            }
            // One after the other, however fast: they are told and read in this order.
            var now = time.GetUtcNow();
            lastEvent = now > lastEvent.AddMilliseconds(1) ? now : lastEvent.AddMilliseconds(1);
            events.Add(new ProbeEvent(Guid.CreateVersion7(lastEvent), check, lastEvent, text));
        }
        News.Release();
    }

    private static ProbeReading Tame(ProbeReading reading) => reading with
    {
        Says = reading.Says.Length > ProbeReading.MaxSays ? reading.Says[..(ProbeReading.MaxSays - 1)] + "…" : reading.Says,
        Figures = [.. reading.Figures.Where(f => double.IsFinite(f.Value)).Take(ProbeReading.MaxFigures)],
    };
}
