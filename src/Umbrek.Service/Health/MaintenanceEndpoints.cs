using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

public static class MaintenanceEndpoints
{
    public static void MapMaintenance(this IEndpointRouteBuilder api)
    {
        var windows = api.MapGroup("/maintenance").WithTags("Health");
        windows.MapGet("", async (MaintenanceService service, Asker by, Guid? host, CancellationToken cancel) =>
        {
            var list = await service.ListAsync(host, by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<MaintenanceInfo>(list, null, list.Count));
        }).Own().WithName("listMaintenance").WithSummary("Maintenance windows that go on, come, or were over lately; of one host with 'host'.");
        windows.MapPost("", async (MaintenanceService service, HttpContext http, Asker by, NewMaintenance wish, CancellationToken cancel) => Answer(http, await service.CreateAsync(wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("createMaintenance").WithSummary("A time in which alerts of a host, a group or a selection make no noise, once or again and again.");
        windows.MapGet("/{id:guid}", async (MaintenanceService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) => Answer(http, await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getMaintenance").WithSummary("A maintenance window.");
        windows.MapGet("/{id:guid}/calendar", async (MaintenanceService service, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.Text(await service.CalendarAsync(id, by, cancel).ConfigureAwait(false), "text/calendar"))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getMaintenanceCalendar").WithSummary("A maintenance window as an iCalendar file.");
        windows.MapPut("/{id:guid}", async (MaintenanceService service, HttpContext http, Asker by, Guid id, NewMaintenance wish, CancellationToken cancel) =>
            Answer(http, await service.ChangeAsync(id, wish, http.IfMatchVersion("maintenance window"), by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("changeMaintenance").WithSummary("Changes a maintenance window.");
        windows.MapPost("/{id:guid}/end", async (MaintenanceService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) => Answer(http, await service.EndAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("endMaintenance").WithSummary("Ends a maintenance window now and for good.");
        windows.MapDelete("/{id:guid}", async (MaintenanceService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.RemoveAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.Configure).WithName("removeMaintenance").WithSummary("Removes a maintenance window.");
    }

    private static Microsoft.AspNetCore.Http.HttpResults.Ok<MaintenanceInfo> Answer(HttpContext http, MaintenanceInfo window)
    {
        http.SetVersion(window.Version);
        return TypedResults.Ok(window);
    }
}
