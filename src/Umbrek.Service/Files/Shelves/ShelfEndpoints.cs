using Microsoft.Net.Http.Headers;
using Umbrek.Core.Access;
using Umbrek.Core.Files;
using Umbrek.Service.Access;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files.Shelves;

public static class ShelfEndpoints
{
    public static void MapShelves(this IEndpointRouteBuilder api)
    {
        var all = api.MapGroup("/shelves").WithTags("Files");
        all.MapGet("", async (ShelfService service, Asker by, CancellationToken cancel) => TypedResults.Ok(await service.ListAsync(by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.ReadFiles).WithName("listShelves").WithSummary("Folders that the service keeps, by their names.");
        all.MapPost("", async (ShelfService service, Asker by, NewShelf wish, CancellationToken cancel) =>
        {
            var shelf = await service.CreateAsync(wish, by, cancel).ConfigureAwait(false);
            return TypedResults.Created($"/api/v1/shelves/{shelf.Id}", shelf);
        }).Needs(NeedAt.Somewhere, Permission.WriteFiles).WithName("createShelf").WithSummary("Makes a shelf of a group; twins put something on it.");
        all.MapGet("/{id:guid}", async (ShelfService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.ReadFiles).WithName("getShelf").WithSummary("One shelf, with how much lies on it.");
        all.MapGet("/{id:guid}/entries", async (ShelfService service, Asker by, Guid id, string? path, CancellationToken cancel) => TypedResults.Ok(await service.LookAsync(id, path ?? "/", by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.ReadFiles).WithName("listShelfEntries").WithSummary("What lies in a folder of a shelf; 'path' is counted from the shelf on.");
        all.MapGet("/{id:guid}/content", async (ShelfService service, HttpContext http, Asker by, Guid id, string path, CancellationToken cancel) =>
        {
            var reading = await service.ReadAsync(id, path, by, cancel).ConfigureAwait(false);
            await using (reading.ConfigureAwait(false))
            {
                http.Response.ContentType = "application/octet-stream";
                http.Response.ContentLength = reading.Entry.Bytes;
                var disposition = new ContentDispositionHeaderValue("attachment");
                disposition.SetHttpFileName(new FileName(path).Last().Text);
                http.Response.Headers.ContentDisposition = disposition.ToString();
                await reading.CopyAsync(http.Response.Body, cancel).ConfigureAwait(false);
            }
        }).Needs(NeedAt.Somewhere, Permission.ReadFiles).WithName("getShelfContent").WithSummary("A file of a shelf.").Produces<Stream>(200, "application/octet-stream");
        all.MapDelete("/{id:guid}", async (ShelfService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.DeleteAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.WriteFiles).WithName("removeShelf").WithSummary("Removes a shelf with all that lies on it, for good.");
    }
}
