using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

public static class AlertEndpoints
{
    public static void MapAlerts(this IEndpointRouteBuilder api)
    {
        var alerts = api.MapGroup("/alerts").WithTags("Health");
        alerts.MapGet("", async (AlertService service, Asker by, string? on, string? state, string? severity, string? subsystem, string? check, bool? all, CancellationToken cancel) =>
        {
            var lines = await service.ListAsync(on, QueryWord.Read(state, WireJson.Default.AlertState), QueryWord.Read(severity, WireJson.Default.Severity), QueryWord.Read(subsystem, WireJson.Default.Subsystem), check, all ?? false, by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<AlertLine>(lines, null, lines.Count));
        }).Own().WithName("listAlerts")
            .WithSummary("Alerts that are not over, those with one cause as one line; of hosts of a selection, in a state, of a severity at least, about a subsystem, of a check; or with those that are over.");
        alerts.MapGet("/{id:guid}", async (AlertService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getAlert").WithSummary("One alert, its graph, what happened before it, and who has the same.");
        alerts.MapPost("/acts", async (AlertService service, Asker by, AlertAct act, CancellationToken cancel) =>
        {
            var changed = await service.ActAsync(act, by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<AlertInfo>(changed, null, changed.Count));
        }).Needs(NeedAt.Somewhere, Permission.Configure).WithName("actOnAlerts").WithSummary("Acknowledges, snoozes, dismisses or reopens alerts: all that are named, or none.");
    }
}
