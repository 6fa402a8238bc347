using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Health;

public static class HealthEndpoints
{
    public static void MapHealth(this IEndpointRouteBuilder api)
    {
        api.MapGet("/hosts/{id:guid}/series", async (SeriesReader reader, Guid id, string? metrics, DateTimeOffset? from, DateTimeOffset? to, int? points, CancellationToken cancel) =>
            TypedResults.Ok(await reader.ReadAsync(id, metrics, from, to, points, cancel).ConfigureAwait(false)))
            .WithTags("Health").Needs(NeedAt.Host, Permission.See).WithName("getSeries").WithSummary("Metrics of a host over a time, up to 13 months, with the alerts and jobs in it; names of metrics separated by commas.");
        api.MapGet("/metrics", (OpenMetrics metrics, Asker by) => Results.Text(metrics.Write(by), OpenMetrics.ContentType))
            .Produces<string>(200, OpenMetrics.ContentType).WithTags("Health").Own().WithName("getMetrics").WithSummary("The latest figures of every host that the caller may see, and the service's own, as OpenMetrics text.");
        api.MapGet("/overview", (AlertService service, Asker by, string? path) => TypedResults.Ok(service.Overview(path, by)))
            .WithTags("Health").Own().WithName("getOverview").WithSummary("How the estate fares, or a group in it: alerts by subsystem, for each place below.");
        api.MapGet("/overview/trend", async (AlertService service, Asker by, string? path, int? days, CancellationToken cancel) => TypedResults.Ok(await service.TrendAsync(path, days ?? 7, by, cancel).ConfigureAwait(false)))
            .WithTags("Health").Own().WithName("getTrend").WithSummary("How many alerts there were in the last days, by severity, and whose storage fills up next.");
    }

    /// <summary>For whoever watches the service itself: does it live, and can it work.</summary>
    public static void MapServiceHealth(this IEndpointRouteBuilder root)
    {
        root.MapGet("/health/live", () => Results.Text("live\n")).AllowAnonymous().ExcludeFromDescription();
        root.MapGet("/health/ready", async (IDatabase database, CancellationToken cancel) =>
        {
            await using var db = database.Open();
            return await db.Database.CanConnectAsync(cancel).ConfigureAwait(false)
                ? Results.Text("ready\n")
                : Results.Text("the database does not answer\n", statusCode: StatusCodes.Status503ServiceUnavailable);
        }).AllowAnonymous().ExcludeFromDescription();
    }
}
