using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Text;
using Umbrek.Service.Estate;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>Says alerts with one cause in one line, for listings and for mails.</summary>
public sealed class AlertLines(EstateIndex estate, TimeProvider time)
{
    /// <param name="seen">The hosts that whoever reads the lines may see: how much of a place is lost is told of those.</param>
    public IEnumerable<AlertLine> Fold(IReadOnlyList<AlertInfo> alerts, Func<IEnumerable<HostSummary>> seen)
    {
        var known = alerts.ToDictionary(a => a.Id);
        var groups = new Lazy<List<string>>(() => [.. seen().Where(h => h.RetiredAt is null).Select(h => h.GroupPath)]);
        var counted = new Dictionary<string, int>(StringComparer.OrdinalIgnoreCase);
        int HostsBelow(string path) => counted.TryGetValue(path, out var n) ? n : counted[path] = groups.Value.Count(p => GroupPath.IsAtOrBelow(p, path));
        return AlertFolding.Fold([.. alerts.Select(a => new FoldableAlert(a.Id, a.HostId, a.GroupPath, a.Check, a.Subsystem, a.Severity, a.RaisedAt))], HostsBelow).Select(f =>
        {
            var members = f.Alerts.Select(a => known[a.Id]).ToList();
            var lead = members[0];
            return new AlertLine(f.Place, What(f.Place, members, HostsBelow), lead.Severity, lead.State, lead.RaisedAt, members);
        });
    }

    private string What(string? place, List<AlertInfo> members, Func<string, int> hostsBelow)
    {
        // What is not lost contact may have one cause at a place too: a router that is silent, a line that comes and goes.
        if (place is not null && members[0].Check is not ("lost-contact" or "gone-long"))
        {
            return $"{members[0].CheckName}: {members.Count} of {hostsBelow(place)} hosts of {place} at about the same time, most likely for one cause.";
        }
        if (place is not null)
        {
            var since = members.Min(a => estate.Find(a.HostId)?.Presence.Since ?? a.RaisedAt);
            return $"{members.Count} of {hostsBelow(place)} hosts of {place} went away together {Units.Span(time.GetUtcNow() - since)} ago: most likely its line or its power.";
        }
        var hosts = members.Select(a => a.HostId).Distinct().Count();
        return hosts == 1 ? members[0].What : $"{members[0].CheckName} on {hosts} hosts.";
    }
}
