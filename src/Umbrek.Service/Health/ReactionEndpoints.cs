using Microsoft.AspNetCore.Http.HttpResults;
using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

public static class ReactionEndpoints
{
    public static void MapReactions(this IEndpointRouteBuilder api)
    {
        var reactions = api.MapGroup("/reactions").WithTags("Health");
        reactions.MapGet("", async (ReactionService service, Asker by, CancellationToken cancel) =>
        {
            var list = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<ReactionInfo>(list, null, list.Count));
        }).Own().WithName("listReactions").WithSummary("What runs by itself because of alerts.");
        reactions.MapPost("", async (ReactionService service, HttpContext http, Asker by, NewReaction wish, CancellationToken cancel) => Answer(http, await service.CreateAsync(wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("createReaction").WithSummary("Has a runbook or a script run on a host when a check raises an alert there, with the grants of whoever says so.");
        reactions.MapGet("/{id:guid}", async (ReactionService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) => Answer(http, await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getReaction").WithSummary("A reaction, and how it went.");
        reactions.MapPut("/{id:guid}", async (ReactionService service, HttpContext http, Asker by, Guid id, NewReaction wish, CancellationToken cancel) =>
            Answer(http, await service.ChangeAsync(id, wish, http.IfMatchVersion("reaction"), by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Configure).WithName("changeReaction").WithSummary("Changes a reaction; it runs with the grants of whoever changed it from then on.");
        reactions.MapDelete("/{id:guid}", async Task<NoContent> (ReactionService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.RemoveAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.Configure).WithName("removeReaction").WithSummary("Removes a reaction.");
    }

    private static Ok<ReactionInfo> Answer(HttpContext http, ReactionInfo reaction)
    {
        http.SetVersion(reaction.Version);
        return TypedResults.Ok(reaction);
    }
}
