namespace Umbrek.Core.Health;

/// <summary>
/// Where one check stands on one host. It turns only when the other side has held without a break for the rule's hold time, so that it turns at most once in
/// each such time whatever comes in.
/// </summary>
/// <param name="Raised">Whether there is an alert.</param>
/// <param name="TurningSince">Since when the other side holds; null when it does not.</param>
public readonly record struct CheckState(bool Raised, DateTimeOffset? TurningSince)
{
    public static CheckState Calm => default;

    public static CheckState Alarmed { get; } = new(true, null);

    /// <summary>Nothing is under way: only a change of the host can change it.</summary>
    public bool IsSettled => TurningSince is null;

    /// <returns>The state after what is read now.</returns>
    public CheckState Step(Reading reading, TimeSpan hold, DateTimeOffset now)
    {
        // What can't be told leaves an alert as it is, and breaks no hold: a host that reports seldom is not calm in between.
        if (reading == Reading.Unknown)
        {
            return this;
        }
        var turning = Raised ? reading == Reading.Good : reading == Reading.Bad;
        if (!turning)
        {
            return this with { TurningSince = null };
        }
        // A clock that was put back begins the hold anew rather than ending it at once.
        var since = TurningSince is { } before && before <= now ? before : now;
        return now - since >= hold ? new CheckState(!Raised, null) : this with { TurningSince = since };
    }
}
