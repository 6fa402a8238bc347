namespace Umbrek.Core.Links;

/// <summary>
/// How long an agent waits before it tries its link again: doubled each time up to a cap, spread evenly over the upper
/// half so that ten thousand agents do not return in one instant. It never gives up.
/// </summary>
public static class Backoff
{
    public static readonly TimeSpan First = TimeSpan.FromSeconds(1);
    public static readonly TimeSpan Cap = TimeSpan.FromSeconds(20);

    /// <param name="attempt">Failed attempts so far, from 0.</param>
    /// <param name="random">Evenly distributed in [0, 1).</param>
    public static TimeSpan Delay(int attempt, double random)
    {
        var ceiling = Math.Min(Cap.TotalSeconds, First.TotalSeconds * Math.Pow(2, Math.Clamp(attempt, 0, 16)));
        // The first wait may be next to nothing: a single host whose link broke should be back at once.
        var floor = attempt == 0 ? 0 : ceiling / 2;
        return TimeSpan.FromSeconds(floor + (ceiling - floor) * random);
    }
}
