using System.Globalization;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Output;

/// <summary>States and times in the words that people use for them.</summary>
public static class Words
{
    public static string Of(PresenceInfo presence, DateTimeOffset now) => presence.State switch
    {
        PresenceState.Linked when presence.Losses > 0 => $"unsteady, linked (lost {presence.Losses} times in 15 min)",
        PresenceState.Away when presence is { Losses: > 0, Reason: AwayReason.LostContact } => $"unsteady, away {Units.Span(now - presence.Since)} (lost {presence.Losses} times in 15 min)",
        PresenceState.Linked => "linked",
        PresenceState.Returning => "expected back",
        PresenceState.Expected => "never linked yet",
        _ => $"away {Units.Span(now - presence.Since)} ({Of(presence.Reason)})",
    };

    public static string Of(AwayReason reason) => reason switch
    {
        AwayReason.AgentStopped => "agent stopped",
        AwayReason.HostShuttingDown => "host shut down",
        AwayReason.AgentUpdating => "agent updating",
        AwayReason.LostContact => "lost contact",
        AwayReason.ReplacedByNewerLink => "replaced by a newer link",
        AwayReason.LinkRefused => "link refused",
        _ => "",
    };

    public static string Of(HostEventKind kind) => kind switch
    {
        HostEventKind.Ran => "job",
        HostEventKind.Alerted => "alert",
        HostEventKind.Checked => "check",
        HostEventKind.Noted => "notes",
        HostEventKind.Tagged => "tags",
        _ => kind.ToString().ToLowerInvariant(),
    };

    public static string Of(Core.Health.Severity severity) => severity.ToString().ToLowerInvariant();

    public static string Of(Core.Health.Subsystem subsystem) => subsystem.ToString().ToLowerInvariant();

    public static string Of(Core.Health.DeliveryState state) => state.ToString().ToLowerInvariant();

    public static string Of(Core.Health.AlertState state) => state.ToString().ToLowerInvariant();

    public static string Of(RunState state) => state == RunState.TimedOut ? "timed out" : state.ToString().ToLowerInvariant();

    public static string Of(StepState state) => state switch { StepState.TimedOut => "timed out", StepState.LeftOut => "left out", _ => state.ToString().ToLowerInvariant() };

    public static string Of(RunInfo run) => (run.State, run.ExitStatus) switch
    {
        (RunState.Failed, { } status) => $"failed ({status})",
        _ => Of(run.State),
    };

    public static string Of(RunCounts counts) => string.Join(", ", new[]
    {
        (counts.Failed, "failed"), (counts.TimedOut, "timed out"), (counts.Refused, "refused"), (counts.Interrupted, "interrupted"), (counts.Expired, "expired"),
        (counts.Cancelled, "cancelled"), (counts.Succeeded, "succeeded"), (counts.Running, "running"), (counts.Sent, "sent"), (counts.Waiting, "waiting"),
    }.Where(c => c.Item1 > 0).Select(c => $"{c.Item1} {c.Item2}"));

    public static string Ago(DateTimeOffset time, DateTimeOffset now) => $"{Units.Span(now - time)} ago";

    public static string Percent(double? value) => value is { } v ? $"{v.ToString("0", CultureInfo.InvariantCulture)} %" : "–";

    public static string Iso(DateTimeOffset? time) => time?.ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture) ?? "";

    /// <summary>The last eight digits: ids that are made together differ there.</summary>
    public static string ShortId(Guid id) => id.ToString("N")[^8..];
}
