using System.Globalization;
using System.Security.Claims;
using System.Threading.RateLimiting;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Hosting;

/// <summary>
/// So many API calls a second from one account, or from one address that has none, over time; ten seconds' worth of them may come at once. A script
/// that runs wild does not slow the others down.
/// </summary>
public static class CallLimit
{
    public const int DefaultPerSecond = 200;
    private const int SecondsAtOnce = 10;

    public static void AddCallLimit(this IServiceCollection services, int perSecond)
    {
        if (perSecond <= 0)
        {
            services.AddRateLimiter(_ => { });
            return;
        }
        services.AddRateLimiter(o =>
        {
            o.RejectionStatusCode = StatusCodes.Status429TooManyRequests;
            o.GlobalLimiter = PartitionedRateLimiter.Create<HttpContext, string>(http => http.Request.Path.StartsWithSegments("/api")
                ? RateLimitPartition.GetTokenBucketLimiter(Who(http), _ => new TokenBucketRateLimiterOptions
                {
                    TokenLimit = perSecond * SecondsAtOnce,
                    TokensPerPeriod = perSecond,
                    ReplenishmentPeriod = TimeSpan.FromSeconds(1),
                    AutoReplenishment = true,
                })
                : RateLimitPartition.GetNoLimiter(""));
            o.OnRejected = async (rejected, cancel) =>
            {
                var wait = rejected.Lease.TryGetMetadata(MetadataName.RetryAfter, out var after) ? Math.Max(1, Math.Ceiling(after.TotalSeconds)) : 1;
                rejected.HttpContext.Response.Headers.RetryAfter = wait.ToString(CultureInfo.InvariantCulture);
                await ProblemWriter.WriteAsync(
                    rejected.HttpContext,
                    new ProblemException(429, ProblemTypes.TooManyCalls, $"More than {perSecond} calls a second come from {(rejected.HttpContext.User.Identity?.Name is { } name ? $"the account {name}" : "this address")}. Go on in {wait} s, and slower.").Problem,
                    cancel).ConfigureAwait(false);
            };
        });
    }

    private static string Who(HttpContext http) => http.User.FindFirstValue(ClaimTypes.NameIdentifier) is { } account ? $"account {account}" : $"address {http.Address()}";
}
