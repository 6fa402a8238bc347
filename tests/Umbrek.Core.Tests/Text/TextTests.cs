using Umbrek.Core.Text;

namespace Umbrek.Core.Tests.Text;

public sealed class TextTests
{
    [Fact]
    public void Pieces_are_cut_into_numbered_lines_wherever_they_end()
    {
        var cutter = new LineCutter();
        var lines = new List<(long, string)>();
        bool Take(long number, string line)
        {
            lines.Add((number, line));
            return lines.Count < 4;
        }
        cutter.Add("one\r\ntw\u00c3"u8[..8], Take).ShouldBeTrue();
        cutter.Add("o\n\nfour\nfive\n"u8, Take).ShouldBeFalse();
        lines.ShouldBe([(1, "one"), (2, "tw\ufffdo"), (3, ""), (4, "four")]);
        var open = new LineCutter();
        open.Add("no end"u8, Take).ShouldBeTrue();
        open.End((number, line) => (number, line) == (1, "no end")).ShouldBeTrue();
    }

    [Theory]
    [InlineData("  Ticket desk, left ", "Ticket desk, left")]
    [InlineData("Kä\u0308se", "Kä\u0308se")]
    [InlineData("👩‍🔬 lab", "👩‍🔬 lab")]
    [InlineData("مكتب", "مكتب")]
    public void Ordinary_names_stay(string text, string expected) =>
        Names.Clean(text, "label", out _).ShouldBe(expected.Normalize());

    [Theory]
    [InlineData("", "empty")]
    [InlineData("   ", "empty")]
    [InlineData("a\nb", "invisible")]
    [InlineData("a\u202eb", "invisible")]
    [InlineData("a\u0007", "invisible")]
    public void Names_that_could_deceive_are_refused(string text, string word)
    {
        Names.Clean(text, "label", out var problem).ShouldBeNull();
        problem.ShouldContain(word);
    }

    [Fact]
    public void Broken_text_is_no_name()
    {
        Names.Clean("a" + (char)0xD800, "label", out var problem).ShouldBeNull();
        problem.ShouldContain("broken Unicode");
    }

    [Fact]
    public void A_name_has_a_longest_length()
    {
        Names.Clean(new string('x', Names.MaxLength), "label", out _).ShouldNotBeNull();
        Names.Clean(new string('x', 300), "label", out var problem).ShouldBeNull();
        problem.ShouldContain("300 characters");
    }

    [Fact]
    public void Escapes_in_output_become_visible() =>
        TerminalText.Neutralise("ok\t\u001b[31mred\u0007\nnext\u202e").ShouldBe("ok\t␛[31mred␇\nnext␦");

    [Theory]
    [InlineData(0, "0 B")]
    [InlineData(1023, "1023 B")]
    [InlineData(1536, "1.50 KiB")]
    [InlineData(16L << 30, "16.0 GiB")]
    public void Sizes_read_well(long bytes, string expected) => Units.Bytes(bytes).ShouldBe(expected);

    [Theory]
    [InlineData(4, "4 s")]
    [InlineData(240, "4 min")]
    [InlineData(11_520, "3 h 12 min")]
    [InlineData(9 * 86400 + 3600, "9 d")]
    [InlineData(-5, "0 s")]
    public void Spans_read_well(int seconds, string expected) => Units.Span(TimeSpan.FromSeconds(seconds)).ShouldBe(expected);

    [Theory]
    [InlineData("90", 90)]
    [InlineData("90s", 90)]
    [InlineData("15 min", 900)]
    [InlineData("2h", 7200)]
    [InlineData("7d", 604800)]
    public void Spans_are_read(string text, int seconds) => Units.ParseSpan(text).ShouldBe(TimeSpan.FromSeconds(seconds));

    [Theory]
    [InlineData("")]
    [InlineData("h")]
    [InlineData("-3s")]
    [InlineData("3 weeks")]
    [InlineData("99999999999s")]
    public void What_is_no_span_is_refused(string text) => Units.ParseSpan(text).ShouldBeNull();

    [Theory]
    [InlineData("4096", 4096)]
    [InlineData("64 KiB", 65536)]
    [InlineData("1.5MiB", 1572864)]
    [InlineData("10 mb", 10_000_000)]
    [InlineData("2GiB", 2147483648)]
    [InlineData("0", 0)]
    public void Sizes_are_read(string text, long bytes) => Units.ParseBytes(text).ShouldBe(bytes);

    [Theory]
    [InlineData("")]
    [InlineData("MiB")]
    [InlineData("1 mile")]
    [InlineData("-1")]
    [InlineData("1.2.3")]
    [InlineData("99999999 EiB")]
    public void What_is_no_size_is_refused(string text) => Units.ParseBytes(text).ShouldBeNull();

    [Fact]
    public void What_is_quoted_to_a_person_stays_on_its_line_and_is_not_endless()
    {
        TerminalText.Line("uname -r\n--- Umbrek ---\r\n\tTo agree: \u001b[2J").ShouldBe("uname -r␊--- Umbrek ---␍␊ To agree: ␛[2J");
        TerminalText.Line(new string('x', 400)).ShouldBe(new string('x', 300) + " …");
        TerminalText.Line("ab🧀", 3).ShouldBe("ab …");
    }
}
