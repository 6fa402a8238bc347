using Umbrek.Core.Health;
using Umbrek.Wire.Health;

namespace Umbrek.Simulation.Estate;

/// <summary>Checks of the demo world's own, by which the agents themselves look.</summary>
public static class ScenarioChecks
{
    /// <summary>By the group's path; null is everything.</summary>
    public static IEnumerable<(string? Group, NewCheck Check)> All { get; } =
    [
        ("Saltmarsh Ferry/Quay/Ticketing", new NewCheck("Ticket printing runs", Subsystem.Services, Severity.Critical, HoldSeconds: 120,
            Follows: "Passengers get no tickets at this kiosk, and queue at the next one.", Fix: "See whether it has paper, then read why: journalctl -u ticket-print -n 50",
            Probe: new Probe(ProbeKind.Service, "ticket-print", EverySeconds: 20, Act: ProbeAct.Restart))),
        ("Tarn Valley Creamery/Farm Shop", new NewCheck("Shop certificate", Subsystem.Security, Severity.Warning, "left < 14 d",
            Follows: "Browsers will refuse the shop's pages from that day on.", Fix: "Have it renewed, then put it in its place and reload the web server.",
            Probe: new Probe(ProbeKind.Certificate, "shop.tarnvalley.example:443", EverySeconds: 3600))),
        ("Brindle Moor Observatory/Dome", new NewCheck("Frames are kept", Subsystem.Hardware, Severity.Warning, HoldSeconds: 30,
            Follows: "The night's pictures have gaps.", Fix: "Cool the camera's computer: see whether its fans turn.",
            Probe: new Probe(ProbeKind.Log, "/var/log/capture.log", "frame (dropped|late)", EverySeconds: 30))),
        ("Brindle Moor Observatory/Dome", new NewCheck("Dome control answers", Subsystem.Reachability, Severity.Warning, "took > 2 s",
            Probe: new Probe(ProbeKind.Port, "dome-control.brindlemoor.example:7100"))),
        ("Copperbeech Libraries", new NewCheck("Catalogue answers", Subsystem.Services, Severity.Warning, "took > 3 s",
            Follows: "Readers and staff can't look up or lend.", Probe: new Probe(ProbeKind.Web, "https://catalogue.copperbeech.example/health", "ready", EverySeconds: 120))),
        ("Tarn Valley Creamery", new NewCheck("Backup is fresh", Subsystem.Storage, Severity.Warning, "age > 26 h",
            Follows: "What was written since is lost if the disk dies.", Probe: new Probe(ProbeKind.Script, "", "echo age=7 h\necho files=1840\n", EverySeconds: 600))),
        ("Saltmarsh Ferry/Vessels", new NewCheck("Bridge router answers", Subsystem.Reachability, Severity.Information, "lost > 50 %",
            Probe: new Probe(ProbeKind.Ping, "192.0.2.1", EverySeconds: 60))),
    ];
}
