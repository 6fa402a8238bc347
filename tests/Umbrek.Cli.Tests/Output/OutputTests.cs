using System.Text;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Jobs;
using Umbrek.Cli.Output;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Tests.Output;

public sealed class OutputTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);

    [Fact]
    public void Lines_of_many_hosts_are_told_apart_and_never_torn()
    {
        var (one, two) = (RunOn("quay-ticket-01"), RunOn("plover"));
        var runs = new Dictionary<Guid, RunInfo> { [one.Id] = one, [two.Id] = two };
        var (stdout, stderr) = (new StringWriter(), new StringWriter());
        var printer = new OutputPrinter(stdout, stderr, prefix: true);
        printer.Print(runs, [Piece(one, 0, "fir"), Piece(two, 0, "other\n"), Piece(one, 1, "st\nsec"), Piece(one, 2, "oops\n", RunEventKind.Stderr)]);
        printer.Finish(runs);
        stdout.ToString().ShouldBe("plover         | other\nquay-ticket-01 | first\nquay-ticket-01 | sec\n");
        stderr.ToString().ShouldBe("quay-ticket-01 ! oops\n");
    }

    [Fact]
    public void Figures_become_bars_between_nothing_and_the_most_with_gaps_where_nothing_is_known()
    {
        Sparkline.Draw([0, 50, null, 100], 100).ShouldBe("▁▅ █");
        Sparkline.Draw([2, 4, 8]).ShouldBe("▃▅█");
        Sparkline.Draw([0, 0]).ShouldBe("▁▁");
        Sparkline.Draw([null]).ShouldBe(" ");
        Sparkline.Draw([]).ShouldBe("");
        Sparkline.Draw([250], 100).ShouldBe("█");
    }

    [Fact]
    public void A_letter_cut_in_two_by_a_piece_is_whole_again_and_escapes_are_shown()
    {
        var run = RunOn("plover");
        var stdout = new StringWriter();
        var printer = new OutputPrinter(stdout, stdout, prefix: true);
        var bytes = Encoding.UTF8.GetBytes("Käse\u001b[2J\r\n");
        printer.Print(new Dictionary<Guid, RunInfo> { [run.Id] = run }, [Bytes(run, 0, bytes[..2]), Bytes(run, 1, bytes[2..])]);
        stdout.ToString().ShouldBe("plover | Käse␛[2J\n");
    }

    [Fact]
    public void States_are_said_in_words_with_reason_and_time()
    {
        Words.Of(new PresenceInfo(PresenceState.Away, AwayReason.LostContact, Noon.AddMinutes(-4)), Noon).ShouldBe("away 4 min (lost contact)");
        Words.Of(new PresenceInfo(PresenceState.Linked, AwayReason.None, Noon), Noon).ShouldBe("linked");
        Words.Of(new RunCounts(1, 0, 2, 50, 3, 0, 0, 0, 0, 0)).ShouldBe("3 failed, 50 succeeded, 2 running, 1 waiting");
    }

    [Fact]
    public void Short_ids_find_one_thing_or_say_why_not()
    {
        var ids = new[] { Guid.Parse("01a20755-f119-7cdf-96db-925628507f7a"), Guid.Parse("01a20755-f119-7cdf-96db-92562850aaaa") };
        ShortIds.Find(ids, i => i, "50 7f7a".Replace(" ", ""), "job", "umbrek job list").ShouldBe(ids[0]);
        ShortIds.Find(ids, i => i, ids[1].ToString(), "job", "umbrek job list").ShouldBe(ids[1]);
        Should.Throw<ClientException>(() => ShortIds.Find(ids, i => i, "ffff", "job", "umbrek job list")).Message.ShouldContain("umbrek job list");
        Should.Throw<ClientException>(() => ShortIds.Find(ids, i => i, "a", "job", "umbrek job list")).ExitCode.ShouldBe(ExitCodes.NothingMatched);
    }

    private static RunInfo RunOn(string label) =>
        new(Guid.CreateVersion7(), Guid.Empty, Guid.Empty, label, label, "Saltmarsh Ferry/Quay", RunState.Running, Noon, Noon, null, null, null, "root", 0, 0);

    private static OutputPiece Piece(RunInfo run, long sequence, string text, RunEventKind stream = RunEventKind.Stdout) => new(run.Id, sequence, stream, Encoding.UTF8.GetBytes(text));

    private static OutputPiece Bytes(RunInfo run, long sequence, byte[] data) => new(run.Id, sequence, RunEventKind.Stdout, data);
}
