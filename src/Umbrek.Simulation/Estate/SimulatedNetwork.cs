using System.Collections.Concurrent;
using System.Net.NetworkInformation;

namespace Umbrek.Simulation.Estate;

/// <summary>What joins made-up computers: a packet for a network card wakes the one that listens for it.</summary>
public sealed class SimulatedNetwork
{
    private readonly ConcurrentDictionary<PhysicalAddress, TaskCompletionSource> asleep = new();

    public void Send(PhysicalAddress card)
    {
        if (asleep.TryRemove(card, out var sleeper))
        {
            sleeper.TrySetResult();
        }
    }

    /// <summary>Completes when a packet for the card comes.</summary>
    public Task WaitAsync(PhysicalAddress card, CancellationToken cancel) =>
        asleep.GetOrAdd(card, _ => new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously)).Task.WaitAsync(cancel);
}
