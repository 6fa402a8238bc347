using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Wire.Shell;

namespace Umbrek.Service.Shell;

public static class RecordingEndpoints
{
    public static void MapRecordings(this IEndpointRouteBuilder api)
    {
        var all = api.MapGroup("/recordings").WithTags("Shell");
        all.MapGet("", async (RecordingService service, Asker by, Guid? host, string? technician, Guid? shell, string? cursor, int? limit, CancellationToken cancel) =>
            TypedResults.Ok(await service.ListAsync(host, technician, shell, cursor, limit, by, cancel).ConfigureAwait(false)))
            .Own().WithName("listRecordings").WithSummary("Recorded shells, newest first: one's own, and all of places that one administers.");
        all.MapGet("/{id:guid}", async (RecordingService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getRecording").WithSummary("One recording, without what was recorded.");
        all.MapGet("/{id:guid}/cast", async (RecordingService service, Asker by, HttpContext http, Guid id, CancellationToken cancel) =>
        {
            var (info, text) = await service.OpenAsync(id, by, cancel).ConfigureAwait(false);
            await using (text.ConfigureAwait(false))
            {
                http.Response.ContentType = RecordingInfo.MediaType;
                http.Response.Headers.ContentDisposition = $"attachment; filename=\"{id}.cast\"";
                if (info.Bytes is { } bytes)
                {
                    http.Response.ContentLength = bytes;
                }
                await text.CopyToAsync(http.Response.Body, cancel).ConfigureAwait(false);
            }
        }).Needs(NeedAt.Somewhere, Permission.See).WithName("getCast").WithSummary("What was recorded, as asciicast v2, as far as it is written.").Produces<string>(200, RecordingInfo.MediaType);
        all.MapDelete("/{id:guid}", async (RecordingService service, Asker by, Guid id, CancellationToken cancel) =>
        {
            await service.DeleteAsync(id, by, cancel).ConfigureAwait(false);
            return TypedResults.NoContent();
        }).Needs(NeedAt.Somewhere, Permission.Administer).WithName("deleteRecording").WithSummary("Removes a recording that has ended.");
    }
}
