using Microsoft.AspNetCore.Http.Features;
using Microsoft.Net.Http.Headers;
using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files;

public static class ParcelEndpoints
{
    private const long MostListBytes = 128 << 20;

    public static void MapParcels(this IEndpointRouteBuilder api)
    {
        var all = api.MapGroup("/parcels").WithTags("Files");
        all.MapGet("", async (ParcelService service, Asker by, CancellationToken cancel) => TypedResults.Ok(await service.ListAsync(by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.WriteFiles).WithName("listParcels").WithSummary("What one has sent to the service for hosts to fetch, newest first.");
        all.MapPost("", async (ParcelService service, HttpContext http, Asker by, NewParcel wish, CancellationToken cancel) =>
        {
            var parcel = await service.CreateAsync(wish, by, http.Request.Headers["Idempotency-Key"].ToString() is { Length: > 0 } key ? key : null, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/parcels/{parcel.Id}", parcel);
        }).Needs(NeedAt.Somewhere, Permission.WriteFiles).WithMetadata(new Microsoft.AspNetCore.Mvc.RequestSizeLimitAttribute(MostListBytes))
            .WithName("createParcel").WithSummary("Begins a parcel: says which files and folders it is going to hold. Their contents follow, one behind the other.");
        all.MapGet("/{id:guid}", async (ParcelService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.WriteFiles).WithName("getParcel").WithSummary("One parcel: how much of it has come, and its digest once that is all.");
        all.MapPut("/{id:guid}/content", async (ParcelService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) =>
        {
            http.Features.Get<IHttpMaxRequestBodySizeFeature>()!.MaxRequestBodySize = null;
            return TypedResults.Ok(await service.TakeAsync(id, FromOf(http), http.Request.Body, by, cancel).ConfigureAwait(false));
        }).Needs(NeedAt.Somewhere, Permission.WriteFiles)
            .WithName("sendParcelContent").WithSummary("A part of a parcel's contents. 'Content-Range: bytes FIRST-LAST/ALL' (RFC 9110, 14.4) says which; it begins where the service's part ends, as 'received' has it.");
        all.MapGet("/{id:guid}/list", async (ParcelService service, HttpContext http, Asker by, Guid id, CancellationToken cancel) =>
        {
            var list = await service.OpenListAsync(id, by, cancel).ConfigureAwait(false);
            await using (list.ConfigureAwait(false))
            {
                http.Response.ContentType = ParcelHead.MediaType;
                http.Response.ContentLength = list.Length;
                await list.CopyToAsync(http.Response.Body, cancel).ConfigureAwait(false);
            }
        }).Needs(NeedAt.Somewhere, Permission.WriteFiles).WithName("getParcelList").WithSummary("What a parcel holds, with the SHA-256 of each file: a line of JSON for the whole, and one for each entry.").Produces<string>(200, ParcelHead.MediaType);
        all.MapDelete("/{id:guid}", async (ParcelService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.DeleteAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.WriteFiles).WithName("deleteParcel").WithSummary("Removes a parcel that no host is to fetch any more.");
    }

    /// <summary>Where hosts fetch what they were ordered to; their tickets are not those of technicians.</summary>
    public static void MapContent(this IEndpointRouteBuilder app) =>
        app.MapGet("/" + ContentPath.Of("{sha256}"), (ContentServer server, HttpContext http, string sha256, CancellationToken cancel) => server.ServeAsync(http, sha256, cancel))
            .AllowAnonymous().ExcludeFromDescription();

    private static long FromOf(HttpContext http) =>
        http.Request.Headers.ContentRange.ToString() is not { Length: > 0 } text ? 0
        : ContentRangeHeaderValue.TryParse(text, out var range) && range is { From: { } from, Unit.Value: "bytes" } ? from
        : throw ProblemException.Invalid("'Content-Range' says which part comes: bytes FIRST-LAST/ALL.");
}
