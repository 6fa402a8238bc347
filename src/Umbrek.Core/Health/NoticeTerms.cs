namespace Umbrek.Core.Health;

/// <summary>An alert as notices see it.</summary>
/// <param name="OpenSince">Since when it asks for somebody; null when it does not.</param>
/// <param name="QuietUntil">Until when its host is in a maintenance window; null when it is in none.</param>
/// <param name="QuietSince">When the host's last maintenance window ended; null when there was none of late.</param>
public sealed record NoticedAlert(Severity Severity, Subsystem Subsystem, DateTimeOffset? OpenSince, DateTimeOffset? QuietUntil = null, DateTimeOffset? QuietSince = null);

public enum NoticeAnswer
{
    /// <summary>Somebody is to be told now.</summary>
    Due,

    /// <summary>The notice is not about such an alert.</summary>
    NotMeant,

    /// <summary>Somebody is at it, it was snoozed, or it is over.</summary>
    NobodyNeeded,

    /// <summary>It is told when nobody has taken it up until then.</summary>
    Later,

    /// <summary>Quiet hours of the notice.</summary>
    QuietHours,

    /// <summary>The host is in a maintenance window.</summary>
    Maintenance,
}

/// <param name="Until">When it is looked at again; null when only a change of the alert can change it.</param>
public readonly record struct NoticeVerdict(NoticeAnswer Answer, DateTimeOffset? Until = null);

/// <summary>Which alerts are told, and when.</summary>
/// <param name="About">Null is about everything.</param>
/// <param name="After">How long nobody has taken an alert up before it is told: zero tells at once, more is an escalation.</param>
/// <param name="CriticalAlways">Critical alerts are told in quiet hours too.</param>
public sealed record NoticeTerms(Severity AtLeast, IReadOnlyList<Subsystem>? About, TimeSpan After, QuietHours? Quiet, TimeZoneInfo Zone, bool CriticalAlways)
{
    public static readonly TimeSpan MostAfter = TimeSpan.FromDays(7);

    public bool IsAbout(Severity severity, Subsystem subsystem) => severity >= AtLeast && About?.Contains(subsystem) != false;

    /// <summary>Whether the alert is to be told now; if not, why not and until when.</summary>
    public NoticeVerdict Judge(NoticedAlert alert, DateTimeOffset now)
    {
        if (!IsAbout(alert.Severity, alert.Subsystem))
        {
            return new(NoticeAnswer.NotMeant);
        }
        if (alert.OpenSince is not { } open)
        {
            return new(NoticeAnswer.NobodyNeeded);
        }
        if (alert.QuietUntil is { } maintained && maintained > now)
        {
            return new(NoticeAnswer.Maintenance, maintained);
        }
        // In a maintenance window nobody could have been expected to take it up.
        var from = alert.QuietSince is { } since && since > open && since <= now ? since : open;
        if (from + After is var due && due > now)
        {
            return new(NoticeAnswer.Later, due);
        }
        var local = TimeZoneInfo.ConvertTime(now, Zone).DateTime;
        if (Quiet is not null && !(CriticalAlways && alert.Severity == Severity.Critical) && Quiet.IsQuiet(local))
        {
            return new(NoticeAnswer.QuietHours, Quiet.EndsAt(local) is { } end ? ToUtc(end) : null);
        }
        return new(NoticeAnswer.Due);
    }

    /// <summary>A local time as a moment; one that a clock change leaves out is the moment of the change.</summary>
    private DateTimeOffset ToUtc(DateTime local)
    {
        while (Zone.IsInvalidTime(local))
        {
            local = local.AddMinutes(1);
        }
        return new DateTimeOffset(local, Zone.GetUtcOffset(local)).ToUniversalTime();
    }
}
