using Umbrek.Agent.Platform;
using Umbrek.Core.Jobs;
using Umbrek.Simulation.Estate;

namespace Umbrek.Simulation.Jobs;

/// <summary>A made-up computer goes down and comes back; its person is logged out for a while.</summary>
public sealed class SimulatedPower(SimulatedPlatform platform) : IPowerControl
{
    public IReadOnlyList<string> LoggedIn() => platform.Person is { } person ? [person] : [];

    public string? Restart() => platform.GoDown(PowerAct.Restart);

    public string? ShutDown() => platform.GoDown(PowerAct.ShutDown);

    public string? Sleep() => platform.GoDown(PowerAct.Sleep);

    public string? LogOut(string person)
    {
        platform.LogOut();
        return null;
    }

    public string? Lock(string person) => null;
}
