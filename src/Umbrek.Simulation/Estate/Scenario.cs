using System.Net.NetworkInformation;
using Umbrek.Core.Access;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Links;

namespace Umbrek.Simulation.Estate;

/// <summary>What kind of computer a simulated host is; it decides how it looks and behaves.</summary>
public enum HostKind
{
    Desktop,
    Kiosk,
    Display,
    Logger,
    Capture,
    Server,
    Till,
}

/// <summary>A story that somebody who looks after the estate would find.</summary>
public enum HostStory
{
    None,

    /// <summary>A log grows until the disk is full.</summary>
    DiskFills,

    /// <summary>The ticket printing service has stopped.</summary>
    PrinterStopped,

    /// <summary>The line comes and goes.</summary>
    LinkComesAndGoes,

    /// <summary>Nobody has heard of it for nine days.</summary>
    LongGone,

    /// <summary>It works hard and runs hot.</summary>
    RunsHot,

    /// <summary>Its agent is of an older version than the service's.</summary>
    OldAgent,

    /// <summary>It has another kernel than all its peers.</summary>
    OtherKernel,

    /// <summary>A loose plug: its line breaks every minute or two.</summary>
    LoosePlug,

    /// <summary>Nobody keeps its clock, and it is seven minutes behind.</summary>
    ClockBehind,
}

/// <summary>One simulated computer.</summary>
public sealed record SimulatedHost(string Name, string GroupPath, HostKind Kind, int Number, HostStory Story = HostStory.None, string? Person = null)
{
    /// <summary>From the documentation range 198.51.100.0/24 (RFC 5737), or 2001:db8::/32 (RFC 3849) past its end.</summary>
    /// <summary>Updates that wait, and how many of them close security holes: six of the sixty lag behind.</summary>
    public (int All, int Security) Updates => Number % 10 == 4 ? (27 + Number % 7, 2 + Number % 3) : (Number % 4, 0);

    public bool NeedsRestart => Number is 17 or 42;

    public string Address => Number < 250 ? $"198.51.100.{Number + 1}" : $"2001:db8::{Number:x}";
}

/// <summary>The made-up world: Halyard &amp; Wick and its four customers on one stretch of coast.</summary>
public static class Scenario
{
    public const string OwnGroup = "Halyard & Wick/Workshop";

    private static readonly string[] People =
    [
        "amara.holt", "ben.tarrant", "carys.wynn", "dov.petersen", "elin.marlow", "farid.quill", "greta.sands", "hugh.ostler", "ivy.lockett", "jonas.reed",
    ];

    private static readonly (string Group, string Prefix, HostKind Kind, int Count)[] Places =
    [
        ("Saltmarsh Ferry/Quay/Ticketing", "quay-ticket", HostKind.Kiosk, 4),
        ("Saltmarsh Ferry/Quay/Office", "quay-office", HostKind.Desktop, 3),
        ("Saltmarsh Ferry/Vessels/Plover", "plover-display", HostKind.Display, 2),
        ("Saltmarsh Ferry/Vessels/Plover", "plover-log", HostKind.Logger, 2),
        ("Saltmarsh Ferry/Vessels/Dunlin", "dunlin-display", HostKind.Display, 2),
        ("Saltmarsh Ferry/Vessels/Dunlin", "dunlin-log", HostKind.Logger, 2),
        ("Brindle Moor Observatory/Dome", "dome-control", HostKind.Desktop, 0),
        ("Brindle Moor Observatory/Dome", "dome-capture", HostKind.Capture, 3),
        ("Brindle Moor Observatory/Visitor Centre", "visitor-screen", HostKind.Display, 4),
        ("Brindle Moor Observatory/Data Room", "data-reduce", HostKind.Server, 2),
        ("Brindle Moor Observatory/Data Room", "data-archive", HostKind.Server, 2),
        ("Copperbeech Libraries/Ashcombe", "ashcombe-desk", HostKind.Desktop, 2),
        ("Copperbeech Libraries/Ashcombe", "ashcombe-kiosk", HostKind.Kiosk, 0),
        ("Copperbeech Libraries/Ashcombe", "libraries-server", HostKind.Server, 0),
        ("Copperbeech Libraries/Orrin", "orrin-desk", HostKind.Desktop, 4),
        ("Copperbeech Libraries/Orrin", "orrin-kiosk", HostKind.Kiosk, 0),
        ("Copperbeech Libraries/Tidewell", "tidewell-desk", HostKind.Desktop, 2),
        ("Copperbeech Libraries/Tidewell", "tidewell-kiosk", HostKind.Kiosk, 0),
        ("Copperbeech Libraries/Penhallow", "penhallow-desk", HostKind.Desktop, 2),
        ("Copperbeech Libraries/Penhallow", "penhallow-kiosk", HostKind.Kiosk, 0),
        ("Copperbeech Libraries/Marl", "marl-desk", HostKind.Desktop, 2),
        ("Copperbeech Libraries/Marl", "marl-kiosk", HostKind.Kiosk, 0),
        ("Tarn Valley Creamery/Make Room", "make-display", HostKind.Display, 3),
        ("Tarn Valley Creamery/Ripening Store", "ripening-climate", HostKind.Logger, 4),
        ("Tarn Valley Creamery/Farm Shop", "shop-till", HostKind.Till, 3),
        ("Tarn Valley Creamery/Office", "creamery-office", HostKind.Desktop, 4),
        ("Tarn Valley Creamery/Office", "creamery-files", HostKind.Server, 0),
    ];

