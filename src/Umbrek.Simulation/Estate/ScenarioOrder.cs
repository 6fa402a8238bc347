using Umbrek.Core.Estate;
using Umbrek.Wire.Estate;

namespace Umbrek.Simulation.Estate;

/// <summary>How Halyard &amp; Wick keep their estate in order: what is kept of customers and hosts beside what hosts tell.</summary>
public static class ScenarioOrder
{
    public static IReadOnlyList<(string Customer, CustomerChange Kept, IReadOnlyList<NewOwnField> Fields)> Customers { get; } =
    [
        ("Saltmarsh Ferry",
            new("Wanda Pell, quay office\nwanda.pell@saltmarsh-ferry.example", "The Landing Stage, Saltmarsh", "Tickets sell from 05:40. Nothing restarts before the last crossing at 21:15.", "lagoon", "saltire"),
            [new("Contract ends", OwnFieldKind.Date), new("Support level", OwnFieldKind.Choice, ["working days", "every day", "round the clock"])]),
        ("Brindle Moor Observatory",
            new("Dr Ruan Ashby\nruan.ashby@brindle-moor.example", "Brindle Moor, at the end of the hill road", "Open to visitors on clear nights; ask before touching the dome.", "heather", "disc"),
            [new("Instrument", OwnFieldKind.Text)]),
        ("Copperbeech Libraries",
            new("Nell Garrow, Ashcombe\nnell.garrow@copperbeech.example", "5 Market Row, Ashcombe", "Five villages, one server. Wednesdays closed.", "moss", "quarters"),
            [new("Desk", OwnFieldKind.Number)]),
        ("Tarn Valley Creamery",
            new("Idris Vane, ripening store\nidris.vane@tarn-valley.example", "The Old Dairy, Tarn Valley", "Climate loggers are audited; never clear their logs without asking.", "offing", "bands"),
            []),
    ];

    public static IReadOnlyList<(string Selection, string Tag)> Tags { get; } =
    [
        ("*-kiosk or quay-ticket-*", "kiosk"),
        ("*-display-* or *-screen-*", "seen by visitors"),
        ("*-log-* or ripening-climate-*", "logger"),
        ("dome-* or creamery-files or shop-till-*", "ask first"),
    ];

    public static IReadOnlyList<(string Host, HostChange Change)> Hosts { get; } =
    [
        ("quay-ticket-01", new(Label: "Ticket desk, left", Notes: "The drawer sticks: press its lower edge.", Links: [new("Till manual", "https://manuals.example/till-4")], Own: new Dictionary<string, string?> { ["Contract ends"] = "2027-03-31", ["Support level"] = "every day" })),
        ("quay-ticket-02", new(Label: "Ticket desk, right", Own: new Dictionary<string, string?> { ["Contract ends"] = "2027-03-31", ["Support level"] = "every day" })),
        ("quay-ticket-03", new(Own: new Dictionary<string, string?> { ["Contract ends"] = "2026-12-31", ["Support level"] = "working days" })),
        ("dome-control", new(Notes: "The dongle on the back must stay in.\nOpen the shutter only from the dome itself.", Own: new Dictionary<string, string?> { ["Instrument"] = "40 cm reflector" })),
        ("ripening-climate-02", new(Notes: "Writes a line for every door that opens.")),
    ];

    public static IReadOnlyList<NewSavedSelection> Selections { get; } =
    [
        new("Nearly full", "storage.used > 85 %", "to look at each morning"),
        new("Gone for days", "is away and seen > 2 d"),
        new("Kiosks in the open", "tagged kiosk and not in \"Copperbeech Libraries\""),
        new("Somebody works there", "is used", "ask before restarting"),
    ];

    public static IReadOnlyList<string> Pinned { get; } = ["creamery-files", "dome-control"];
}
