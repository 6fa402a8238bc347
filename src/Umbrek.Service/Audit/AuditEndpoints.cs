namespace Umbrek.Service.Audit;

public static class AuditEndpoints
{
    public static void MapAudit(this IEndpointRouteBuilder api) =>
        api.MapGet("/audit", async (AuditLog log, string? action, long? before, int? limit, CancellationToken cancel) =>
            TypedResults.Ok(await log.ListAsync(action, before, limit, cancel).ConfigureAwait(false)))
            .WithTags("Audit").WithName("listAudit").WithSummary("The audit log, newest first; 'action' narrows to actions that begin so, 'before' continues below a number.");
}
