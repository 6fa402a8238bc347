using CsCheck;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;

namespace Umbrek.Core.Tests.Estate;

public sealed class SteadinessTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 26, 12, 0, 0, TimeSpan.Zero);

    [Fact]
    public void Three_losses_in_a_quarter_of_an_hour_make_a_link_unsteady_and_ten_minutes_without_make_it_steady()
    {
        var link = Steadiness.Steady.Lost(Noon).Lost(Noon.AddMinutes(9));
        link.IsUnsteady.ShouldBeFalse();
        link.Lost(Noon.AddMinutes(18)).IsUnsteady.ShouldBeFalse();
        var unsteady = link.Lost(Noon.AddMinutes(14));
        unsteady.IsUnsteady.ShouldBeTrue();
        unsteady.Losses.Count.ShouldBe(3);
        unsteady.At(Noon.AddMinutes(23)).IsUnsteady.ShouldBeTrue();
        unsteady.At(Noon.AddMinutes(24)).ShouldBe(Steadiness.Steady);
        // Losses that are rarer do not begin it, and keep it going.
        unsteady.Lost(Noon.AddMinutes(23)).At(Noon.AddMinutes(30)).IsUnsteady.ShouldBeTrue();
    }

    [Fact]
    public void However_often_a_link_is_lost_little_is_kept_and_it_changes_its_state_at_most_once_in_ten_minutes() =>
        Gen.Double[0, 400].Array[0, 300].Sample(gaps =>
        {
            var (link, now, turns) = (Steadiness.Steady, Noon, new List<DateTimeOffset>());
            foreach (var gap in gaps)
            {
                now = now.AddSeconds(gap);
                var quiet = link.At(now);
                var after = quiet.Lost(now);
                if (quiet.IsUnsteady != link.IsUnsteady)
                {
                    turns.Add(now);
                }
                (after.Losses.Count <= 50).ShouldBeTrue();
                link = after;
            }
            turns.Zip(turns.Skip(1)).ShouldAllBe(t => t.Second - t.First >= Steadiness.Calm);
        });

    [Fact]
    public void A_clock_is_off_by_what_is_more_than_the_way_takes()
    {
        default(ClockOffset).Measure(Noon.AddSeconds(-1.5), Noon).ShouldBe(default);
        var behind = default(ClockOffset).Measure(Noon.AddMinutes(-7), Noon);
        behind.ShouldBe(new ClockOffset(-420));
        behind.Correct(Noon.AddMinutes(-7)).ShouldBe(Noon);
        // A way that takes a second longer changes no sample's time.
        behind.Measure(Noon.AddMinutes(-7).AddSeconds(-1), Noon).ShouldBe(behind);
        behind.Measure(Noon, Noon).ShouldBe(default);
        default(ClockOffset).Measure(DateTimeOffset.UnixEpoch, Noon).ShouldBe(default);
    }
}
