using Umbrek.Core.Jobs;
using Umbrek.Wire.Jobs;

namespace Umbrek.Simulation.Estate;

/// <summary>The demo world's library of scripts.</summary>
public static class ScenarioScripts
{
    /// <summary>A team of null is everybody; without sharing a script is its owner's alone.</summary>
    public static IEnumerable<(NewScript First, NewScriptVersion[] Next, (string? Team, bool MayChange)[] Sharing)> All { get; } =
    [
        (new NewScript("Restart a unit", Script("""
            #!/bin/sh
            systemctl restart "$UNIT"
            systemctl is-active "$UNIT"
            """), "Restarts one of the units that kiosks need, and says how it stands.", [Parameter("UNIT: text -- the unit")]),
            [
                new NewScriptVersion(Script("""
                    #!/bin/sh
                    echo "before:"
                    systemctl is-active "$UNIT"
                    systemctl restart "$UNIT"
                    echo "after $WAIT seconds:"
                    sleep "$WAIT"
                    systemctl is-active "$UNIT"
                    """) with { TimeoutSeconds = 120 }, [Parameter("UNIT: choice ticket-print, cups, kiosk = ticket-print -- the unit"), Parameter("WAIT: whole 0..60 = 2 -- seconds until it is looked at again")], "Says how it stood before, and gives it time"),
            ], [("Coast", true)]),
        (new NewScript("Room on the disks", Script("""
            #!/bin/sh
            df -h /
            """), "How full the root file system is."), [], [(null, false)]),
        (new NewScript("Night before an inspection", Script("""
            #!/bin/sh
            # What the inspector of weights and measures asks for.
            date
            uname -r
            uptime
            echo "inspected for $BY on $DAY"
            """), "Clock, kernel and uptime of every till, with the inspector's name.", [Parameter("BY: text -- the inspector's name"), Parameter("DAY: day"), Parameter("NOTE?: text -- goes into the report")]), [], []),
    ];

    private static CommandSpec Script(string text) => new() { Script = text + "\n" };

    private static ScriptParameter Parameter(string line) => ParameterText.Read(line, out var problem) ?? throw new InvalidOperationException(problem);
}
