using Umbrek.Core.Estate;

namespace Umbrek.Core.Health;

/// <summary>An alert as folding sees it.</summary>
public sealed record FoldableAlert(Guid Id, Guid HostId, string GroupPath, string Check, Subsystem Subsystem, Severity Severity, DateTimeOffset RaisedAt);

/// <summary>Alerts that belong together, as one line.</summary>
/// <param name="Alerts">The one that stands for them first.</param>
/// <param name="Place">The group whose link is down when they are all of one place; null when they are of one host, or the same on many.</param>
public sealed record AlertFold(IReadOnlyList<FoldableAlert> Alerts, string? Place);

/// <summary>
/// Folds what has one cause: hosts of one group that were lost together (a line is down, not eight computers), updates that many hosts want, and alerts of one
/// host about one subsystem.
/// </summary>
public static class AlertFolding
{
    /// <summary>Fewer are as quickly read one by one.</summary>
    public const int LeastHosts = 3;

    /// <summary>So much of a group has to be lost for its line to be the likely cause.</summary>
    public const double LeastShare = 0.8;

    /// <summary>Lost together is lost within this time.</summary>
    public static readonly TimeSpan Together = TimeSpan.FromMinutes(15);

    /// <param name="hostsBelow">How many hosts that should be there a group has, at and below it.</param>
    /// <returns>Every alert once; the worst and newest folds first.</returns>
    public static List<AlertFold> Fold(IReadOnlyCollection<FoldableAlert> alerts, Func<string, int> hostsBelow)
    {
        var folds = new List<AlertFold>();
        var left = new HashSet<FoldableAlert>(alerts);
        foreach (var ofCheck in alerts.Where(a => a.Subsystem == Subsystem.Reachability).GroupBy(a => a.Check))
        {
            // From the customer down: the highest place that is lost as a whole names the cause.
            var places = ofCheck.SelectMany(a => Ancestors(a.GroupPath).Select(path => (Path: path, Alert: a)))
                .GroupBy(p => p.Path, p => p.Alert, StringComparer.OrdinalIgnoreCase).OrderBy(g => GroupPath.Split(g.Key).Length);
            foreach (var place in places)
            {
                if (Largest([.. place.Where(left.Contains)]) is { Count: >= LeastHosts } together && together.Count >= LeastShare * hostsBelow(place.Key))
                {
                    folds.Add(new AlertFold(together, place.Key));
                    left.ExceptWith(together);
                }
            }
        }
        // Updates come to many at once and are put in at once.
        foreach (var wanted in left.Where(a => a.Subsystem is Subsystem.Updates or Subsystem.Security).GroupBy(a => a.Check).Where(g => g.Select(a => a.HostId).Distinct().Count() >= LeastHosts).ToList())
        {
            folds.Add(new AlertFold([.. wanted.OrderByDescending(a => a.Severity).ThenBy(a => a.RaisedAt).ThenBy(a => a.Id)], null));
            left.ExceptWith(wanted);
        }
        folds.AddRange(left.GroupBy(a => (a.HostId, a.Subsystem)).Select(g => new AlertFold([.. g.OrderByDescending(a => a.Severity).ThenBy(a => a.RaisedAt).ThenBy(a => a.Id)], null)));
        return [.. folds.OrderByDescending(f => f.Alerts[0].Severity).ThenByDescending(f => f.Alerts.Max(a => a.RaisedAt)).ThenBy(f => f.Alerts[0].Id)];
    }

    /// <summary>The most alerts that began within <see cref="Together"/>, oldest first.</summary>
    private static List<FoldableAlert> Largest(List<FoldableAlert> alerts)
    {
        alerts.Sort((a, b) => a.RaisedAt.CompareTo(b.RaisedAt) is not 0 and var order ? order : a.Id.CompareTo(b.Id));
        var (best, bestFrom) = (0, 0);
        for (int from = 0, to = 0; to < alerts.Count; to++)
        {
            while (alerts[to].RaisedAt - alerts[from].RaisedAt > Together)
            {
                from++;
            }
            if (to - from + 1 > best)
            {
                (best, bestFrom) = (to - from + 1, from);
            }
        }
        return alerts.GetRange(bestFrom, best);
    }

    private static IEnumerable<string> Ancestors(string path)
    {
        var parts = GroupPath.Split(path);
        return Enumerable.Range(1, parts.Length).Select(n => GroupPath.Join(parts.Take(n)));
    }
}
