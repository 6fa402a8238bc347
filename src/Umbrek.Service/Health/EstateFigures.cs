using System.Diagnostics;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Service.Estate;
using Umbrek.Service.Links;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Health;

/// <summary>One figure of a family, told from the others by its labels.</summary>
public readonly record struct Figure(IReadOnlyList<(string Name, string Value)> Labels, double Value);

/// <summary>Figures of one meaning.</summary>
/// <param name="Type">gauge or counter.</param>
/// <param name="Unit">The last part of the name, where that is a unit.</param>
public sealed record FigureFamily(string Name, string Type, string? Unit, string Help, IEnumerable<Figure> Figures);

/// <summary>The latest figures of every host that somebody may see, and the service's own: for those who gather figures of everything they run.</summary>
public sealed class EstateFigures(EstateIndex estate, AlertBook alerts, ProbeBook probes, LinkRegistry links, TimeProvider time)
{
    /// <summary>Older samples say nothing of now: what stands still in a graph looks alive.</summary>
    private static readonly TimeSpan Fresh = TimeSpan.FromMinutes(5);

    public IEnumerable<FigureFamily> Of(Reach reach)
    {
        var hosts = estate.SeenBy(reach).Where(h => h.RetiredAt is null).OrderBy(h => h.GroupPath, StringComparer.OrdinalIgnoreCase).ThenBy(h => h.Label, StringComparer.OrdinalIgnoreCase).Select(h => (Host: h, Labels: LabelsOf(h))).ToList();
        var samples = hosts.Select(h => (h.Labels, Sample: estate.LatestSample(h.Host.Id))).Where(h => h.Sample is not null && time.GetUtcNow() - h.Sample.At < Fresh).ToList();
        yield return new("umbrek_host_linked", "gauge", null, "Whether the host's link is up.", hosts.Select(h => new Figure(h.Labels, h.Host.Presence.State == PresenceState.Linked ? 1 : 0)));
        yield return new("umbrek_host_last_seen_timestamp_seconds", "gauge", "seconds", "When the host was last heard of.", hosts.Select(h => new Figure(h.Labels, h.Host.LastSeenAt.ToUnixTimeMilliseconds() / 1000.0)));
        yield return new("umbrek_host_alerts", "gauge", null, "Alerts of the host that are open or acknowledged.", hosts.Select(h => new Figure(h.Labels, h.Host.Alerts)));
        foreach (var metric in Metric.All)
        {
            var (name, unit) = NameOf(metric);
            yield return new(name, "gauge", unit, $"The latest sample: {metric.Says}.",
                samples.SelectMany(h => metric.Read(h.Sample!).Where(v => double.IsFinite(v.Value)).Select(v => new Figure(v.Part.Length == 0 ? h.Labels : [.. h.Labels, ("part", v.Part)], v.Value))));
        }
        var found = hosts.Where(h => h.Host.Presence.State == PresenceState.Linked).SelectMany(h => probes.Of(h.Host.Id).Select(r => (h.Labels, Result: r))).ToList();
        yield return new("umbrek_host_probe_well", "gauge", null, "Whether what a check has the host look at is well.",
            found.Where(f => f.Result.State is ProbeState.Well or ProbeState.Failed).Select(f => new Figure([.. f.Labels, ("check", f.Result.Check)], f.Result.State == ProbeState.Well ? 1 : 0)));
        yield return new("umbrek_host_probe_figure", "gauge", null, "A figure of what a check has the host look at: seconds, bytes, percent or a bare number.",
            found.SelectMany(f => f.Result.Figures.Select(v => new Figure([.. f.Labels, ("check", f.Result.Check), ("figure", v.Name)], v.Value))));
        var asking = alerts.Current.Where(a => !a.State.IsOver() && estate.Find(a.HostId, reach) is not null).GroupBy(a => (a.Severity, a.State)).OrderBy(g => g.Key.Severity).ThenBy(g => g.Key.State);
        yield return new("umbrek_alerts", "gauge", null, "Alerts that are not over.",
            asking.Select(g => new Figure([("severity", g.Key.Severity.ToString().ToLowerInvariant()), ("state", g.Key.State.ToString().ToLowerInvariant())], g.Count())));
        using var self = Process.GetCurrentProcess();
        yield return new("umbrek_links", "gauge", null, "Agents that are linked with this service.", [new([], links.Count)]);
        yield return new("process_cpu_seconds", "counter", "seconds", "Processor time of the service.", [new([], self.TotalProcessorTime.TotalSeconds)]);
        yield return new("process_resident_memory_bytes", "gauge", "bytes", "Resident memory of the service.", [new([], self.WorkingSet64)]);
        yield return new("process_start_time_seconds", "gauge", "seconds", "When the service was started.", [new([], new DateTimeOffset(self.StartTime).ToUnixTimeMilliseconds() / 1000.0)]);
    }

    /// <summary>Units are part of a name (OpenMetrics §4.4.4); rates say that they are.</summary>
    private static (string Name, string? Unit) NameOf(Metric metric)
    {
        var name = $"umbrek_host_{metric.Name.Replace('.', '_')}";
        return metric switch
        {
            { Name: "temperature" } => (name + "_celsius", "celsius"),
            { Unit: Dimension.Percent } => (name + "_percent", "percent"),
            { Unit: Dimension.Size } when metric.Name.StartsWith("disk.", StringComparison.Ordinal) || metric.Name.StartsWith("network.", StringComparison.Ordinal) => (name + "_bytes_per_second", null),
            { Unit: Dimension.Size } => (name + "_bytes", "bytes"),
            _ => (name, null),
        };
    }

    private static List<(string, string)> LabelsOf(HostSummary h) => [("host", h.Label), ("system", h.SystemName), ("customer", GroupPath.Customer(h.GroupPath)), ("group", h.GroupPath)];
}
