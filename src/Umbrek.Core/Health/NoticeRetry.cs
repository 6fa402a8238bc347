namespace Umbrek.Core.Health;

/// <summary>How often a notice that did not arrive is tried again: soon at first, for a receiver that restarts, then ever more seldom for a day.</summary>
public static class NoticeRetry
{
    /// <summary>After that it is put aside, and a person decides.</summary>
    public static readonly TimeSpan GiveUpAfter = TimeSpan.FromHours(24);

    private static readonly TimeSpan[] Waits = [.. new[] { 10, 30, 120, 300, 600, 1200, 1800 }.Select(s => TimeSpan.FromSeconds(s))];

    /// <param name="attempts">Failed attempts so far, from 1.</param>
    /// <param name="random">Evenly distributed in [0, 1): what failed together does not return together.</param>
    /// <param name="asked">How long the receiver wants to be left alone (Retry-After, RFC 9110 §10.2.3); kept to an hour.</param>
    public static TimeSpan Wait(int attempts, double random, TimeSpan? asked = null)
    {
        var wait = Waits[Math.Clamp(attempts - 1, 0, Waits.Length - 1)] * (1 + random / 4);
        var most = TimeSpan.FromHours(1);
        return asked is { } longer && longer > wait ? longer < most ? longer : most : wait;
    }

    public static bool IsHopeless(DateTimeOffset createdAt, DateTimeOffset nextAt) => nextAt - createdAt > GiveUpAfter;
}
