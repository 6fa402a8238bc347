using Umbrek.Core.Jobs;
using Umbrek.Wire.Jobs;

namespace Umbrek.Simulation.Estate;

/// <summary>The demo world's library of scripts and runbooks.</summary>
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
        (Runbook("""
            # Ready for the first ferry

            What a ticket desk needs before people come: it prints, and has room for the day.

            - parameter: UNIT: choice ticket-print, cups, kiosk = ticket-print -- what has to run
            - time-out: 5 min

            ## Look whether it runs

            - may fail

            ```sh
            systemctl is-active "$UNIT"
            ```

            ## Start it

            The printer takes a few seconds until it is warm.

            - when: "Look whether it runs" failed
            - tries: 3, 5 s apart

            ```sh
            systemctl restart "$UNIT"
            systemctl is-active "$UNIT"
            ```

            ## Room for the day

            ```sh
            df -h /
            ```

            ## Say what is missing

            - when: something failed

            ```sh
            echo "$UNIT does not run: the tickets of this desk are written by hand today"
            ```
            """), [], [("Coast", true)]),
    ];

    private static NewScript Runbook(string document)
    {
        var book = RunbookText.Read(document, out var problem) ?? throw new InvalidOperationException(problem);
        return new NewScript(book.Title!, book.Command, book.Description, book.Parameters);
    }

    private static CommandSpec Script(string text) => new() { Script = text + "\n" };

    private static ScriptParameter Parameter(string line) => ParameterText.Read(line, out var problem) ?? throw new InvalidOperationException(problem);
}
