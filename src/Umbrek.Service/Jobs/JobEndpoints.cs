using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Jobs;

public static class JobEndpoints
{
    private const int OutputChunk = 1 << 20;

    public static void MapJobs(this IEndpointRouteBuilder api)
    {
        var jobs = api.MapGroup("/jobs").WithTags("Jobs");
        jobs.MapGet("", async (JobReader reader, Asker by, Guid? host, string? cursor, int? limit, CancellationToken cancel) =>
            TypedResults.Ok(await reader.ListAsync(by, host, cursor, limit, cancel).ConfigureAwait(false)))
            .Own().WithName("listJobs").WithSummary("Jobs, newest first; of one host when it is named.");
        jobs.MapPost("", async (JobService service, HttpContext http, Asker by, NewJob wish, CancellationToken cancel) =>
        {
            var key = http.Request.Headers["Idempotency-Key"].ToString();
            var job = await service.CreateAsync(wish, by, key.Length == 0 ? null : key, cancel).ConfigureAwait(false);
            return TypedResults.Accepted($"/api/v1/jobs/{job.Id}", job);
        }).Needs(NeedAt.Somewhere, Permission.Run).WithName("createJob").WithSummary("Runs a command on the hosts of a selection. With an Idempotency-Key a repeated request starts it once.");
        jobs.MapGet("/{id:guid}", async (JobReader reader, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await reader.GetAsync(id, by.Reach, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getJob").WithSummary("A job with all its runs.");
        jobs.MapPost("/{id:guid}/cancel", async (JobService service, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.Ok(await service.CancelJobAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Run).WithName("cancelJob").WithSummary("Cancels every run that has not ended.");

        var runs = api.MapGroup("/runs").WithTags("Jobs");
        runs.MapGet("/{id:guid}", async (JobReader reader, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await reader.GetRunAsync(id, by.Reach, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getRun").WithSummary("One run.");
        runs.MapPost("/{id:guid}/cancel", async (JobService service, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.Ok(await service.CancelRunAsync(id, by, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.Run).WithName("cancelRun").WithSummary("Cancels one run.");
        runs.MapGet("/{id:guid}/output", WriteOutputAsync)
            .Produces(StatusCodes.Status200OK, contentType: "application/octet-stream")
            .Needs(NeedAt.Somewhere, Permission.Run).WithName("getOutput").WithSummary("A run's output as the command wrote it: stdout, stderr, or (without 'stream') both in the order of arrival.");
    }

    private static async Task WriteOutputAsync(JobReader reader, Gate gate, HttpContext http, Asker by, Guid id, string? stream, CancellationToken cancel)
    {
        RunEventKind? only = stream switch
        {
            null or "" => null,
            "stdout" => RunEventKind.Stdout,
            "stderr" => RunEventKind.Stderr,
            _ => throw ProblemException.Invalid($"'{stream}' is no stream; write stdout or stderr, or leave it out for both."),
        };
        // What a command put out can hold anything that is on the host: reading it takes as much as running it.
        gate.Host(by, (await reader.GetRunAsync(id, by.Reach, cancel).ConfigureAwait(false)).HostId, Permission.Run);
        http.Response.ContentType = "application/octet-stream";
        http.Response.Headers.ContentDisposition = $"attachment; filename=\"run-{id}.txt\"";
        var after = -1L;
        while (true)
        {
            var pieces = await reader.ReadOutputAsync(id, after, OutputChunk, cancel).ConfigureAwait(false);
            if (pieces.Count == 0)
            {
                return;
            }
            after = pieces[^1].Sequence;
            foreach (var piece in pieces.Where(p => only is null || p.Stream == only))
            {
                await http.Response.Body.WriteAsync(piece.Data, cancel).ConfigureAwait(false);
            }
        }
    }
}
