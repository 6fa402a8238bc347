using System.Text.RegularExpressions;
using Umbrek.Cli.Health;
using Umbrek.Core.Health;
using Umbrek.Wire.Health;

namespace Umbrek.Cli.Tests.Health;

public sealed partial class WatchViewTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 26, 9, 41, 12, TimeSpan.Zero);

    private static AlertLine Line(string label, Severity severity, string what, AlertState state = AlertState.Open, string? place = null) => new(
        place, what, severity, state, Now.AddMinutes(-4),
        [new AlertInfo(Guid.NewGuid(), Guid.NewGuid(), label, label, "Saltmarsh Ferry/Quay", "storage-high", "Storage nearly full", Subsystem.Storage, severity, state, Now.AddMinutes(-4), what, null, null, Now, state == AlertState.Acknowledged ? "Tomasz Vail" : null, null, null)]);

    private static PlaceHealth Place(string path, params SubsystemState[] subsystems) => new(path, 13, 9, 4, 4, subsystems);

    private static WatchState State(params AlertLine[] alerts) => new(
        new HealthOverview(new PlaceHealth("", 60, 55, 5, 4, []), [Place("Saltmarsh Ferry", new SubsystemState(Subsystem.Reachability, Severity.Critical, 4, 4), new SubsystemState(Subsystem.Services, Severity.Warning, 1, 1)), Place("Copperbeech Libraries")]),
        alerts, Now);

    [Fact]
    public void It_says_what_needs_a_person_and_how_every_place_fares() =>
        string.Join('\n', WatchView.Draw(State(Line("dunlin-log-01", Severity.Critical, "4 of 4 hosts went away together.", place: "Saltmarsh Ferry/Vessels/Dunlin"), Line("quay-ticket-03", Severity.Warning, "ticket-print.service has failed.", AlertState.Acknowledged)), 112, 30, 0, colour: false)).ShouldBe(
            """
            Everything                                                             60 hosts  55 linked  4 lost  09:41:12 UTC

              Severity    Since     Where                         What
            > critical    4 min     Saltmarsh Ferry/Vessels/Dun…  4 of 4 hosts went away together.
              warning     4 min     quay-ticket-03                (Tomasz Vail is at it) ticket-print.service has failed.


              Place                                Hosts  Linked  reach  proc   mem    stor   serv   upd    sec    hard   
              Saltmarsh Ferry                         13       9  crit   ·      ·      ·      warn   ·      ·      ·
              Copperbeech Libraries                   13       9  ·      ·      ·      ·      ·      ·      ·      ·

            q ends   ↑ ↓ choose   a: I am at it   (the console has the whole of it)
            """.ReplaceLineEndings("\n"));

    [Theory]
    [InlineData(80, 24)]
    [InlineData(40, 10)]
    [InlineData(200, 60)]
    [InlineData(10, 3)]
    public void It_fits_whatever_terminal_there_is(int width, int height)
    {
        var alerts = Enumerable.Range(1, 50).Select(n => Line($"quay-ticket-{n:00}", Severity.Warning, new string('x', 300))).ToArray();
        foreach (var colour in new[] { true, false })
        {
            for (var chosen = 0; chosen < 50; chosen += 7)
            {
                var lines = WatchView.Draw(State(alerts), width, height, chosen, colour);
                lines.Count.ShouldBeLessThanOrEqualTo(height);
                lines.ShouldAllBe(l => Escapes().Replace(l, "").Length <= Math.Max(40, width));
                if (height >= 10)
                {
                    lines.Count(l => l.StartsWith("> ", StringComparison.Ordinal)).ShouldBe(1);
                }
            }
        }
    }

    [Fact]
    public void Colour_only_repeats_what_a_word_says_and_nothing_that_a_host_says_moves_the_cursor()
    {
        var state = State(Line("kiosk\u001b[2J", Severity.Critical, "full\u001b[31m\nof it"));
        var coloured = WatchView.Draw(state, 100, 20, 0, colour: true);
        coloured.Select(l => Escapes().Replace(l, "")).ShouldBe(WatchView.Draw(state, 100, 20, 0, colour: false));
        coloured.ShouldAllBe(l => !Escapes().Replace(l, "").Contains('\u001b'));
        WatchView.Draw(state with { Problem = "localhost does not answer" }, 100, 20, 0, false)[1].ShouldBe("What stands here is of 09:41:12: localhost does not answer");
        WatchView.Draw(State(), 100, 20, 0, false).ShouldContain("  Nothing needs anybody.");
        // Shown once, there is nothing to choose.
        WatchView.Draw(state, 100, 20, -1, false).ShouldAllBe(l => !l.StartsWith('>') && !l.Contains("ends", StringComparison.Ordinal));
    }

    [GeneratedRegex("\u001b\\[[0-9;]*m")]
    private static partial Regex Escapes();
}
