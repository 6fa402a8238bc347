using System.Globalization;
using Umbrek.Wire.Api;

namespace Umbrek.Cli.Hosting;

/// <summary>What a shell offers for a word, asked of the service: nothing when it does not answer at once, as a Tab must not hang.</summary>
public static class Offered
{
    /// <summary>How long a Tab waits. Over a slow line <c>UMBREK_TAB_SECONDS</c> gives it more, up to a minute.</summary>
    private static TimeSpan Patience =>
        double.TryParse(Environment.GetEnvironmentVariable("UMBREK_TAB_SECONDS"), CultureInfo.InvariantCulture, out var seconds) && seconds is > 0 and <= 60
            ? TimeSpan.FromSeconds(seconds) : TimeSpan.FromSeconds(2);

    public static IReadOnlyList<T> Ask<T>(ClientContext client, Func<ApiClient, CancellationToken, Task<IEnumerable<T>>> ask)
    {
        try
        {
            using var api = client.State.Open();
            using var limit = new CancellationTokenSource(Patience);
            return [.. ask(api, limit.Token).GetAwaiter().GetResult()];
        }
        catch (Exception e) when (e is ClientException or ApiException or UnreachableException or OperationCanceledException)
        {
            return [];
        }
    }
}
