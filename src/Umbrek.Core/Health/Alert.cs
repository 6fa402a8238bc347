namespace Umbrek.Core.Health;

/// <summary>Where an alert stands. The last two are over.</summary>
public enum AlertState
{
    /// <summary>Nobody has taken it up.</summary>
    Open,

    /// <summary>Somebody knows and is at it.</summary>
    Acknowledged,

    /// <summary>Quiet until a time, then open again.</summary>
    Snoozed,

    /// <summary>The cause is gone.</summary>
    Cleared,

    /// <summary>Somebody decided that it is none; it is not raised again before it has cleared.</summary>
    Dismissed,
}

public static class AlertStates
{
    public static bool IsOver(this AlertState state) => state >= AlertState.Cleared;

    /// <summary>Whether it asks for somebody.</summary>
    public static bool Asks(this AlertState state) => state == AlertState.Open;
}

/// <summary>What an alert says to a person.</summary>
/// <param name="What">What is wrong, with the host's own figures.</param>
/// <param name="Follows">What follows if nobody does anything; null where nobody wrote it.</param>
/// <param name="Fix">How it is put right.</param>
public sealed record AlertText(string What, string? Follows = null, string? Fix = null);
