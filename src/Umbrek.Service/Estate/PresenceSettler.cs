using System.Text.Json;
using Umbrek.Core.Inventory;
using Umbrek.Service.Links;

namespace Umbrek.Service.Estate;

/// <summary>After a restart: says "lost contact" of hosts that did not return in their time, and of no others. All the time: says which links are unsteady.</summary>
public sealed class PresenceSettler(EstateIndex estate, Intake intake, TimeProvider time) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(TimeSpan.FromSeconds(5), time);
        while (await timer.WaitForNextTickAsync(stoppingToken).ConfigureAwait(false))
        {
            foreach (var change in estate.Settle(time.GetUtcNow()))
            {
                await intake.PresenceAsync(change).ConfigureAwait(false);
            }
            var now = time.GetUtcNow();
            foreach (var (host, unsteady) in estate.TurnedSteadiness(now))
            {
                await intake.FactsAsync(host, [new Fact(FactNames.Unsteady, JsonSerializer.SerializeToElement(unsteady ? "yes" : "no"), now)]).ConfigureAwait(false);
            }
        }
    }
}
