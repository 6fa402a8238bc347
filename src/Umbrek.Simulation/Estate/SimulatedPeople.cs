using Umbrek.Agent.Platform;

namespace Umbrek.Simulation.Estate;

/// <summary>The made-up person at a made-up computer: reads what is asked, and agrees.</summary>
internal sealed class SimulatedPeople(SimulatedHost host, TimeProvider time) : IPeopleHere
{
    private static readonly TimeSpan Reading = TimeSpan.FromMilliseconds(700);

    public IReadOnlyList<string> LoggedIn() => host.Person is null ? [] : [host.Person];

    public void Tell(string text)
    {
        // Nobody looks at a made-up screen.
    }

    public async Task<ConsentAnswer> AskAsync(ConsentQuestion question, CancellationToken cancel)
    {
        await Task.Delay(host.Person is null ? Timeout.InfiniteTimeSpan : Reading, time, cancel).ConfigureAwait(false);
        return new ConsentAnswer(true, host.Person!);
    }
}