    /// <summary>Every group of the world, parents before children.</summary>
    public static IReadOnlyList<string> Groups { get; } =
    [
        .. Places.Select(p => p.Group).Append(OwnGroup)
            .SelectMany(path => Enumerable.Range(1, path.Split('/').Length).Select(n => string.Join('/', path.Split('/').Take(n))))
            .Distinct(),
    ];

    /// <summary>Installers that are out.</summary>
    public static IReadOnlyList<NewInstaller> Installers { get; } =
    [
        new("Saltmarsh Ferry/Quay/Ticketing", "kiosks for the new landing stage", 30 * 86400, 4, new HostPolicy([HostAct.Watch, HostAct.Control, HostAct.Run, HostAct.Power], ConsentRule.Never), AccessKeyRule.Generate),
        new("Brindle Moor Observatory/Visitor Centre", "sent to the visitor centre", 7 * 86400, null, new HostPolicy([HostAct.Watch, HostAct.Run], ConsentRule.WhenSomebodyIsLoggedIn), AccessKeyRule.AskAtInstall, ApprovalNeeded: true),
        new("Tarn Valley Creamery/Office", "silent roll-out", 2 * 86400, 20),
    ];

    /// <summary>Computers that wait to be let in: a new one, and a known machine with a new system.</summary>
    public static IReadOnlyList<SimulatedHost> Newcomers { get; } =
    [
        new("marl-desk-03", "Copperbeech Libraries/Marl", HostKind.Desktop, 240),
        new("tidewell-kiosk", "Copperbeech Libraries/Tidewell", HostKind.Kiosk, 241),
    ];

    /// <summary>What answers near a host: the world's computers of its customer, and a few that have no agent.</summary>
    public static IEnumerable<ScanAnswer> Around(SimulatedHost host)
    {
        var customer = host.GroupPath.Split('/')[0];
        var known = Hosts(60).Where(h => h.GroupPath.Split('/')[0] == customer && h.Story != HostStory.LongGone)
            .Select(h => new ScanAnswer(h.Address, Hardware(h.Number), h.Name, h.Kind is HostKind.Server ? [22, 445] : [22]));
        (int At, string? Name, int[] Ports)[] strangers =
        [
            (201, "office-printer", [80, 631, 9100]), (202, null, [80]), (203, "spare-desk", [22, 3389]), (204, "till-printer", [9100]), (205, "camera-north", [80, 443]), (206, null, []),
        ];
        return known.Concat(strangers.Select(s => new ScanAnswer($"198.51.100.{s.At}", Hardware(s.At), s.Name, s.Ports)));
    }

    /// <summary>The network card of a host.</summary>
    public static PhysicalAddress Card(int number) => PhysicalAddress.Parse(Hardware(number).ToUpperInvariant().Replace(':', '-'));

    /// <summary>From the documentation range 00-00-5E-00-53-00 to -FF (RFC 7042 §2.1.2).</summary>
    private static string Hardware(int number) => $"00:00:5e:00:53:{number % 256:x2}";

    /// <summary>The first <paramref name="count"/> hosts; past the sixty of the world the same patterns go on with higher numbers.</summary>
    public static IReadOnlyList<SimulatedHost> Hosts(int count)
    {
        var hosts = new List<SimulatedHost>();
        foreach (var (group, prefix, kind, many) in Places)
        {
            // A place that needs one computer has it without a number.
            foreach (var name in many == 0 ? [prefix] : Enumerable.Range(1, many).Select(n => $"{prefix}-{n:00}"))
            {
                hosts.Add(Make(name, group, kind, hosts.Count));
            }
        }
        var numbered = Places.Where(p => p.Count > 0).ToArray();
        for (var round = 0; hosts.Count < count; round++)
        {
            foreach (var (group, prefix, kind, many) in numbered)
            {
                for (var n = 0; n < many && hosts.Count < count; n++)
                {
                    hosts.Add(Make($"{prefix}-{many * (round + 1) + n + 1:00}", group, kind, hosts.Count));
                }
            }
        }
        return [.. hosts.Take(count)];
    }

    private static SimulatedHost Make(string name, string group, HostKind kind, int number)
    {
        var story = name switch
        {
            "ripening-climate-02" => HostStory.DiskFills,
            "quay-ticket-03" => HostStory.PrinterStopped,
            "tidewell-kiosk" => HostStory.LongGone,
            "dome-capture-02" => HostStory.RunsHot,
            "creamery-files" => HostStory.OtherKernel,
            "marl-kiosk" => HostStory.OldAgent,
            "make-display-03" => HostStory.LoosePlug,
            "penhallow-kiosk" => HostStory.ClockBehind,
            _ when group.EndsWith("/Dunlin", StringComparison.Ordinal) => HostStory.LinkComesAndGoes,
            _ => HostStory.None,
        };
        var person = kind == HostKind.Desktop && number % 3 != 0 ? People[number % People.Length] : null;
        return new SimulatedHost(name, group, kind, number, story, person);
    }
}
