using Umbrek.Core.Health;

namespace Umbrek.Agent.Health;

/// <summary>Looks by the kind of the probe, and gives each look its time.</summary>
public sealed class ProbeSet(IEnumerable<IProbe> kinds, Func<Probe, CancellationToken, Task<ProbeReading>> help, TimeProvider time) : IProber
{
    private static readonly TimeSpan LeastToHelp = TimeSpan.FromMinutes(2);
    private readonly Dictionary<ProbeKind, IProbe> kinds = kinds.ToDictionary(k => k.Kind);

    public async Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel)
    {
        if (!kinds.TryGetValue(probe.Kind, out var kind))
        {
            return ProbeReading.Unknown("This agent can't look at that; update it.");
        }
        return await WithinAsync(c => kind.LookAsync(check, probe, c), TimeSpan.FromSeconds(probe.TimeoutSeconds), seconds => ProbeReading.Failed($"No answer within {seconds:0.#} s."), cancel).ConfigureAwait(false);
    }

    public Task<ProbeReading> HelpAsync(Probe probe, CancellationToken cancel)
    {
        var within = TimeSpan.FromSeconds(Math.Max(probe.TimeoutSeconds, LeastToHelp.TotalSeconds));
        return WithinAsync(c => help(probe, c), within, seconds => ProbeReading.Failed($"What should help had not ended after {seconds:0} s."), cancel);
    }

    private async Task<ProbeReading> WithinAsync(Func<CancellationToken, Task<ProbeReading>> look, TimeSpan within, Func<double, ProbeReading> late, CancellationToken cancel)
    {
        using var limit = new CancellationTokenSource(within, time);
        using var either = CancellationTokenSource.CreateLinkedTokenSource(limit.Token, cancel);
        try
        {
            return await look(either.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            return late(within.TotalSeconds);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or System.Net.Sockets.SocketException or InvalidOperationException or NotSupportedException)
        {
            return ProbeReading.Unknown($"It could not look: {e.Message}");
        }
    }
}
