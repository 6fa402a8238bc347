using Umbrek.Core.Text;
using Umbrek.Service.Hosting;

namespace Umbrek.Service.Health;

/// <summary>Time zones by their names in the tz database.</summary>
public static class Zones
{
    /// <exception cref="ProblemException">There is none of that name.</exception>
    public static TimeZoneInfo Find(string? name)
    {
        if (string.IsNullOrWhiteSpace(name))
        {
            return TimeZoneInfo.Utc;
        }
        if (TimeZoneInfo.TryFindSystemTimeZoneById(name.Trim(), out var zone) && (zone.HasIanaId || zone == TimeZoneInfo.Utc))
        {
            return zone;
        }
        var close = Similarity.Closest(name, TimeZoneInfo.GetSystemTimeZones().Select(z => z.Id));
        throw ProblemException.Invalid($"There is no time zone '{TerminalText.Line(name)}'.{(close is null ? "" : $" Did you mean '{close}'?")} Write it like Europe/London, or UTC.");
    }

    /// <summary>One that was kept; UTC where the system has lost it.</summary>
    public static TimeZoneInfo Kept(string name) => TimeZoneInfo.TryFindSystemTimeZoneById(name, out var zone) ? zone : TimeZoneInfo.Utc;
}
