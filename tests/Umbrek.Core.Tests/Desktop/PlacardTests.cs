using Umbrek.Core.Desktop;

namespace Umbrek.Core.Tests.Desktop;

public sealed class PlacardTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 28, 12, 0, 0, TimeSpan.Zero);
    private static readonly Placard Question = new(
        PlacardKind.Question, "Ines Okafor asks to act on this computer", [new("Wants to", "control the desktop"), new("Because", "The ticket printer prints nothing since this morning, and nobody knows why")],
        [new PlacardButton("no", "Refuse", IsSafe: true), new PlacardButton("yes", "Agree")], Noon.AddMinutes(2), "it is refused");

    [Fact]
    public void Everything_lies_on_it_and_nothing_on_something_else()
    {
        var face = new PlacardFace(Question, 1280);
        face.Buttons.Count.ShouldBe(2);
        face.Buttons.ShouldAllBe(b => new ScreenRect(0, 0, face.Width, face.Height).Covers(b));
        face.Buttons[0].Intersect(face.Buttons[1]).IsEmpty.ShouldBeTrue();
        face.Buttons[0].X.ShouldBeLessThan(face.Buttons[1].X);
        face.ButtonAt(face.Buttons[1].X + 3, face.Buttons[1].Y + 3).ShouldBe(1);
        face.ButtonAt(2, 2).ShouldBe(-1);
        var image = face.Draw(0, -1, Noon);
        (image.Width, image.Height).ShouldBe((face.Width, face.Height));
        // What has the keyboard, and what is under the pointer, look different; so does the time that is left.
        image.IsSame(face.Draw(1, -1, Noon), image.Bounds).ShouldBeFalse();
        image.IsSame(face.Draw(0, 1, Noon), image.Bounds).ShouldBeFalse();
        image.IsSame(face.Draw(0, -1, Noon.AddSeconds(70)), image.Bounds).ShouldBeFalse();
        image.IsSame(face.Draw(0, -1, Noon), image.Bounds).ShouldBeTrue();
    }

    [Theory]
    [InlineData(1280)]
    [InlineData(320)]
    public void It_is_never_wider_than_the_screen_however_much_it_says(int screen)
    {
        var much = new string('W', 5000);
        foreach (var kind in Enum.GetValues<PlacardKind>())
        {
            var face = new PlacardFace(new Placard(kind, much, [new PlacardLine("Because", much), new PlacardLine(null, "a\u202Eb\nc")], [new PlacardButton("end", "End it")]), screen);
            face.Width.ShouldBeLessThanOrEqualTo(screen);
            face.Height.ShouldBeLessThan(700);
            face.Buttons.ShouldAllBe(b => b.Right <= face.Width && b.X >= 0);
            face.Draw(-1, -1, Noon).Width.ShouldBe(face.Width);
        }
    }

    [Fact]
    public void A_strip_is_as_narrow_as_what_it_says()
    {
        var brief = new PlacardFace(new Placard(PlacardKind.Strip, "Jo", [], []), 1280);
        var more = new PlacardFace(new Placard(PlacardKind.Strip, "Jo", [new PlacardLine(null, "control of the desktop")], [new PlacardButton("end", "End it")]), 1280);
        more.Width.ShouldBeGreaterThan(brief.Width + LetterFace.Plain.Measure("control of the desktop"));
        more.Height.ShouldBe(brief.Height);
    }

    [Fact]
    public void Lines_are_broken_between_words_and_long_words_anywhere()
    {
        var face = LetterFace.Plain;
        face.Wrap("one two three", face.Measure("one two"), 9).ShouldBe(["one two", "three"]);
        face.Wrap("a\nb", 500, 9).ShouldBe(["a", "b"]);
        var broken = face.Wrap(new string('m', 40), face.Measure("mmmmmmmmmm"), 9);
        string.Concat(broken).ShouldBe(new string('m', 40));
        broken.ShouldAllBe(l => face.Measure(l) <= face.Measure("mmmmmmmmmm"));
        face.Wrap("one two three four five", face.Measure("three"), 2).ShouldBe(["one", "two…"]);
        face.Shorten("harbour office", face.Measure("harbour")).ShouldEndWith("…");
        face.Shorten("quay", 500).ShouldBe("quay");
    }

    [Theory]
    [InlineData("Zoë Łukasz Ørsted ğ")]
    [InlineData("Ωμέγα")]
    [InlineData("Ёлена")]
    public void Names_of_many_languages_can_be_read(string name)
    {
        var missing = LetterFace.Strong.Measure("\u4E2D");
        name.Select(Drawn).ShouldNotContain(Drawn('\u4E2D'));
        missing.ShouldBe(LetterFace.Strong.Measure("\uFFFD"));

        static string Drawn(char letter)
        {
            var image = new ScreenImage(40, 40);
            LetterFace.Strong.Write(image, 4, 4, [letter], 0xFFFFFF);
            return string.Join(',', image.Pixels);
        }
    }

    [Fact]
    public void Writing_that_leaves_the_picture_is_left_out()
    {
        var image = new ScreenImage(20, 10);
        LetterFace.Strong.Write(image, -8, -6, "Quay of the Plover", 0xE8E4DA);
        LetterFace.Strong.Write(image, 15, 6, "Quay", 0xE8E4DA);
        image.Pixels.ShouldContain(p => p != 0);
    }
}
