using Umbrek.Core.Estate;

namespace Umbrek.Core.Health;

/// <summary>How bad it is. Ordered.</summary>
public enum Severity
{
    /// <summary>Good to know; it can wait.</summary>
    Information,

    /// <summary>It will hurt if nobody does anything.</summary>
    Warning,

    /// <summary>It hurts now: a person is needed.</summary>
    Critical,
}

/// <summary>What a check is about.</summary>
public enum Subsystem
{
    Reachability,
    Processor,
    Memory,
    Storage,
    Services,
    Updates,
    Security,
    Hardware,
}

/// <summary>
/// A rule over what is known of a host, in the selection language: raised when a host matches <see cref="When"/> for all of <see cref="Hold"/>, over when it
/// matches <see cref="Until"/> for as long. What is not known raises nothing and clears nothing.
/// </summary>
/// <param name="until">What ends it; null is "no longer <paramref name="when"/>".</param>
/// <param name="hold">How long without a break, either way. At least <see cref="LeastHold"/>, so that no alert flutters.</param>
public sealed class CheckRule(Selection when, Selection? until, TimeSpan hold)
{
    public static readonly TimeSpan LeastHold = TimeSpan.FromSeconds(10);
    public static readonly TimeSpan MostHold = TimeSpan.FromDays(30);

    /// <summary>What the rule compares that may not be known of a host.</summary>
    private readonly Selection.Compared[] compared = [.. when.Flatten().OfType<Selection.Compared>().Where(c => !c.Key.MeansNoneWhenMissing)];

    public Selection When { get; } = when;
    public Selection? Until { get; } = until;
    public TimeSpan Hold { get; } = hold;

    /// <summary>Where the host stands now. Without a figure a comparison matches neither way round: a host that tells nothing is not well for that.</summary>
    public Reading Read(SelectableHost host, DateTimeOffset now) =>
        When.Matches(host, now) ? Reading.Bad
        : Until is not null ? Until.Matches(host, now) ? Reading.Good : Reading.Between
        : IsKnown(host, now) ? Reading.Good : Reading.Unknown;

    private bool IsKnown(SelectableHost host, DateTimeOffset now)
    {
        foreach (var c in compared)
        {
            if (c.Key.Figure!(host, c.Than.Unit.Dimension, now) is null)
            {
                return false;
            }
        }
        return true;
    }
}

/// <summary>What a rule says of a host at a moment.</summary>
public enum Reading
{
    Unknown,
    Good,

    /// <summary>Neither bad enough to raise nor good enough to clear.</summary>
    Between,
    Bad,
}
