using Microsoft.Net.Http.Headers;

namespace Umbrek.Service.Enrolment;

/// <summary>
/// The agent program as an answer. Whoever wants all of it, as nearly everybody does, gets it straight from the memory in which it
/// is; parts and what somebody has already go the framework's way.
/// </summary>
public sealed class AgentFile(AgentProgram agent) : IResult
{
    private const string Kind = "application/octet-stream";
    private const string Name = "umbrek-agent";

    /// <summary>Bytes at once: given whole, all of it would be laid by for each who fetches it.</summary>
    private const int Piece = 64 << 10;

    private static readonly string[] Particular = [HeaderNames.Range, HeaderNames.IfRange, HeaderNames.IfNoneMatch, HeaderNames.IfMatch, HeaderNames.IfModifiedSince, HeaderNames.IfUnmodifiedSince];

    public async Task ExecuteAsync(HttpContext httpContext)
    {
        var (request, response) = (httpContext.Request, httpContext.Response);
        var tag = new EntityTagHeaderValue($"\"{agent.Sha256}\"");
        if (Particular.Any(request.Headers.ContainsKey))
        {
            await TypedResults.Stream(new MemoryStream(agent.Content, writable: false), Kind, Name, null, enableRangeProcessing: true, entityTag: tag).ExecuteAsync(httpContext).ConfigureAwait(false);
            return;
        }
        response.ContentType = Kind;
        response.ContentLength = agent.Size;
        response.Headers.ContentDisposition = $"attachment; filename={Name}; filename*=UTF-8''{Name}";
        response.Headers.AcceptRanges = "bytes";
        response.GetTypedHeaders().ETag = tag;
        try
        {
            for (var from = 0; from < agent.Content.Length; from += Piece)
            {
                await response.Body.WriteAsync(agent.Content.AsMemory(from, Math.Min(Piece, agent.Content.Length - from)), httpContext.RequestAborted).ConfigureAwait(false);
            }
        }
        catch (OperationCanceledException)
        {
            // Whoever fetched it has gone.
            httpContext.Abort();
        }
    }
}
