using Umbrek.Core.Access;
using Umbrek.Wire.Access;

namespace Umbrek.Simulation.Estate;

/// <summary>Who may do what at Halyard &amp; Wick. The first technician is lead from the start.</summary>
public static class ScenarioAccess
{
    public static IReadOnlyList<string> Technicians { get; } = ["Ines Okafor", "Tomasz Vail", "Priya Lund", "Odile Marsh"];

    public static IReadOnlyList<NewRole> Roles { get; } = [new("view and files", [Permission.See, Permission.Watch, Permission.ReadFiles, Permission.WriteFiles], "looks on, and puts files in order")];

    public static IReadOnlyList<(string Team, IReadOnlyList<string> Members)> Teams { get; } = [("Coast", ["Tomasz Vail"])];

    public static IReadOnlyList<NewGrant> Grants(DateTimeOffset now) =>
    [
        new(null, "Coast", "technician", "Saltmarsh Ferry"),
        new("Tomasz Vail", null, "technician", "Tarn Valley Creamery"),
        new("Priya Lund", null, "view and files", "Copperbeech Libraries"),
        new("Odile Marsh", null, "technician", "Brindle Moor Observatory", EndsAt: Friday(now), Note: "contractor, for the new dome motor"),
    ];

    /// <summary>What customers have asked for: by group, or by host under its name.</summary>
    public static IReadOnlyList<(string Place, bool IsHost, HostPolicyPart Part)> Policies { get; } =
    [
        ("Copperbeech Libraries", false, new(Consent: ConsentRule.WhenSomebodyIsLoggedIn, Notice: NoticeRule.During)),
        ("Tarn Valley Creamery", false, new(KeyFor: [HostAct.Power], Record: RecordRule.Screen)),
        ("Tarn Valley Creamery/Ripening Store", false, new([HostAct.Watch, HostAct.Shell, HostAct.Run, HostAct.ReadFiles, HostAct.Power])),
        ("dome-control", true, new([HostAct.Watch, HostAct.Run, HostAct.ReadFiles], Notice: NoticeRule.Before, KeyFor: [HostAct.Run])),
    ];

    /// <summary>Hosts that have access keys, which the vault keeps.</summary>
    public const string WithKeys = "in \"Brindle Moor Observatory/Dome\" or in \"Tarn Valley Creamery/Ripening Store\"";

    /// <summary>Logons of systems: by group, or by host under its name. All made up.</summary>
    public static IReadOnlyList<(string Place, bool IsHost, NewSecret Secret)> Secrets { get; } =
    [
        ("Saltmarsh Ferry", false, new(SecretKind.Logon, "ebb-lantern-9-moorings", Name: "local administrator", UserName: "quayadmin", Note: "on all kiosks and desks")),
        ("Tarn Valley Creamery/Farm Shop", false, new(SecretKind.Logon, "curd-bell-41-awning", Name: "till supervisor", UserName: "till")),
        ("creamery-files", true, new(SecretKind.Logon, "rind-harbour-7-ladle", Name: "root", UserName: "root", Note: "at its own keyboard only")),
        ("Copperbeech Libraries", false, new(SecretKind.Logon, "acorn-ledger-23-shelf", Name: "catalogue service", UserName: "catalogue")),
    ];

    /// <summary>The end of work on the next Friday.</summary>
    private static DateTimeOffset Friday(DateTimeOffset now)
    {
        var at = new DateTimeOffset(now.UtcDateTime.Date, TimeSpan.Zero).AddDays(((int)DayOfWeek.Friday - (int)now.DayOfWeek + 7) % 7).AddHours(18);
        return at > now ? at : at.AddDays(7);
    }
}
