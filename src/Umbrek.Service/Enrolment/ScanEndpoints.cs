using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Enrolment;

public static class ScanEndpoints
{
    public static void MapScans(this IEndpointRouteBuilder api)
    {
        var scans = api.MapGroup("/scans").WithTags("Enrolment");
        scans.MapGet("", async (ScanService service, Asker by, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<ScanInfo>(all, null, all.Count));
        }).Needs(NeedAt.Somewhere, Permission.Scan).WithName("listScans").WithSummary("Scans, newest first.");
        scans.MapPost("", async (ScanService service, Asker by, NewScan wish, CancellationToken cancel) =>
        {
            var started = await service.StartAsync(wish, by, cancel).ConfigureAwait(false);
            return TypedResults.Accepted($"/api/v1/scans/{started.Id}", started);
        }).Needs(NeedAt.Somewhere, Permission.Scan).WithName("startScan").WithSummary("Lets a linked host try a range of addresses around it; at most a /20.");
        scans.MapGet("/{id:guid}", async (ScanService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Scan).WithName("getScan").WithSummary("A scan and what it found.");
        scans.MapPost("/{id:guid}/cancel", async (ScanService service, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.Ok(await service.CancelAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Scan).WithName("cancelScan").WithSummary("Ends a scan; what it found stays.");
    }
}
