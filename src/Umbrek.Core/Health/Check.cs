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
/// <param name="Until">What ends it; null is "no longer <paramref name="When"/>".</param>
/// <param name="Hold">How long without a break, either way. At least <see cref="LeastHold"/>, so that no alert flutters.</param>
public sealed record CheckRule(Selection When, Selection? Until, TimeSpan Hold)
{
    public static readonly TimeSpan LeastHold = TimeSpan.FromSeconds(10);
    public static readonly TimeSpan MostHold = TimeSpan.FromDays(30);

    /// <summary>Where the host stands now; null when it can't be told.</summary>
    public Reading Read(SelectableHost host, DateTimeOffset now) =>
        When.Matches(host, now) ? Reading.Bad
        : Until is { } until ? until.Matches(host, now) ? Reading.Good : Reading.Between
        // Without a figure a comparison matches neither way round: a host that tells nothing is not well for that.
        : IsKnown(host, now) ? Reading.Good : Reading.Unknown;

    /// <summary>Whether everything that the rule compares is known of the host.</summary>
    private bool IsKnown(SelectableHost host, DateTimeOffset now) => When.Flatten().All(s => s switch
    {
        Selection.Compared c => c.Key.Figure!(host, c.Than.Unit.Dimension, now) is not null || c.Key.MeansNoneWhenMissing,
        _ => true,
    });
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
