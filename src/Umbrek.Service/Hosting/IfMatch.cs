using Microsoft.Net.Http.Headers;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Hosting;

/// <summary>Versions of what two people could edit at once travel as entity tags (RFC 9110 §8.8.3).</summary>
public static class IfMatch
{
    /// <exception cref="ProblemException">The caller did not say which version it changes.</exception>
    public static long IfMatchVersion(this HttpContext http, string what) =>
        http.Request.GetTypedHeaders().IfMatch is [EntityTagHeaderValue tag] && long.TryParse(tag.Tag.AsSpan().Trim('"'), out var version)
            ? version
            : throw new ProblemException(428, ProblemTypes.Changed, $"Say which version of the {what} you change: send its ETag as If-Match.");

    public static void SetVersion(this HttpContext http, long version) => http.Response.Headers.ETag = $"\"{version}\"";
}
