using System.Diagnostics;
using System.Globalization;
using System.Text;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Links;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Health;

/// <summary>
/// The latest figures of every host that the one who asks may see, and the service's own, as OpenMetrics 1.0 text: for those who gather figures of everything they run.
/// </summary>
public sealed class OpenMetrics(EstateIndex estate, AlertBook alerts, LinkRegistry links, TimeProvider time)
{
    public const string ContentType = "application/openmetrics-text; version=1.0.0; charset=utf-8";

    public string Write(Asker by)
    {
        var text = new StringBuilder(64 * 1024);
        var hosts = estate.SeenBy(by.Reach).Where(h => h.RetiredAt is null).OrderBy(h => h.GroupPath, StringComparer.OrdinalIgnoreCase).ThenBy(h => h.Label, StringComparer.OrdinalIgnoreCase).ToList();
        var samples = hosts.Select(h => (Host: h, Sample: estate.LatestSample(h.Id))).Where(h => h.Sample is not null && time.GetUtcNow() - h.Sample.At < Fresh).ToList();
        Family(text, "umbrek_host_linked", "gauge", null, "Whether the host's link is up.", hosts.Select(h => (Labels(h), h.Presence.State == PresenceState.Linked ? 1.0 : 0)));
        Family(text, "umbrek_host_last_seen_timestamp_seconds", "gauge", "seconds", "When the host was last heard of.", hosts.Select(h => (Labels(h), h.LastSeenAt.ToUnixTimeMilliseconds() / 1000.0)));
        Family(text, "umbrek_host_alerts", "gauge", null, "Alerts of the host that are open or acknowledged.", hosts.Select(h => (Labels(h), (double)h.Alerts)));
        foreach (var metric in Metric.All)
        {
            var (name, unit) = NameOf(metric);
            Family(text, name, "gauge", unit, $"The latest sample: {metric.Says}.", samples.SelectMany(h => metric.Read(h.Sample!).Where(v => double.IsFinite(v.Value)).Select(v => (v.Part.Length == 0 ? Labels(h.Host) : $"{Labels(h.Host)},part=\"{Escape(v.Part)}\"", v.Value))));
        }
        var asking = alerts.Current.Where(a => !a.State.IsOver() && estate.Find(a.HostId, by.Reach) is not null).GroupBy(a => (a.Severity, a.State)).OrderBy(g => g.Key.Severity).ThenBy(g => g.Key.State);
        Family(text, "umbrek_alerts", "gauge", null, "Alerts that are not over.", asking.Select(g => ($"severity=\"{g.Key.Severity.ToString().ToLowerInvariant()}\",state=\"{g.Key.State.ToString().ToLowerInvariant()}\"", (double)g.Count())));
        using var self = Process.GetCurrentProcess();
        Family(text, "umbrek_links", "gauge", null, "Agents that are linked with this service.", [("", links.Count)]);
        Family(text, "process_cpu_seconds", "counter", "seconds", "Processor time of the service.", [("", self.TotalProcessorTime.TotalSeconds)]);
        Family(text, "process_resident_memory_bytes", "gauge", "bytes", "Resident memory of the service.", [("", self.WorkingSet64)]);
        Family(text, "process_start_time_seconds", "gauge", "seconds", "When the service was started.", [("", new DateTimeOffset(self.StartTime).ToUnixTimeMilliseconds() / 1000.0)]);
        return text.Append("# EOF\n").ToString();
    }

    /// <summary>Older samples say nothing of now: what stands still in a graph looks alive.</summary>
    private static readonly TimeSpan Fresh = TimeSpan.FromMinutes(5);

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

    private static void Family(StringBuilder text, string name, string type, string? unit, string help, IEnumerable<(string Labels, double Value)> values)
    {
        text.Append(CultureInfo.InvariantCulture, $"# TYPE {name} {type}\n");
        if (unit is not null)
        {
            text.Append(CultureInfo.InvariantCulture, $"# UNIT {name} {unit}\n");
        }
        text.Append(CultureInfo.InvariantCulture, $"# HELP {name} {Escape(help)}\n");
        foreach (var (labels, value) in values)
        {
            text.Append(name).Append(type == "counter" ? "_total" : "");
            if (labels.Length > 0)
            {
                text.Append('{').Append(labels).Append('}');
            }
            text.Append(' ').Append(value.ToString("R", CultureInfo.InvariantCulture)).Append('\n');
        }
    }

    private static string Labels(HostSummary h) => $"host=\"{Escape(h.Label)}\",system=\"{Escape(h.SystemName)}\",customer=\"{Escape(GroupPath.Customer(h.GroupPath))}\",group=\"{Escape(h.GroupPath)}\"";

    private static string Escape(string text) => text.Replace("\\", "\\\\").Replace("\"", "\\\"").Replace("\n", "\\n");
}
