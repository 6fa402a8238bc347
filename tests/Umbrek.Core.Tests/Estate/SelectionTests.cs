using CsCheck;
using Umbrek.Core.Estate;
using Umbrek.Core.Inventory;
using Umbrek.Tests;

namespace Umbrek.Core.Tests.Estate;

public sealed class SelectionTests
{
    private static readonly DateTimeOffset Now = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);

    private static readonly SelectableHost Ticket = new("kx-77a", "quay-ticket-01", "Saltmarsh Ferry/Quay/Ticketing", PresenceState.Linked)
    {
        LastSeenAt = Now.AddSeconds(-4),
        EnrolledAt = Now.AddDays(-40),
        AgentVersion = "0.9.2",
        Tags = ["kiosk", "Night shift"],
        Own = [new OwnValue("Contract ends", "2027-03-31", null, new DateOnly(2027, 3, 31)), new OwnValue("Desk", "4", 4)],
        Health = new HealthFigures(12, 0.4, 90, 8L << 30, 858993459, 95.5, 2L << 30, 3600),
        Facts = [(FactNames.OsName, [new FactValue("Debian GNU/Linux 12")]), (FactNames.Users, [new FactValue("elin.marlow"), new FactValue("ben.tarrant")]), (FactNames.ProcessorCount, [new FactValue("4", 4)])],
    };

    private static readonly SelectableHost Kiosk = new("tidewell-kiosk", "tidewell-kiosk", "Copperbeech Libraries/Tidewell", PresenceState.Away)
    {
        LastSeenAt = Now.AddDays(-9),
        EnrolledAt = Now.AddDays(-400),
        AgentVersion = "0.10.0",
        Retired = true,
    };

    [Theory]
    [InlineData("all", true, true)]
    [InlineData("quay-ticket-01", true, false)]
    [InlineData("KX-77A", true, false)]
    [InlineData("quay-*", true, false)]
    [InlineData("*-kios?", false, true)]
    [InlineData("in \"Saltmarsh Ferry\"", true, false)]
    [InlineData("in \"saltmarsh ferry / quay\"", true, false)]
    [InlineData("in \"Saltmarsh Ferry/Quay/Tick\"", false, false)]
    [InlineData("is away", false, true)]
    [InlineData("not is away", true, false)]
    [InlineData("quay-ticket-01, tidewell-kiosk", true, true)]
    [InlineData("quay-ticket-01 and is away or tidewell-kiosk", false, true)]
    [InlineData("quay-ticket-01 and (is away or is linked)", true, false)]
    [InlineData("\"all\"", false, false)]
    [InlineData("tagged kiosk", true, false)]
    [InlineData("tagged \"night *\"", true, false)]
    [InlineData("used by ELIN*", true, false)]
    [InlineData("is used", true, false)]
    [InlineData("is retired", false, true)]
    [InlineData("memory.free < 1 GiB", true, false)]
    [InlineData("memory.free<1GiB", true, false)]
    [InlineData("memory.free < 10 %", true, false)]
    [InlineData("memory.free < 500 MB", false, false)]
    [InlineData("not memory.free < 500 MB", true, true)]
    [InlineData("storage.used >= 95.5", true, false)]
    [InlineData("storage.free <= 2GiB and storage.used > 90%", true, false)]
    [InlineData("seen > 2 d", false, true)]
    [InlineData("seen < 1 min", true, false)]
    [InlineData("enrolled > 52 w", false, true)]
    [InlineData("up < 2 h", true, false)]
    [InlineData("processor.count = 4", true, false)]
    [InlineData("os = debian*", true, false)]
    [InlineData("customer = \"Copperbeech *\"", false, true)]
    [InlineData("agent < 0.10.0", true, false)]
    [InlineData("agent >= 0.10", false, true)]
    [InlineData("agent = 0.9.*", true, false)]
    [InlineData("field \"contract ends\" < 2027-06-01", true, false)]
    [InlineData("field \"contract ends\" = 2027-03-31", true, false)]
    [InlineData("field desk > 3", true, false)]
    [InlineData("field desk = 4", true, false)]
    [InlineData("fact processor.count >= 4", true, false)]
    [InlineData("fact os.name = *linux*", true, false)]
    public void Names_the_hosts_it_says(string text, bool ticket, bool kiosk)
    {
        var selection = SelectionParser.Parse(text, out var problem).ShouldNotBeNull(problem?.Message);
        selection.Matches(Ticket, Now).ShouldBe(ticket);
        selection.Matches(Kiosk, Now).ShouldBe(kiosk);
    }

    [Theory]
    [InlineData("", 0, "should follow")]
    [InlineData("in", 2, "write a group")]
    [InlineData("is asleep", 3, "no state")]
    [InlineData("is linkd", 3, "Did you mean 'linked'")]
    [InlineData("a b", 2, "Put 'and', 'or'")]
    [InlineData("(a or b", 0, "never closed")]
    [InlineData("a)", 1, "closes nothing")]
    [InlineData("a and", 5, "should follow")]
    [InlineData("\"open", 0, "never closed")]
    [InlineData("and", 0, "can't stand here")]
    [InlineData("memroy.free < 1 GiB", 0, "Did you mean 'memory.free'")]
    [InlineData("memory.free < 1", 15, "Say the unit")]
    [InlineData("memory.free < 1 d", 16, "not measured in 'd'")]
    [InlineData("memory.free < lots", 14, "is no number")]
    [InlineData("processor > 1e9", 13, "not measured in 'e9'")]
    [InlineData("os < Debian", 3, "only be compared with '='")]
    [InlineData("os == Debian", 3, "Write one '='")]
    [InlineData("os != Debian", 3, "Write 'not'")]
    [InlineData("a && b", 2, "written 'and'")]
    [InlineData("used elin", 5, "used by")]
    [InlineData("seen >", 6, "write a value")]
    [InlineData("field Desk", 10, "write =, <")]
    [InlineData("field Desk < soon", 13, "only numbers and days")]
    [InlineData("*a*b*c*d*e*f*g*h*i*", 0, "stars")]
    [InlineData("< 4", 0, "can't stand here")]
    public void Says_where_it_cannot_be_read_and_what_to_write(string text, int position, string advice)
    {
        SelectionParser.Parse(text, out var problem).ShouldBeNull();
        problem!.Message.ShouldContain(advice);
        problem.Position.ShouldBe(position);
    }

    [Fact]
    public void An_absurdly_deep_or_long_one_is_an_error_and_nothing_worse()
    {
        SelectionParser.Parse(new string('(', 4000) + "a" + new string(')', 4000), out var deep).ShouldBeNull();
        deep!.Message.ShouldContain("nested");
        SelectionParser.Parse(string.Concat(Enumerable.Repeat("not ", 2000)) + "a", out _).ShouldBeNull();
        SelectionParser.Parse(new string('a', 100_000), out var long_).ShouldBeNull();
        long_!.Message.ShouldContain("100000 characters");
        SelectionParser.Parse(string.Join(" or ", Enumerable.Repeat("a", 1000)), out var many).ShouldBeNull();
        many!.Message.ShouldContain("400 conditions");
    }

    [Fact]
    public void Printing_and_reading_again_gives_the_same_tree() => SelectionGen.Trees().Sample(selection =>
    {
        var text = selection.ToString()!;
        if (text.Length > SelectionParser.MaxLength)
        {
            return;
        }
        var read = SelectionParser.Parse(text, out var problem);
        read.ShouldBe(selection, $"{selection} {problem}");
    });

    [Fact]
    public void Any_text_is_read_or_refused_with_a_place_in_it() =>
        Gen.OneOf(Gen.String, Gen.OneOf([.. SelectionWords.Reserved.Concat(["(", ")", ",", "\"", "<=", "1 GiB", "a*", "memory.free", "\\"]).Select(w => Gen.Const(w))]).List[0, 30].Select(w => string.Join(' ', w))).Sample(text =>
        {
            var read = SelectionParser.Parse(text, out var problem);
            (read is null).ShouldBe(problem is not null, text);
            problem?.Position.ShouldBeInRange(0, text.Length);
        });

    [Fact]
    public void A_saved_selection_stands_for_its_meaning_and_never_for_itself()
    {
        var kept = new Dictionary<string, string> { ["full"] = "storage.used > 90 %", ["both"] = "saved full and is linked", ["ring"] = "saved round", ["round"] = "a or saved ring" };
        Selection? Find(string name) => kept.TryGetValue(name.ToLowerInvariant(), out var text) ? SelectionParser.Parse(text, out _) : null;
        Selection Read(string text) => SelectionParser.Parse(text, out _)!;

        SavedSelections.Resolve(Read("saved BOTH or x"), Find, out _)!.ToString().ShouldBe("storage.used > 90 % and is linked or x");
        SavedSelections.Resolve(Read("not saved both"), Find, out _)!.ToString().ShouldBe("not (storage.used > 90 % and is linked)");
        SavedSelections.Resolve(Read("saved ring"), Find, out var circle).ShouldBeNull();
        circle!.ShouldContain("ring → round → ring");
        SavedSelections.Resolve(Read("saved empty"), Find, out var unknown).ShouldBeNull();
        unknown!.ShouldContain("no saved selection 'empty'");
    }

    [Fact]
    public void A_wildcard_matches_whole_characters_and_folds_case()
    {
        Wildcard.Matches("Straße-?", "STRAßE-1").ShouldBeTrue();
        Wildcard.Matches("kiosk-?", "kiosk-🧀").ShouldBeTrue();
        Wildcard.Matches("kiosk-??", "kiosk-🧀").ShouldBeFalse();
        Wildcard.Matches("*a*b", "xxaxxb").ShouldBeTrue();
        Wildcard.Matches("*a*b", "xxaxxbx").ShouldBeFalse();
        Wildcard.Matches("", "").ShouldBeTrue();
        Wildcard.Matches("**", "anything").ShouldBeTrue();
    }

    [Fact]
    public void A_wildcard_against_a_hostile_name_takes_no_time() =>
        Wildcard.Matches(string.Concat(Enumerable.Repeat("a*", 500)) + "b", new string('a', 5000)).ShouldBeFalse();
}
