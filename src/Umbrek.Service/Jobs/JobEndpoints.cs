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
            var job = await service.CreateAsync(wish, by, KeyOf(http), cancel).ConfigureAwait(false);
            return TypedResults.Accepted($"/api/v1/jobs/{job.Id}", job);
        }).NeedsEither(Permission.Run, Permission.Power, Permission.WriteFiles).WithName("createJob").WithSummary("Runs a command on the hosts of a selection. With an Idempotency-Key a repeated request starts it once.");
        jobs.MapGet("/{id:guid}", async (JobReader reader, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await reader.GetAsync(id, by.Reach, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getJob").WithSummary("A job with all its runs.");
        jobs.MapPost("/{id:guid}/cancel", async (JobService service, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.Ok(await service.CancelJobAsync(id, by, cancel).ConfigureAwait(false)))
            .NeedsEither(Permission.Run, Permission.Power, Permission.WriteFiles).WithName("cancelJob").WithSummary("Cancels every run that has not ended.");
        jobs.MapPost("/{id:guid}/again", async (JobService service, HttpContext http, Asker by, Guid id, NewJobAgain wish, CancellationToken cancel) =>
        {
            var job = await service.AgainAsync(id, wish, by, KeyOf(http), cancel).ConfigureAwait(false);
            return TypedResults.Accepted($"/api/v1/jobs/{job.Id}", job);
        }).NeedsEither(Permission.Run, Permission.Power, Permission.WriteFiles).WithName("runAgain").WithSummary("Runs a job's command again where it ended in trouble, or on the hosts of the runs that are named.");
        jobs.MapGet("/{id:guid}/answers", async (AnswerReader reader, Asker by, Guid id, string? passOver, CancellationToken cancel) =>
            TypedResults.Ok(await reader.FoldAsync(id, passOver, by, cancel).ConfigureAwait(false)))
            .NeedsEither(Permission.Run, Permission.Power, Permission.WriteFiles).WithName("foldAnswers").WithSummary("What the hosts answered, equal answers as one, the rarest first. 'passOver' says what does not count: times, names, addresses, numbers, with commas between them, or nothing.");
        jobs.MapGet("/{id:guid}/search", async (AnswerReader reader, Asker by, Guid id, string? text, int? limit, CancellationToken cancel) =>
            TypedResults.Ok(await reader.SearchAsync(id, text, limit, by, cancel).ConfigureAwait(false)))
            .NeedsEither(Permission.Run, Permission.Power, Permission.WriteFiles).WithName("searchOutput").WithSummary("Lines of the output that hold a text, letters of either case.");
        jobs.MapGet("/{id:guid}/output", async (OutputDownload download, HttpContext http, Asker by, Guid id, string? @as, CancellationToken cancel) =>
            await download.WriteAsync(id, @as, by, http, cancel).ConfigureAwait(false))
            .Produces(StatusCodes.Status200OK, contentType: "application/x-ndjson", additionalContentTypes: "application/zip")
            .NeedsEither(Permission.Run, Permission.Power, Permission.WriteFiles).WithName("downloadOutput").WithSummary("The output of all hosts: a line of JSON for each (as=ndjson), or files for each in a ZIP archive (as=zip).");

        api.MapPost("/wake", async (WakeService service, HttpContext http, Asker by, NewWake wish, CancellationToken cancel) =>
        {
            var woken = await service.WakeAsync(wish, by, KeyOf(http), cancel).ConfigureAwait(false);
            return TypedResults.Accepted($"/api/v1/jobs/{woken.Job!.Id}", woken);
        }).WithTags("Jobs").Needs(NeedAt.Somewhere, Permission.Power).WithName("wakeHosts").WithSummary("Has neighbours of sleeping hosts send the packets that wake them; the answer names the job by which they do.");
        api.MapGet("/hosts/{id:guid}/wake", async (WakeService service, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await service.GetAsync(id, by, cancel).ConfigureAwait(false)))
            .WithTags("Jobs").Needs(NeedAt.Host, Permission.Power).WithName("getWake").WithSummary("Which hosts could wake this one over the network, or why none can.");

        var runs = api.MapGroup("/runs").WithTags("Jobs");
        runs.MapGet("/{id:guid}", async (JobReader reader, Asker by, Guid id, CancellationToken cancel) => TypedResults.Ok(await reader.GetRunAsync(id, by.Reach, cancel).ConfigureAwait(false)))
            .Needs(NeedAt.Somewhere, Permission.See).WithName("getRun").WithSummary("One run.");
        runs.MapPost("/{id:guid}/cancel", async (JobService service, Asker by, Guid id, CancellationToken cancel) =>
            TypedResults.Ok(await service.CancelRunAsync(id, by, cancel).ConfigureAwait(false)))
            .NeedsEither(Permission.Run, Permission.Power, Permission.WriteFiles).WithName("cancelRun").WithSummary("Cancels one run.");
        runs.MapGet("/{id:guid}/output", WriteOutputAsync)
            .Produces(StatusCodes.Status200OK, contentType: "application/octet-stream")
            .NeedsEither(Permission.Run, Permission.Power, Permission.WriteFiles).WithName("getOutput").WithSummary("A run's output as the command wrote it: stdout, stderr, or (without 'stream') both in the order of arrival.");
        runs.MapGet("/{id:guid}/comparison", async (AnswerReader reader, Asker by, Guid id, Guid with, string? passOver, CancellationToken cancel) =>
            TypedResults.Ok(await reader.CompareAsync(id, with, passOver, by, cancel).ConfigureAwait(false)))
            .NeedsEither(Permission.Run, Permission.Power, Permission.WriteFiles).WithName("compareAnswers").WithSummary("The output of two runs line by line: what both have, what only one has.");
    }

    private static string? KeyOf(HttpContext http) => http.Request.Headers["Idempotency-Key"].ToString() is { Length: > 0 } key ? key : null;

    private static async Task WriteOutputAsync(JobReader reader, OutputTerm term, Gate gate, HttpContext http, Asker by, Guid id, string? stream, CancellationToken cancel)
    {
        RunEventKind? only = stream switch
        {
            null or "" => null,
            "stdout" => RunEventKind.Stdout,
            "stderr" => RunEventKind.Stderr,
            _ => throw ProblemException.Invalid($"'{stream}' is no stream; write stdout or stderr, or leave it out for both."),
        };
        // What a command put out can hold anything that is on the host: reading it takes as much as running it.
        var run = await reader.GetRunAsync(id, by.Reach, cancel).ConfigureAwait(false);
        gate.Host(by, run.HostId, await reader.NeedsAsync(run.JobId, cancel).ConfigureAwait(false));
        term.Check(run);
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
