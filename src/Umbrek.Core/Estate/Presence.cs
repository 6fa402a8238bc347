namespace Umbrek.Core.Estate;

/// <summary>Whether a host can be reached now.</summary>
public enum PresenceState
{
    /// <summary>The host has never had a link.</summary>
    Expected,

    /// <summary>The link is up and spoke within <see cref="Presence.SilenceSeconds"/>.</summary>
    Linked,

    /// <summary>The host was linked when the service stopped and has had no time to return yet.</summary>
    Returning,

    /// <summary>There is no link; <see cref="Presence.Reason"/> says why.</summary>
    Away,
}

/// <summary>Why a host is away, as far as it is known.</summary>
public enum AwayReason
{
    None,
    AgentStopped,
    HostShuttingDown,
    AgentUpdating,
    LostContact,
    ReplacedByNewerLink,
    LinkRefused,

    /// <summary>The agent was uninstalled from the host.</summary>
    AgentRemoved,
}

/// <summary>One host's presence: a state, its reason, and since when (UTC).</summary>
public sealed record Presence(PresenceState State, AwayReason Reason, DateTimeOffset Since)
{
    /// <summary>A link that said nothing for this long counts as lost.</summary>
    public const int SilenceSeconds = 25;

    /// <summary>How long a host that was linked before a restart of the service may take to return.</summary>
    public const int ReturnGraceSeconds = 45;

    public static Presence Never(DateTimeOffset enrolledAt) => new(PresenceState.Expected, AwayReason.None, enrolledAt);

    public Presence Link(DateTimeOffset now) =>
        State == PresenceState.Linked ? this : new(PresenceState.Linked, AwayReason.None, now);

    /// <summary>The link ended. A reason that the agent gave beats silence.</summary>
    public static Presence Unlink(AwayReason said, DateTimeOffset now) =>
        new(PresenceState.Away, said == AwayReason.None ? AwayReason.LostContact : said, now);

    /// <summary>What a restarted service may say of a host it last knew as <paramref name="stored"/>.</summary>
    public static Presence AfterRestart(Presence stored, DateTimeOffset now) =>
        stored.State is PresenceState.Linked or PresenceState.Returning
            ? new(PresenceState.Returning, AwayReason.None, now)
            : stored;

    /// <summary>A host that was given time to return and did not use it has lost contact, since it was last heard.</summary>
    public Presence Settle(DateTimeOffset lastSeenAt, DateTimeOffset now) =>
        State == PresenceState.Returning && (now - Since).TotalSeconds >= ReturnGraceSeconds
            ? new(PresenceState.Away, AwayReason.LostContact, lastSeenAt)
            : this;
}
