using System.Collections.Concurrent;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Hosting;

/// <summary>
/// Counts what goes wrong from one address; after too many failures within a minute the address is heard again only when
/// the minute is over. Success costs nothing, so a roll-out from behind one address is not held up.
/// </summary>
public sealed class FailureLimiter(TimeProvider time)
{
    public const int Most = 20;
    private static readonly TimeSpan Window = TimeSpan.FromMinutes(1);
    private readonly ConcurrentDictionary<string, (DateTimeOffset Since, int Count)> failures = new();

    /// <summary>Does what may fail, and counts it when it does.</summary>
    /// <exception cref="ProblemException">429, when there were too many failures; or what <paramref name="act"/> throws.</exception>
    public async Task<T> GuardAsync<T>(HttpContext context, Func<Task<T>> act)
    {
        Check(context);
        try
        {
            return await act().ConfigureAwait(false);
        }
        catch (ProblemException)
        {
            Failed(context);
            throw;
        }
    }

    private void Check(HttpContext context)
    {
        if (failures.TryGetValue(Address(context), out var entry) && entry.Count >= Most && time.GetUtcNow() - entry.Since < Window)
        {
            throw new ProblemException(429, ProblemTypes.TooManyAttempts, "Too many failed attempts from this address. Wait a minute and try again.");
        }
    }

    private void Failed(HttpContext context)
    {
        var now = time.GetUtcNow();
        failures.AddOrUpdate(Address(context), (now, 1), (_, e) => now - e.Since < Window ? (e.Since, e.Count + 1) : (now, 1));
        if (failures.Count > 10_000)
        {
            foreach (var old in failures.Where(f => now - f.Value.Since >= Window))
            {
                failures.TryRemove(old);
            }
        }
    }

    private static string Address(HttpContext context) => context.Connection.RemoteIpAddress?.ToString() ?? "";
}
