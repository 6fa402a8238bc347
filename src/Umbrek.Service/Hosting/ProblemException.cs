using System.Text.Json;
using Microsoft.AspNetCore.Diagnostics;
using Umbrek.Wire;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Hosting;

/// <summary>A request can't be carried out; the caller is told as problem details (RFC 9457).</summary>
/// <param name="status">HTTP status.</param>
/// <param name="word">One of <see cref="ProblemTypes"/>.</param>
/// <param name="detail">What happened and what to do.</param>
public sealed class ProblemException(int status, string word, string detail, int? position = null) : Exception(detail)
{
    public Problem Problem { get; } = new(ProblemTypes.Prefix + word, Title(word), status, detail, position);

    public static ProblemException NotFound(string what) => new(404, ProblemTypes.NotFound, $"There is no such {what}; it may have been removed. List again.");

    /// <summary>An address that takes a body is none for a body of another kind.</summary>
    public static ProblemException NoSuchAddress(HttpRequest request) => request.Path.StartsWithSegments("/api") && !HttpMethods.IsGet(request.Method) && !HttpMethods.IsDelete(request.Method) && !request.HasJsonContentType()
        ? new(415, ProblemTypes.Malformed, "The API has no such address, or it takes a body of another kind: nearly all take 'Content-Type: application/json'. Its description is at /openapi/v1.json.")
        : new(404, ProblemTypes.NotFound, "The API has no such address. Its description is at /openapi/v1.json.");

    public static ProblemException Invalid(string detail) => new(400, ProblemTypes.Invalid, detail);

    private static string Title(string word) => char.ToUpperInvariant(word[0]) + word[1..].Replace('-', ' ');
}

/// <summary>Turns whatever goes wrong in a request into problem details.</summary>
public sealed partial class ProblemWriter(ILogger<ProblemWriter> log) : IExceptionHandler
{
    public async ValueTask<bool> TryHandleAsync(HttpContext httpContext, Exception exception, CancellationToken cancellationToken)
    {
        if (exception is OperationCanceledException && httpContext.RequestAborted.IsCancellationRequested)
        {
            return true;
        }
        var problem = exception switch
        {
            ProblemException p => p.Problem,
            BadHttpRequestException { InnerException: JsonException json } =>
                New(400, ProblemTypes.Malformed, $"The body is not the JSON that is expected here: {Where(json)}. The API description is at /openapi/v1.json."),
            BadHttpRequestException bad => New(bad.StatusCode, ProblemTypes.Malformed, bad.Message),
            _ => New(500, ProblemTypes.Failed, "The service failed at this. Nothing was changed unless a page says so; the service's log has the details."),
        };
        if (problem.Status >= 500)
        {
            Log.Failed(log, exception, httpContext.Request.Method, httpContext.Request.Path);
        }
        await WriteAsync(httpContext, problem, cancellationToken).ConfigureAwait(false);
        return true;
    }

    /// <summary>Puts words to an answer of the framework's that is only a status: an empty body where one is needed.</summary>
    public static Task WriteBareAsync(HttpContext context) => context.Response.StatusCode switch
    {
        400 => WriteAsync(context, New(400, ProblemTypes.Malformed, "The request is not what is expected here: its body, or a value in its address, is missing or of another kind. The API description is at /openapi/v1.json."), context.RequestAborted),
        415 => WriteAsync(context, New(415, ProblemTypes.Malformed, "The body is not JSON: send it with 'Content-Type: application/json'."), context.RequestAborted),
        _ => Task.CompletedTask,
    };

    public static async Task WriteAsync(HttpContext context, Problem problem, CancellationToken cancel)
    {
        context.Response.StatusCode = problem.Status ?? 500;
        context.Response.ContentType = "application/problem+json";
        await JsonSerializer.SerializeAsync(context.Response.Body, problem, WireJson.Default.Problem, cancel).ConfigureAwait(false);
    }

    private static Problem New(int status, string word, string detail) => new ProblemException(status, word, detail).Problem;

    private static string Where(JsonException e) =>
        e.Path is { Length: > 1 } path ? $"see {path}" : e.LineNumber is { } line ? $"line {line + 1}, byte {e.BytePositionInLine}" : "it is empty";

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Error, Message = "{Method} {Path} failed")]
        public static partial void Failed(ILogger logger, Exception e, string method, string path);
    }
}
