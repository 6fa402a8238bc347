using Umbrek.Agent.Platform;

namespace Umbrek.Simulation.Estate;

/// <summary>The made-up person at a made-up computer: reads what is asked, and agrees.</summary>
internal sealed class SimulatedPeople(SimulatedPlatform platform, TimeProvider time) : IPeopleHere
{
    private static readonly TimeSpan Reading = TimeSpan.FromMilliseconds(700);

    public IReadOnlyList<string> LoggedIn() => platform.Person is { } person ? [person] : [];

    public void Tell(string text)
    {
        // Nobody looks at a made-up screen.
    }

    public async Task<ConsentAnswer> AskAsync(ConsentQuestion question, CancellationToken cancel)
    {
        var person = platform.Person;
        await Task.Delay(person is null ? Timeout.InfiniteTimeSpan : Reading, time, cancel).ConfigureAwait(false);
        return new ConsentAnswer(true, person!);
    }

    /// <summary>Saves the work, and lets it come.</summary>
    public async Task<PutOff> WarnAsync(PowerWarning warning, CancellationToken cancel)
    {
        await Task.Delay(Timeout.InfiniteTimeSpan, time, cancel).ConfigureAwait(false);
        throw new OperationCanceledException(cancel);
    }
}
