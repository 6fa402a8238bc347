using System.Text.Json;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Core.Inventory;

namespace Umbrek.Agent.Tests.Platform;

public sealed class LinuxPlatformTests
{
    private readonly LinuxPlatform platform = new();

    [Fact]
    public void Facts_are_those_that_the_system_itself_shows()
    {
        var facts = platform.GatherFacts(DateTimeOffset.UtcNow).ToDictionary(f => f.Name, f => f.Value);
        facts[FactNames.SystemName].GetString().ShouldBe(File.ReadAllText("/proc/sys/kernel/hostname").Trim());
        facts[FactNames.Kernel].GetString().ShouldBe(File.ReadAllText("/proc/sys/kernel/osrelease").Trim());
        facts[FactNames.ProcessorCount].GetInt32().ShouldBe(Environment.ProcessorCount);
        var total = File.ReadLines("/proc/meminfo").First().Split(' ', StringSplitOptions.RemoveEmptyEntries)[1];
        facts[FactNames.MemoryTotal].GetInt64().ShouldBe(long.Parse(total) * 1024);
        DateTimeOffset.Parse(facts[FactNames.BootedAt].GetString()!).ShouldBeLessThan(DateTimeOffset.UtcNow);
        facts[FactNames.Users].ValueKind.ShouldBe(JsonValueKind.Array);
        platform.GatherFacts(DateTimeOffset.UtcNow).ShouldAllBe(f => f.IsUsable());
    }

    [Fact]
    public async Task A_sample_shows_work_that_is_really_done()
    {
        var first = platform.TakeSample(DateTimeOffset.UtcNow);
        first.MemoryTotalBytes.ShouldBeGreaterThan(first.MemoryAvailableBytes);
        first.UptimeSeconds.ShouldBeGreaterThan(0);
        first.FileSystems.ShouldContain(f => f.MountPoint == "/" && f.TotalBytes > 0 && f.UsedBytes > 0);
        using var busy = new CancellationTokenSource();
        var spinning = Enumerable.Range(0, Environment.ProcessorCount).Select(_ => Task.Run(() =>
        {
            while (!busy.IsCancellationRequested)
            {
                Thread.SpinWait(1000);
            }
        })).ToArray();
        try
        {
            // The kernel counts in hundredths of a second: ask until the counters have moved.
            await Umbrek.Tests.Wait.UntilAsync(() => platform.TakeSample(DateTimeOffset.UtcNow).ProcessorPercent > 50, "the processors to be seen busy");
        }
        finally
        {
            await busy.CancelAsync();
            await Task.WhenAll(spinning);
        }
    }
}
