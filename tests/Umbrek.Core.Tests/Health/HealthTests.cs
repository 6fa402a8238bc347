using Umbrek.Core.Health;

namespace Umbrek.Core.Tests.Health;

public sealed class HealthTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);

    [Fact]
    public void Busy_share_is_what_was_not_idle()
    {
        ProcessorTicks.BusyPercent(new(1000, 800), new(2000, 1550)).ShouldBe(25);
        ProcessorTicks.BusyPercent(new(1000, 800), new(1000, 800)).ShouldBe(0);
        ProcessorTicks.BusyPercent(new(5000, 800), new(100, 50)).ShouldBe(0);
    }

    [Fact]
    public void A_counter_that_was_reset_gives_no_rate()
    {
        CounterRate.PerSecond(100, 400, TimeSpan.FromSeconds(15)).ShouldBe(20);
        CounterRate.PerSecond(400, 100, TimeSpan.FromSeconds(15)).ShouldBe(0);
        CounterRate.PerSecond(1, 2, TimeSpan.Zero).ShouldBe(0);
    }

    [Fact]
    public void Shares_and_the_fullest_file_system_are_told()
    {
        var sample = new Sample
        {
            At = Noon,
            MemoryTotalBytes = 1000,
            MemoryAvailableBytes = 250,
            FileSystems = [new("/", "ext4", 100, 40, 50), new("/data", "xfs", 1000, 900, 100)],
        };
        sample.MemoryUsedPercent.ShouldBe(75);
        sample.Fullest!.MountPoint.ShouldBe("/data");
        sample.FileSystems[0].UsedPercent.ShouldBe(100 * 40 / 90.0);
        new Sample { At = Noon }.MemoryUsedPercent.ShouldBe(0);
    }

    [Fact]
    public void Samples_from_far_off_times_or_without_numbers_are_not_taken()
    {
        SampleRules.IsUsable(new Sample { At = Noon }, Noon).ShouldBeTrue();
        SampleRules.IsUsable(new Sample { At = Noon.AddHours(-24) }, Noon).ShouldBeTrue();
        SampleRules.IsUsable(new Sample { At = Noon.AddDays(-3) }, Noon).ShouldBeFalse();
        SampleRules.IsUsable(new Sample { At = Noon.AddHours(1) }, Noon).ShouldBeFalse();
        SampleRules.IsUsable(new Sample { At = Noon, ProcessorPercent = double.NaN }, Noon).ShouldBeFalse();
        SampleRules.IsUsable(new Sample { At = Noon, Interfaces = [new("eth0", double.PositiveInfinity, 0)] }, Noon).ShouldBeFalse();
    }
}
