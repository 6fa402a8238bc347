using System.Collections.Concurrent;
using Umbrek.Core.Health;
using Umbrek.Service.Links;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Health;

/// <summary>Looks that somebody waits for.</summary>
public sealed class ProbeTrials(IAgentLinks links, TimeProvider time)
{
    private static readonly TimeSpan AnswerWithin = TimeSpan.FromSeconds(10);
    private readonly ConcurrentDictionary<Guid, (Guid HostId, TaskCompletionSource<ProbeReading> Found)> open = new();

    /// <summary>What the host finds; what goes wrong is told as a reading.</summary>
    public async Task<ProbeReading> LookAsync(Guid hostId, Probe probe, CancellationToken cancel)
    {
        var id = Guid.CreateVersion7();
        var found = new TaskCompletionSource<ProbeReading>(TaskCreationOptions.RunContinuationsAsynchronously);
        open[id] = (hostId, found);
        try
        {
            if ((await links.AskAsync(hostId, new HostRequest(HostRequest.BeginLook, Look: new LookOrder(id, probe)), AnswerWithin, cancel).ConfigureAwait(false)).Error is { } refused)
            {
                return ProbeReading.Unknown(refused);
            }
            return await found.Task.WaitAsync(TimeSpan.FromSeconds(probe.TimeoutSeconds) + AnswerWithin, time, cancel).ConfigureAwait(false);
        }
        catch (HostUnreachableException e)
        {
            return ProbeReading.Unknown(e.Message);
        }
        catch (TimeoutException)
        {
            return ProbeReading.Unknown("The host did not tell what it found.");
        }
        finally
        {
            open.TryRemove(id, out _);
        }
    }

    public void Told(Guid hostId, ProbeTried tried)
    {
        if (open.TryGetValue(tried.TrialId, out var waiting) && waiting.HostId == hostId)
        {
            waiting.Found.TrySetResult(tried.Found);
        }
    }
}
