using Microsoft.AspNetCore.Http.Features;
using Microsoft.Net.Http.Headers;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Enrolment;

public static class UpdateEndpoints
{
    public static void MapUpdates(this IEndpointRouteBuilder api)
    {
        var releases = api.MapGroup("/releases").WithTags("Enrolment");
        releases.MapGet("", async (ReleaseService service, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<ReleaseInfo>(all, null, all.Count));
        }).Needs(NeedAt.Somewhere, Permission.Software).WithName("listReleases").WithSummary("Agent programs that hosts can be updated to, newest first.");
        releases.MapPost("", async (ReleaseService service, HttpContext http, Asker by, string version, CancellationToken cancel) =>
        {
            http.Features.Get<IHttpMaxRequestBodySizeFeature>()!.MaxRequestBodySize = ReleaseManifest.MaxSize + 1;
            var added = await service.AddAsync(version, http.Request.Body, by, cancel).ConfigureAwait(false);
            return TypedResults.Created("/api/v1/releases", added);
        }).Needs(NeedAt.Everywhere, Permission.Administer).WithName("addRelease").WithSummary("Adds an agent program; its file is the body, as it is. The service signs it.");

        var rollouts = api.MapGroup("/rollouts").WithTags("Enrolment");
        rollouts.MapGet("", async (RolloutService service, Asker by, CancellationToken cancel) =>
        {
            var all = await service.ListAsync(by, cancel).ConfigureAwait(false);
            return TypedResults.Ok(new Page<RolloutInfo>(all, null, all.Count));
        }).Needs(NeedAt.Somewhere, Permission.Software).WithName("listRollouts").WithSummary("Agent updates, newest first.");
        rollouts.MapPost("", async (RolloutService service, Asker by, NewRollout wish, CancellationToken cancel) =>
        {
            var made = await service.CreateAsync(wish, by, cancel).ConfigureAwait(false);
            return TypedResults.Accepted($"/api/v1/rollouts/{made.Info.Id}", made);
        }).Needs(NeedAt.Somewhere, Permission.Software).WithName("createRollout").WithSummary("Updates the agents of a selection, in waves.");
        rollouts.MapGet("/{id:guid}", async (RolloutService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Software).WithName("getRollout").WithSummary("An agent update with every host of it.");
        rollouts.MapPost("/{id:guid}/cancel", async (RolloutService service, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.Ok(await service.CancelAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Software).WithName("cancelRollout").WithSummary("Tells no further host; those that were told go on.");
    }

    /// <summary>Where hosts fetch what they were told to run. It is no secret, and the agent believes its signature alone.</summary>
    public static void MapReleaseFiles(this IEndpointRouteBuilder app) =>
        app.MapGet("/" + ReleaseOffer.PathOf("{sha256}"), (ReleaseService service, string sha256) =>
            TypedResults.PhysicalFile(service.FileOf(sha256), "application/octet-stream", enableRangeProcessing: true, entityTag: new EntityTagHeaderValue($"\"{sha256}\"")))
            .AllowAnonymous().ExcludeFromDescription();
}
