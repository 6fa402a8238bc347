using System.Net;
using Umbrek.Core.Health;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Health;

namespace Umbrek.Simulation.Tests.Estate;

public sealed class ScenarioTests
{
    [Fact]
    public void The_world_has_sixty_hosts_with_its_stories()
    {
        var hosts = Scenario.Hosts(60);
        hosts.Select(h => h.Name).Distinct().Count().ShouldBe(60);
        hosts.Single(h => h.Story == HostStory.DiskFills).Name.ShouldBe("ripening-climate-02");
        hosts.Single(h => h.Story == HostStory.PrinterStopped).Name.ShouldBe("quay-ticket-03");
        hosts.Single(h => h.Story == HostStory.LongGone).Name.ShouldBe("tidewell-kiosk");
        hosts.Single(h => h.Story == HostStory.RunsHot).Name.ShouldBe("dome-capture-02");
        hosts.Single(h => h.Story == HostStory.OtherKernel).Name.ShouldBe("creamery-files");
        hosts.Where(h => h.Story == HostStory.LinkComesAndGoes).ShouldAllBe(h => h.GroupPath.EndsWith("Dunlin"));
        hosts.Select(h => h.GroupPath).Distinct().ShouldBeSubsetOf(Scenario.Groups);
        hosts.Select(h => h.GroupPath.Split('/')[0]).Distinct().Count().ShouldBe(4);
        hosts.Count(h => h.Person is not null).ShouldBeGreaterThan(5);
    }

    [Theory]
    [InlineData(1)]
    [InlineData(61)]
    [InlineData(30_000)]
    public void A_larger_world_repeats_the_patterns_without_repeating_a_name(int count)
    {
        var hosts = Scenario.Hosts(count);
        hosts.Count.ShouldBe(count);
        hosts.Select(h => h.Name).Distinct().Count().ShouldBe(count);
        hosts.All(h => IPAddress.TryParse(h.Address, out var _)).ShouldBeTrue();
    }

    [Fact]
    public void Health_is_the_same_for_the_same_moment_and_always_believable()
    {
        var now = new DateTimeOffset(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);
        foreach (var host in Scenario.Hosts(60))
        {
            for (var hours = 0; hours < 48; hours += 5)
            {
                var sample = SimulatedHealth.At(host, now.AddHours(-hours));
                SampleRules.IsUsable(sample, now).ShouldBeTrue();
                sample.ProcessorPercent.ShouldBeInRange(0, 100);
                sample.MemoryUsedPercent.ShouldBeInRange(1, 99);
                sample.UptimeSeconds.ShouldBeGreaterThan(0);
            }
            SimulatedHealth.At(host, now).ProcessorPercent.ShouldBe(SimulatedHealth.At(host, now).ProcessorPercent);
        }
        var filling = Scenario.Hosts(60).Single(h => h.Story == HostStory.DiskFills);
        var present = DateTimeOffset.UtcNow;
        SimulatedHealth.At(filling, present).Fullest!.UsedPercent.ShouldBeGreaterThan(90);
        SimulatedHealth.At(filling, present).Fullest!.UsedPercent.ShouldBeGreaterThan(SimulatedHealth.At(filling, present.AddHours(-6)).Fullest!.UsedPercent);
    }
}
