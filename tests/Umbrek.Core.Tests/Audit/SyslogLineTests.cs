using System.Text;
using Umbrek.Core.Audit;

namespace Umbrek.Core.Tests.Audit;

public sealed class SyslogLineTests
{
    private static readonly AuditEntry Entry = new(7, new DateTimeOffset(2026, 11, 23, 9, 30, 5, 40, TimeSpan.FromHours(1)), "Ines Okafor", "192.0.2.7", "host.change", "quay-ticket-01", """{"label":"x"}""");

    [Fact]
    public void A_line_has_the_shape_of_the_standard()
    {
        var text = Encoding.UTF8.GetString(SyslogLine.Frame(Entry, "ab12", "care-01"));
        var message = """<110>1 2026-11-23T08:30:05.040Z care-01 umbrekd - host.change [umbrek@32473 number="7" actor="Ines Okafor" address="192.0.2.7" target="quay-ticket-01" hash="ab12"] """ + "\uFEFF" + """Ines Okafor from 192.0.2.7: host.change quay-ticket-01 {"label":"x"}""";
        text.ShouldBe($"{Encoding.UTF8.GetByteCount(message)} {message}");
    }

    [Fact]
    public void A_refusal_is_a_warning()
    {
        Encoding.UTF8.GetString(SyslogLine.Frame(Entry with { Action = "sign-in.refuse" }, "", "care-01")).ShouldContain("<108>1 ");
    }

    [Fact]
    public void Names_can_neither_end_a_value_nor_begin_a_line()
    {
        var frame = SyslogLine.Frame(Entry with { Target = "a\"] \\b\n<13>1 forged", Actor = "naïve ☂", Address = null }, "ab", "hôst name");
        var text = Encoding.UTF8.GetString(frame);
        text.ShouldContain("""target="a\"\] \\b <13>1 forged" hash""");
        text.ShouldContain("actor=\"naïve ☂\" target=");
        text.ShouldContain("Z hstname umbrekd");
        text.ShouldNotContain('\n');
        int.Parse(text.Split(' ')[0], System.Globalization.CultureInfo.InvariantCulture).ShouldBe(frame.Length - text.Split(' ')[0].Length - 1);
        Encoding.UTF8.GetString(SyslogLine.Frame(Entry, "", "☂")).ShouldContain("Z - umbrekd");
    }
}
