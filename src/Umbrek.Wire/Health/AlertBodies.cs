using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Wire.Estate;

namespace Umbrek.Wire.Health;

/// <param name="What">What is wrong, with the host's figures as it was raised.</param>
/// <param name="StateBy">Who brought it into its state; null when it came there by itself.</param>
/// <param name="Note">What was said with that.</param>
/// <param name="QuietUntil">Until when its host is in a maintenance window; null when it is in none.</param>
public sealed record AlertInfo(
    Guid Id, Guid HostId, string Label, string SystemName, string GroupPath, string Check, string CheckName, Subsystem Subsystem, Severity Severity, AlertState State,
    DateTimeOffset RaisedAt, string What, string? Follows, string? Fix, DateTimeOffset StateAt, string? StateBy, DateTimeOffset? SnoozedUntil, string? Note, DateTimeOffset? QuietUntil = null);

/// <summary>Alerts with one cause, as one line: of one place whose line is down, or of one host about one subsystem.</summary>
/// <param name="Place">The group's path; null when they are of one host.</param>
/// <param name="What">The line.</param>
/// <param name="Alerts">The one that stands for them first.</param>
public sealed record AlertLine(string? Place, string What, Severity Severity, AlertState State, DateTimeOffset RaisedAt, IReadOnlyList<AlertInfo> Alerts);

/// <summary>The graph that belongs to an alert.</summary>
/// <param name="Part">The file system, where the metric has parts.</param>
/// <param name="Threshold">In the metric's unit.</param>
public sealed record AlertGraph(string Metric, string? Part, double Threshold, Relation Relation);

/// <param name="Before">What happened on the host in the day before, newest first.</param>
/// <param name="Same">Other hosts with the same now.</param>
/// <param name="Notices">Who was told, is going to be, and who is not, with why.</param>
/// <param name="Reactions">What ran because of it, is going to, or did not.</param>
public sealed record AlertDetail(AlertInfo Alert, AlertGraph? Graph, IReadOnlyList<TimelineEntry> Before, IReadOnlyList<AlertInfo> Same, IReadOnlyList<AlertNotice> Notices, IReadOnlyList<AlertReaction> Reactions);

/// <summary>How a notice stands to an alert.</summary>
/// <param name="Said">In a sentence.</param>
/// <param name="At">When it was told; null when it was not.</param>
/// <param name="Until">When it is looked at again, where that is known.</param>
public sealed record AlertNotice(Guid NoticeId, string Notice, string Said, DateTimeOffset? At, DateTimeOffset? Until);

public enum AlertActKind
{
    Acknowledge,
    Snooze,
    Dismiss,

    /// <summary>Makes it ask again.</summary>
    Reopen,
}

/// <param name="Until">With snooze.</param>
/// <param name="Note">With dismiss it has to say why.</param>
public sealed record AlertAct(IReadOnlyList<Guid> Ids, AlertActKind Act, DateTimeOffset? Until = null, string? Note = null);

/// <summary>Something has changed among the alerts that one may see.</summary>
public sealed record AlertsChanged(int Open, int Critical);

/// <summary>Of one customer or group: how many alerts there are about a subsystem, and how bad the worst is.</summary>
public sealed record SubsystemState(Subsystem Subsystem, Severity Worst, int Alerts, int Hosts);

/// <param name="Away">Hosts that are not linked now; <paramref name="Lost"/> of them went without a word.</param>
public sealed record PlaceHealth(string Path, int Hosts, int Linked, int Away, int Lost, IReadOnlyList<SubsystemState> Subsystems);

/// <summary>How many alerts there were, by severity, and which hosts' storage fills up next.</summary>
/// <param name="At">Beginning of each point, as Unix time in seconds.</param>
public sealed record HealthTrend(DateTimeOffset From, int StepSeconds, IReadOnlyList<long> At, IReadOnlyList<int> Critical, IReadOnlyList<int> Warning, IReadOnlyList<int> Information, IReadOnlyList<FillingHost> Filling);

/// <param name="Mount">The fullest file system's mount point.</param>
public sealed record FillingHost(Guid HostId, string Label, string GroupPath, string? Mount, double? UsedPercent, DateTimeOffset FullAt);

/// <summary>What somebody who watches the estate sees at a moment.</summary>
public sealed record EstateState(HealthOverview Overview, IReadOnlyList<AlertLine> Alerts);

/// <summary>How the estate, or a place in it, fares.</summary>
/// <param name="Places">The places directly below.</param>
public sealed record HealthOverview(PlaceHealth Whole, IReadOnlyList<PlaceHealth> Places);
