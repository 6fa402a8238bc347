using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files.Twins;

public static class TwinEndpoints
{
    public static void MapTwins(this IEndpointRouteBuilder api)
    {
        var all = api.MapGroup("/twins").WithTags("Files");
        all.MapGet("", async (TwinService service, Asker by, CancellationToken cancel) => TypedResults.Ok(await service.ListAsync(by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.ReadFiles).WithName("listTwins").WithSummary("One's own pairs of folders that are kept in step, by their names.");
        all.MapPost("", async (TwinService service, Asker by, NewTwin wish, CancellationToken cancel) =>
        {
            var twin = await service.CreateAsync(wish, by, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/twins/{twin.Id}", twin);
        }).Needs(NeedAt.Somewhere, Permission.WriteFiles).WithName("createTwin").WithSummary("Names two folders that are to be kept in step. Nothing is done with them before a turn.");
        all.MapGet("/{id:guid}", async (TwinService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.ReadFiles).WithName("getTwin").WithSummary("One twin, with how far its turn is.");
        all.MapPost("/{id:guid}/turns", async (TwinService service, HttpContext http, Asker by, Guid id, NewTurn wish, CancellationToken cancel) => TypedResults.Accepted($"/api/v1/twins/{id}", await service.TurnAsync(id, wish, by, http.User, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.WriteFiles).WithName("turnTwin").WithSummary("Begins a turn: both folders are looked at, and what is not in step is brought there. It goes on by itself.");
        all.MapGet("/{id:guid}/acts", async (TwinService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.ActsAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.ReadFiles).WithName("listTwinActs").WithSummary($"What the last turn did, or would have done: the first {TwinTurn.MostActs} things.");
        all.MapPost("/{id:guid}/cancel", async (TwinService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.CancelAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.ReadFiles).WithName("cancelTwinTurn").WithSummary("Cancels the turn that goes on. What was done stays done.");
        all.MapDelete("/{id:guid}", async (TwinService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.DeleteAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.ReadFiles).WithName("removeTwin").WithSummary("Forgets a twin; both folders stay as they are.");
    }
}
