using Umbrek.Core.Health;
using Umbrek.Wire.Health;

namespace Umbrek.Simulation.Estate;

/// <summary>Who is told of what in the demo world, and when nobody is.</summary>
public static class ScenarioNotices
{
    public const string Zone = "Europe/London";

    /// <summary>Where technicians get mail; all of it ends in the demo's own mailbox.</summary>
    public static string MailOf(string technician) => $"{technician.Split(' ')[0].ToLowerInvariant()}@halyard.example";

    /// <summary>By the group's path (null is everything) and the team's name.</summary>
    public static IEnumerable<(string? Group, string? Team, NewNotice Notice)> Notices(Uri hook) =>
    [
        (null, null, new NewNotice("Ines, at once", NoticeWay.Mail, Severity.Critical, Addresses: [MailOf("Ines")], Zone: Zone)),
        (null, null, new NewNotice("Nobody has taken it up", NoticeWay.Mail, Severity.Critical, Addresses: ["duty@halyard.example"], AfterSeconds: 900, Quiet: "sat-sun", Zone: Zone, CriticalAlways: true)),
        (null, null, new NewNotice("Morning summary", NoticeWay.Mail, Severity.Information, Addresses: [MailOf("Ines")], DigestAt: ["07:30"], Zone: Zone)),
        ("Saltmarsh Ferry", "Coast", new NewNotice("Ferry team", NoticeWay.Mail, Severity.Warning, Quiet: "mon-fri 19:00-07:00, sat-sun", Zone: Zone)),
        ("Brindle Moor Observatory", null, new NewNotice("Observatory's own desk", NoticeWay.Hook, Severity.Warning, Url: $"{hook}")),
    ];

    public static IEnumerable<(string Group, NewMaintenance Window)> Maintenance(DateOnly today) =>
    [
        ("Copperbeech Libraries", new NewMaintenance("Updates on Sunday night", 180, Starts: $"{Next(today, DayOfWeek.Sunday):yyyy-MM-dd}T22:00", Zone: Zone, Rule: "FREQ=WEEKLY;BYDAY=SU", Note: "the libraries are closed")),
        ("Saltmarsh Ferry/Vessels/Plover", new NewMaintenance("Plover in dry dock", 3 * 24 * 60, Starts: $"{Next(today, DayOfWeek.Monday):yyyy-MM-dd}T06:00", Zone: Zone)),
    ];

    private static DateOnly Next(DateOnly from, DayOfWeek day) => from.AddDays(((int)day - (int)from.DayOfWeek + 6) % 7 + 1);
}
