using Umbrek.Core.Text;

namespace Umbrek.Core.Health;

/// <summary>What is known of an alert when it is asked whether something runs because of it.</summary>
/// <param name="QuietUntil">Until when its host is in a maintenance window; null when it is in none.</param>
/// <param name="LastRun">When the same ran on this host the last time; null for never.</param>
/// <param name="RunsOfLate">On how many alerts the same ran in the last <see cref="ReactionTerms.LookBack"/>.</param>
public sealed record ReactedAlert(AlertState State, DateTimeOffset RaisedAt, DateTimeOffset? QuietUntil, DateTimeOffset? LastRun, int RunsOfLate);

public enum ReactionStep
{
    /// <summary>Not now, and perhaps never.</summary>
    Wait,
    Run,

    /// <summary>Not because of this alert: it ran lately.</summary>
    Pass,
}

/// <param name="At">When it is looked at again, where that is known.</param>
/// <param name="Says">Why it does not run now; null when it does.</param>
public sealed record ReactionVerdict(ReactionStep Step, DateTimeOffset? At = null, string? Says = null);

/// <summary>When something runs by itself because of an alert.</summary>
/// <param name="Since">Alerts that were there before stay with people.</param>
/// <param name="Wait">How long the alert has to be open first.</param>
/// <param name="Spacing">How far apart two runs on one host are at least: what does not help is not done again and again.</param>
public sealed record ReactionTerms(DateTimeOffset Since, TimeSpan Wait, TimeSpan Spacing)
{
    public static readonly TimeSpan MostWait = TimeSpan.FromDays(7);
    public static readonly TimeSpan LeastSpacing = TimeSpan.FromMinutes(1);
    public static readonly TimeSpan MostSpacing = TimeSpan.FromDays(366);

    /// <summary>What has run so often in so short a time meets something else than it was written for.</summary>
    public const int MostOfLate = 50;
    public static readonly TimeSpan LookBack = TimeSpan.FromHours(1);

    public ReactionVerdict Judge(ReactedAlert alert, DateTimeOffset now)
    {
        if (alert.RaisedAt < Since)
        {
            return new(ReactionStep.Wait, null, "The alert was there before it.");
        }
        if (alert.State != AlertState.Open)
        {
            return new(ReactionStep.Wait, null, $"The alert is {alert.State.ToString().ToLowerInvariant()}; a person has decided.");
        }
        if (alert.QuietUntil is { } quiet && quiet > now)
        {
            return new(ReactionStep.Wait, quiet, "The host is in a maintenance window.");
        }
        if (alert.RaisedAt + Wait is var due && due > now)
        {
            return new(ReactionStep.Wait, due, $"It runs when the alert has been open for {Units.Span(Wait)}.");
        }
        if (alert.LastRun is { } last && last + Spacing > now)
        {
            return new(ReactionStep.Pass, null, $"It ran on this host {Units.Span(now - last)} before, and does not run again within {Units.Span(Spacing)}.");
        }
        return alert.RunsOfLate >= MostOfLate
            ? new(ReactionStep.Pass, null, $"It ran {alert.RunsOfLate} times in {Units.Span(LookBack)}, the most that it does without a person.")
            : new(ReactionStep.Run);
    }
}
