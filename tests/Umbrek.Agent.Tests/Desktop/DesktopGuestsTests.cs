using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Desktop;
using Umbrek.Wire.Desktop;

namespace Umbrek.Agent.Tests.Desktop;

/// <summary>Who of several technicians acts at a desktop, and how that passes.</summary>
public sealed class DesktopGuestsTests
{
    private readonly FakeTimeProvider time = new();
    private readonly DesktopGuests guests;

    public DesktopGuestsTests() => guests = new DesktopGuests(time);

    /// <summary>A technician, with what he was told last.</summary>
    private sealed class Somebody
    {
        public DesktopSeat Seat { get; set; } = null!;
        public bool Acts { get; set; }
        public DesktopHands? Hands { get; set; }
        public IReadOnlyList<DesktopGuest> Others { get; set; } = [];
    }

    private Somebody Come(string name, bool control = true)
    {
        var one = new Somebody();
        one.Seat = guests.Come(new DesktopGuest(name, control), word =>
        {
            (one.Hands, one.Others) = (word.Hands, word.Others!);
            return Task.CompletedTask;
        }, acts => one.Acts = acts);
        return one;
    }

    [Fact]
    public void The_first_who_may_act_does_and_the_next_waits()
    {
        var (priya, ines, tomasz) = (Come("Priya Lund", control: false), Come("Ines Okafor"), Come("Tomasz Vail"));
        (priya.Acts, ines.Acts, tomasz.Acts).ShouldBe((false, true, false));
        (priya.Hands, ines.Hands, tomasz.Hands).ShouldBe((null, new DesktopHands(true, "Ines Okafor"), new DesktopHands(false, "Ines Okafor")));
        priya.Others.ShouldBe([new DesktopGuest("Ines Okafor", true, true), new DesktopGuest("Tomasz Vail", true, false)]);
        // Another window of the same person is hers too.
        Come("Ines Okafor").Acts.ShouldBeTrue();
        ines.Seat.Dispose();
        tomasz.Acts.ShouldBeFalse();
    }

    [Fact]
    public void Whoever_acts_lets_another_or_keeps_it()
    {
        var (ines, tomasz) = (Come("Ines Okafor"), Come("Tomasz Vail"));
        ines.Seat.HasActed();
        tomasz.Seat.Wish(HandsWish.Ask);
        (ines.Hands!.AskedBy, tomasz.Hands!.AskedBy, tomasz.Acts).ShouldBe(("Tomasz Vail", "Tomasz Vail", false));
        ines.Seat.Wish(HandsWish.Keep);
        (ines.Hands.AskedBy, ines.Acts).ShouldBe((null, true));
        // What was kept does not pass later by itself.
        time.Advance(DesktopGuests.AnswersWithin * 0.9);
        ines.Seat.HasActed();
        time.Advance(DesktopGuests.AnswersWithin * 0.9);
        ines.Acts.ShouldBeTrue();
        tomasz.Seat.Wish(HandsWish.Ask);
        ines.Seat.Wish(HandsWish.Give);
        (ines.Acts, tomasz.Acts, tomasz.Hands).ShouldBe((false, true, new DesktopHands(true, "Tomasz Vail")));
        // Unasked, too; and whoever does not act has nothing to give.
        ines.Seat.Wish(HandsWish.Give);
        tomasz.Acts.ShouldBeTrue();
        tomasz.Seat.Wish(HandsWish.Give);
        ines.Acts.ShouldBeTrue();
    }

    [Fact]
    public void Whoever_does_not_answer_has_agreed_and_whoever_does_nothing_is_not_asked()
    {
        var (ines, tomasz) = (Come("Ines Okafor"), Come("Tomasz Vail"));
        ines.Seat.HasActed();
        tomasz.Seat.Wish(HandsWish.Ask);
        time.Advance(DesktopGuests.AnswersWithin - TimeSpan.FromSeconds(1));
        tomasz.Acts.ShouldBeFalse();
        time.Advance(TimeSpan.FromSeconds(1));
        (ines.Acts, tomasz.Acts).ShouldBe((false, true));
        time.Advance(DesktopGuests.AnswersWithin);
        ines.Seat.Wish(HandsWish.Ask);
        (ines.Acts, tomasz.Acts).ShouldBe((true, false));
    }

    [Fact]
    public void It_passes_when_he_goes_and_to_nobody_who_only_looks()
    {
        var (ines, priya, tomasz, odile) = (Come("Ines Okafor"), Come("Priya Lund", control: false), Come("Tomasz Vail"), Come("Odile Marsh"));
        priya.Seat.Wish(HandsWish.Ask);
        ines.Hands!.AskedBy.ShouldBeNull();
        odile.Seat.Wish(HandsWish.Ask);
        ines.Seat.Dispose();
        (priya.Acts, tomasz.Acts, odile.Acts).ShouldBe((false, false, true));
        // One who has asked and gone is waited for no more.
        odile.Seat.HasActed();
        tomasz.Seat.Wish(HandsWish.Ask);
        tomasz.Seat.Dispose();
        time.Advance(2 * DesktopGuests.AnswersWithin);
        (odile.Acts, odile.Hands!.AskedBy).ShouldBe((true, null));
        odile.Seat.Dispose();
        priya.Acts.ShouldBeFalse();
        Come("Tomasz Vail").Acts.ShouldBeTrue();
    }
}
