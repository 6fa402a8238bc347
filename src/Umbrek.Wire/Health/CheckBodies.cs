using Umbrek.Core.Estate;
using Umbrek.Core.Health;

namespace Umbrek.Wire.Health;

/// <param name="Id">Null for a built-in one.</param>
/// <param name="When">In the selection language: raised on hosts that match it for all of the hold time. With a probe: limits to its figures, or nothing.</param>
/// <param name="Until">What ends it; null is "no longer <paramref name="When"/>".</param>
/// <param name="Place">The group that it is for, with everything below; null is everything.</param>
/// <param name="Settings">What places say otherwise, as far as the caller may see them.</param>
/// <param name="Alerts">How many hosts have it now.</param>
/// <param name="Probe">What the hosts' agents look at; null when the check is about what is known anyway.</param>
/// <param name="Looks">What raises it, in words, for one with a probe.</param>
public sealed record CheckInfo(
    string Key, Guid? Id, string Name, Subsystem Subsystem, Severity Severity, string When, string? Until, double HoldSeconds, string? Follows, string? Fix, string? Place,
    IReadOnlyList<CheckSetting> Settings, int Alerts, string? CreatedBy, long Version, Probe? Probe = null, string? Looks = null)
{
    public bool IsBuiltIn => Id is null;
}

/// <summary>What one place says of a check otherwise; what is null comes from above.</summary>
/// <param name="Place">The group's path or the host's label; null is everything.</param>
public sealed record CheckSetting(Guid Id, Guid? GroupId, Guid? HostId, string? Place, bool? Off, Severity? Severity, string? When, string? Until, double? HoldSeconds, string? Note, DateTimeOffset ChangedAt, string ChangedBy);

/// <param name="When">A rule in the selection language; with a probe, limits to its figures (<c>left &lt; 14 d or lost &gt; 20 %</c>), or nothing.</param>
/// <param name="GroupId">The group that it is for; null is everything.</param>
/// <param name="Probe">What the hosts' agents are to look at.</param>
public sealed record NewCheck(
    string Name, Subsystem Subsystem, Severity Severity, string When = "", string? Until = null, double HoldSeconds = 60, string? Follows = null, string? Fix = null, Guid? GroupId = null, Probe? Probe = null);

/// <summary>Where a check with a probe stands on one host.</summary>
/// <param name="Result">What the agent found; null when it has said nothing yet.</param>
/// <param name="Past">The limit that a figure is past.</param>
public sealed record ProbeOnHost(string Check, string CheckName, Severity Severity, string Looks, Guid HostId, string Label, string GroupPath, ProbeResult? Result, string? Past, bool Raised);

/// <summary>Has hosts look once, and does nothing about it.</summary>
/// <param name="On">Hosts in the selection language, <see cref="MaxHosts"/> at most.</param>
public sealed record ProbeTrialWish(Probe Probe, string On, string When = "")
{
    public const int MaxHosts = 50;
}

/// <param name="Says">What the host found, or why it could not look.</param>
/// <param name="Past">The limit that a figure is past.</param>
/// <param name="Bad">Whether the check would be bad there.</param>
public sealed record ProbeTrialLine(Guid HostId, string Label, string GroupPath, ProbeState State, string Says, IReadOnlyList<ProbeFigure> Figures, string? Past, bool Bad);

/// <summary>Says something of a check for one place, in place of what was said there before; when everything is null, nothing is said there any more.</summary>
/// <param name="GroupId">A group, or <paramref name="HostId"/>; neither is everything.</param>
public sealed record CheckWish(string Check, Guid? GroupId = null, Guid? HostId = null, bool? Off = null, Severity? Severity = null, string? When = null, string? Until = null, double? HoldSeconds = null, string? Note = null);

/// <summary>Tries a rule against what is kept.</summary>
/// <param name="On">Hosts in the selection language; null is every host that one may see.</param>
public sealed record CheckTrial(string When, string? Until = null, double HoldSeconds = 60, string? On = null, int Hours = 48);

/// <summary>From when to when a host would have had an alert; without an end it would have it now.</summary>
public sealed record TrialAlert(Guid HostId, string Label, string GroupPath, DateTimeOffset RaisedAt, DateTimeOffset? ClearedAt);

/// <param name="Hosts">How many hosts would have had one; <paramref name="HostsLooked"/> were looked at.</param>
/// <param name="Note">What could not be tried; null when everything could.</param>
public sealed record CheckTrialResult(int Alerts, int Hosts, int HostsLooked, DateTimeOffset From, IReadOnlyList<TrialAlert> Times, string? Note);

/// <summary>One metric of a host over a time: one entry for each of the series' times, null where nothing is known.</summary>
public sealed record MetricLine(string Metric, string Part, Dimension Unit, IReadOnlyList<double?> Min, IReadOnlyList<double?> Mean, IReadOnlyList<double?> Max);

/// <summary>Metrics of a host over a time, on one time axis.</summary>
/// <param name="StepSeconds">What one point stands for.</param>
/// <param name="At">Beginning of each point, as Unix time in seconds.</param>
/// <param name="Marks">Alerts and jobs on the host in that time.</param>
public sealed record MetricSeries(DateTimeOffset From, DateTimeOffset To, int StepSeconds, IReadOnlyList<long> At, IReadOnlyList<MetricLine> Lines, IReadOnlyList<SeriesMark> Marks);

/// <summary>One figure of one host beside those of others, as the client compares them.</summary>
public sealed record ComparedLine(string Host, string Part, Dimension? Unit, IReadOnlyList<double?> Mean);

/// <param name="Until">Null for what has no end yet, or none at all.</param>
public sealed record SeriesMark(DateTimeOffset At, DateTimeOffset? Until, string Kind, string Text, Severity? Severity);
