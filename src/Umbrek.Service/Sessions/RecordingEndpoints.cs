using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Sessions;

public static class RecordingEndpoints
{
    public static void MapRecordings(this IEndpointRouteBuilder api)
    {
        var all = api.MapGroup("/recordings").WithTags("Sessions");
        all.MapGet("", async (RecordingService service, Asker by, Guid? host, string? technician, Guid? shell, string? cursor, int? limit, CancellationToken cancel) =>
            TypedResults.Ok(await service.ListAsync(host, technician, shell, cursor, limit, by, cancel).ConfigureAwait(false)))
            .Own().WithName("listRecordings").WithSummary("Recorded shells and desktops, newest first: one's own, and all of places that one administers.");
        all.MapGet("/{id:guid}", async (RecordingService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getRecording").WithSummary("One recording, without what was recorded.");
        all.MapGet("/{id:guid}/content", async (RecordingService service, Asker by, HttpContext http, Guid id, CancellationToken cancel) =>
        {
            var (info, content) = await service.OpenAsync(id, by, cancel).ConfigureAwait(false);
            await using (content.ConfigureAwait(false))
            {
                var (type, ending) = info.Kind == RecordingKind.Desktop ? (RecordingInfo.ScreenType, "screen") : (RecordingInfo.CastType, "cast");
                http.Response.ContentType = type;
                http.Response.Headers.ContentDisposition = $"attachment; filename=\"{id}.{ending}\"";
                if (info.Bytes is { } bytes)
                {
                    http.Response.ContentLength = bytes;
                }
                await content.CopyToAsync(http.Response.Body, cancel).ConfigureAwait(false);
            }
        }).Needs(NeedAt.Somewhere, Permission.See).WithName("getRecordingContent").WithSummary("What was recorded, as far as it is written: a shell as asciicast v2, a desktop as RFB with times.").Produces<string>(200, RecordingInfo.CastType, RecordingInfo.ScreenType);
        all.MapPost("/{id:guid}/film", async (FilmService films, Asker by, Guid id, NewFilm wish, CancellationToken cancel) =>
            TypedResults.Accepted($"/api/v1/recordings/{id}/film", await films.BeginAsync(id, wish, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("makeFilm").WithSummary("Begins to make a film of a recorded desktop, or says how far one has come.");
        all.MapGet("/{id:guid}/film", async (FilmService films, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await films.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getFilm").WithSummary("How far the film of a recorded desktop has come.");
        all.MapGet("/{id:guid}/film/content", async (FilmService films, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.Stream(await films.OpenAsync(id, by, cancel).ConfigureAwait(false), FilmInfo.MediaType, $"{id}.webm"))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getFilmContent").WithSummary("The film of a recorded desktop, once it is ready.").Produces<string>(200, FilmInfo.MediaType);
        all.MapDelete("/{id:guid}/film", async (FilmService films, Asker by, Guid id, CancellationToken cancel) =>
        {
            await films.StopAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.See).WithName("stopFilm").WithSummary("Gives up a film that is being made, or removes one that is ready.");
        all.MapDelete("/{id:guid}", async (RecordingService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.DeleteAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.Administer).WithName("deleteRecording").WithSummary("Removes a recording that has ended.");
    }
}
