using Umbrek.Service.Hosting;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Enrolment;

public static class ScanEndpoints
{
    public static void MapScans(this IEndpointRouteBuilder api)
    {
        var scans = api.MapGroup("/scans").WithTags("Enrolment");
        scans.MapGet("", async (ScanService service, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<ScanInfo>(all, null, all.Count));
        }).WithName("listScans").WithSummary("Scans, newest first.");
        scans.MapPost("", async (ScanService service, HttpContext http, NewScan wish, CancellationToken cancel) =>
        {
            var started = await service.StartAsync(wish, http.Caller(), cancel).ConfigureAwait(false);
            return TypedResults.Accepted($"/api/v1/scans/{started.Id}", started);
        }).WithName("startScan").WithSummary("Lets a linked host try a range of addresses around it; at most a /20.");
        scans.MapGet("/{id:guid}", async (ScanService service, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.GetAsync(id, cancel).ConfigureAwait(false)))
            .WithName("getScan").WithSummary("A scan and what it found.");
        scans.MapPost("/{id:guid}/cancel", async (ScanService service, HttpContext http, Guid id, CancellationToken cancel) =>
            TypedResults.Ok(await service.CancelAsync(id, http.Caller(), cancel).ConfigureAwait(false)))
            .WithName("cancelScan").WithSummary("Ends a scan; what it found stays.");
    }
}
