using CsCheck;
using Umbrek.Core.Estate;

namespace Umbrek.Core.Tests.Estate;

public sealed class SelectionTests
{
    private static readonly SelectableHost Ticket = new("kx-77a", "quay-ticket-01", "Saltmarsh Ferry/Quay/Ticketing", PresenceState.Linked);
    private static readonly SelectableHost Kiosk = new("tidewell-kiosk", "tidewell-kiosk", "Copperbeech Libraries/Tidewell", PresenceState.Away);

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
    public void Names_the_hosts_it_says(string text, bool ticket, bool kiosk)
    {
        var selection = SelectionParser.Parse(text, out var problem).ShouldNotBeNull(problem?.Message);
        selection.Matches(Ticket).ShouldBe(ticket);
        selection.Matches(Kiosk).ShouldBe(kiosk);
    }

    [Theory]
    [InlineData("", 0)]
    [InlineData("in", 2)]
    [InlineData("is asleep", 3)]
    [InlineData("a b", 2)]
    [InlineData("(a or b", 0)]
    [InlineData("a)", 1)]
    [InlineData("a and", 5)]
    [InlineData("\"open", 0)]
    [InlineData("and", 0)]
    public void Says_where_it_cannot_be_read(string text, int position)
    {
        SelectionParser.Parse(text, out var problem).ShouldBeNull();
        problem!.Position.ShouldBe(position);
        problem.Message.ShouldNotBeEmpty();
    }

    [Fact]
    public void An_absurdly_deep_or_long_one_is_an_error_and_nothing_worse()
    {
        SelectionParser.Parse(new string('(', 4000) + "a" + new string(')', 4000), out var deep).ShouldBeNull();
        deep!.Message.ShouldContain("nested");
        SelectionParser.Parse(string.Concat(Enumerable.Repeat("not ", 2000)) + "a", out _).ShouldBeNull();
        SelectionParser.Parse(new string('a', 100_000), out var long_).ShouldBeNull();
        long_!.Message.ShouldContain("100000 characters");
    }

    [Fact]
    public void Printing_and_reading_again_gives_the_same_tree()
    {
        var word = Gen.OneOf(new[] { "a", "quay-*", "and", "in", "two words", "q\"u\\ote", "all", "(x)", "ä,ö" }.Select(w => Gen.Const(w)).ToArray());
        var leaf = Gen.OneOf(
            Gen.Const<Selection>(new Selection.Everything()),
            word.Select(w => (Selection)new Selection.Named(w)),
            word.Select(w => (Selection)new Selection.In(w)),
            Gen.Bool.Select(b => (Selection)new Selection.Is(b)));
        var tree = Gen.Recursive<Selection>((depth, inner) => depth > 4 ? leaf : Gen.OneOf(
            leaf,
            inner.Select(s => (Selection)new Selection.Not(s)),
            Gen.Select(inner, inner).Select((l, r) => (Selection)new Selection.Both(l, r)),
            Gen.Select(inner, inner).Select((l, r) => (Selection)new Selection.Either(l, r))));
        tree.Sample(selection =>
        {
            var read = SelectionParser.Parse(selection.ToString()!, out var problem);
            read.ShouldBe(selection, $"{selection} {problem}");
        });
    }

    [Fact]
    public void Reading_anything_never_throws() =>
        Gen.String[Gen.OneOf(new[] { 'a', '(', ')', '"', '\\', ' ', ',', 'n', 'o', 't', 'i', '*' }.Select(c => Gen.Const(c)).ToArray()), 0, 60].Sample(text =>
            ((SelectionParser.Parse(text, out var problem) is null) == (problem is not null)).ShouldBeTrue());

    [Fact]
    public void A_wildcard_against_a_hostile_name_takes_no_time() =>
        Wildcard.Matches(string.Concat(Enumerable.Repeat("a*", 500)) + "b", new string('a', 5000)).ShouldBeFalse();
}
