namespace Umbrek.Core.Health;

/// <summary>
/// How far a host's clock is ahead of the service's, in whole seconds. What a message says of its sending differs from when it comes by the clock's fault and by the
/// time on the way, so that small differences mean nothing; and one value is kept as long as it fits, so that a sample that is sent twice gets one time.
/// </summary>
public readonly record struct ClockOffset(long Seconds)
{
    /// <summary>What may be the time on the way.</summary>
    public static readonly TimeSpan Tolerance = TimeSpan.FromSeconds(2);

    /// <summary>A clock that is further off is not believed to be a clock: such samples are sifted like any.</summary>
    public static readonly TimeSpan Most = TimeSpan.FromDays(3650);

    public ClockOffset Measure(DateTimeOffset sentAt, DateTimeOffset arrivedAt)
    {
        var off = sentAt - arrivedAt;
        return off.Duration() > Most || (off - TimeSpan.FromSeconds(Seconds)).Duration() <= Tolerance ? this : off.Duration() <= Tolerance ? default : new ClockOffset((long)Math.Round(off.TotalSeconds));
    }

    /// <summary>A time of the host's clock by the service's.</summary>
    public DateTimeOffset Correct(DateTimeOffset at) => Seconds == 0 ? at : at - TimeSpan.FromSeconds(Seconds);
}
