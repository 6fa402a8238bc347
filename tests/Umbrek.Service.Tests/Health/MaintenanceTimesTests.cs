using System.Globalization;
using CsCheck;
using Umbrek.Service.Health;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Tests.Health;

public sealed class MaintenanceTimesTests
{
    private static MaintenanceTimes Times(string starts, int minutes, string? rule = null, string zone = "UTC", DateTimeOffset? ended = null) =>
        new(new MaintenanceRow { Id = Guid.NewGuid(), Name = "Updates", Starts = starts, Minutes = minutes, Rule = rule, Zone = zone, EndedAt = ended });

    private static DateTimeOffset At(string text) => DateTimeOffset.Parse(text, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal);

    [Theory]
    [InlineData("freq=weekly;byday=su", "FREQ=WEEKLY;BYDAY=SU")]
    [InlineData("FREQ=MONTHLY;BYDAY=-1FR", "FREQ=MONTHLY;BYDAY=-1FR")]
    [InlineData("FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=1", "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=1")]
    [InlineData(" FREQ=DAILY;INTERVAL=2;COUNT=10 ", "FREQ=DAILY;INTERVAL=2;COUNT=10")]
    [InlineData("FREQ=YEARLY;BYMONTH=12;BYMONTHDAY=24;UNTIL=20301231T000000Z", "FREQ=YEARLY;BYMONTH=12;BYMONTHDAY=24;UNTIL=20301231T000000Z")]
    public void A_rule_that_people_need_is_read(string text, string kept) => MaintenanceTimes.ReadRule(text, out _).ShouldBe(kept);

    [Theory]
    [InlineData("", "can't be read")]
    [InlineData("WEEKLY", "'WEEKLY' can't be read")]
    [InlineData("FREQ=SECONDLY", "'FREQ=SECONDLY' can't be read")]
    [InlineData("FREQ=MINUTELY", "can't be read")]
    [InlineData("FREQ=WEEKLY;INTERVAL=0", "'INTERVAL=0' can't be read")]
    [InlineData("FREQ=WEEKLY;BYDAY=XX", "'BYDAY=XX' can't be read")]
    [InlineData("FREQ=WEEKLY;FREQ=DAILY", "'FREQ=DAILY' can't be read")]
    [InlineData("FREQ=WEEKLY;COUNT=3;UNTIL=20301231", "by COUNT or by UNTIL")]
    [InlineData("BYDAY=SU", "how often")]
    [InlineData("FREQ=DAILY;BYHOUR=1,2,3", "'BYHOUR=1,2,3' can't be read")]
    public void A_rule_that_would_run_away_or_says_nothing_is_refused(string text, string problem)
    {
        MaintenanceTimes.ReadRule(text, out var said).ShouldBeNull();
        said.ShouldContain(problem);
    }

    [Fact]
    public void A_window_is_there_from_its_beginning_until_just_before_its_end()
    {
        var once = Times("2026-11-29T22:00", 150);
        once.Now(At("2026-11-29T21:59")).ShouldBeNull();
        once.Next(At("2026-11-29T21:59")).ShouldBe(new MaintenanceTime(At("2026-11-29T22:00"), At("2026-11-30T00:30")));
        once.Now(At("2026-11-29T22:00"))!.Value.To.ShouldBe(At("2026-11-30T00:30"));
        once.Now(At("2026-11-30T00:30")).ShouldBeNull();
        once.LastEnd(At("2026-11-30T00:30")).ShouldBe(At("2026-11-30T00:30"));
        once.Next(At("2026-11-30T00:30")).ShouldBeNull();
    }

    [Fact]
    public void One_that_begins_before_another_ends_makes_it_longer()
    {
        var daily = Times("2026-11-20T08:00", 36 * 60, "FREQ=DAILY");
        daily.Now(At("2026-11-23T09:00")).ShouldBe(new MaintenanceTime(At("2026-11-22T08:00"), At("2026-11-24T20:00")));
        // Ended by hand, it is over and does not come again.
        var ended = Times("2026-11-20T08:00", 36 * 60, "FREQ=DAILY", ended: At("2026-11-23T10:00"));
        ended.Now(At("2026-11-23T09:59"))!.Value.To.ShouldBe(At("2026-11-23T10:00"));
        (ended.Now(At("2026-11-23T10:00")), ended.Next(At("2026-11-23T10:00")), ended.LastEnd(At("2026-11-23T10:00"))).ShouldBe((null, null, At("2026-11-23T10:00")));
    }

    [Fact]
    public void Whatever_the_moment_a_weekly_window_is_there_exactly_in_its_hours_whichever_was_asked_before() =>
        Gen.Int[0, 200_000].Array[1, 30].Sample(minutes =>
        {
            var weekly = Times("2026-01-04T22:00", 180, "FREQ=WEEKLY;BYDAY=SU");
            foreach (var minute in minutes)
            {
                var at = At("2026-02-01T00:00").AddMinutes(minute);
                var expected = at.DayOfWeek == DayOfWeek.Sunday ? at.Hour >= 22 : at.DayOfWeek == DayOfWeek.Monday && at.Hour < 1;
                (weekly.Now(at) is not null).ShouldBe(expected, $"{at:O}");
                weekly.Next(at)!.Value.From.ShouldBeGreaterThan(at);
                (weekly.Next(at)!.Value.From - at).ShouldBeLessThanOrEqualTo(TimeSpan.FromDays(7));
            }
        });

    [Fact]
    public void In_a_zone_whose_clocks_change_it_keeps_the_hour_on_the_wall()
    {
        var nightly = Times("2026-03-01T23:30", 60, "FREQ=DAILY", "Europe/London");
        nightly.Next(At("2026-03-28T12:00"))!.Value.From.ShouldBe(At("2026-03-28T23:30"));
        nightly.Next(At("2026-03-29T12:00"))!.Value.From.ShouldBe(At("2026-03-29T22:30"));
    }
}
