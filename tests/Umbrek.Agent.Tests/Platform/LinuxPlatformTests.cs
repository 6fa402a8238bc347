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
        facts[FactNames.ClockKept].GetString().ShouldBeOneOf("yes", "no");
        platform.GatherFacts(DateTimeOffset.UtcNow).ShouldAllBe(f => f.IsUsable());
    }

    [Fact]
    public void Failed_services_and_waiting_updates_are_read_from_what_the_systems_own_programs_print()
    {
        LinuxUpkeep.ReadFailed(["● ticket-print.service loaded failed failed Prints tickets", "  quay-sync.service     loaded failed failed Syncs the quay", ""]).ShouldBe(["ticket-print.service", "quay-sync.service"]);
        LinuxUpkeep.ReadUpdates(
        [
            "Reading package lists...", "Inst libssl3 [3.0.15-1] (3.0.16-1 Debian-Security:12/stable-security [amd64])", "Inst tzdata [2026a] (2026b Debian:12.9/stable [all])", "Conf libssl3 (3.0.16-1)",
        ]).ShouldBe((2, 1));
        LinuxUpkeep.ReadUpdates([]).ShouldBe((0, 0));
    }

    [Fact]
    public void A_second_sample_has_rates_and_what_the_kernel_counts()
    {
        platform.TakeSample(DateTimeOffset.UtcNow);
        var sample = platform.TakeSample(DateTimeOffset.UtcNow.AddSeconds(1));
        sample.Processes!.Value.ShouldBeGreaterThan(2);
        sample.FileSystems.ShouldContain(f => f.InodesUsedPercent >= 0 && f.InodesUsedPercent <= 100);
        sample.Interfaces.ShouldAllBe(i => i.ErrorsPerSecond >= 0);
        // As many as the kernel counts, whatever part of them this process may use.
        sample.Cores.Count.ShouldBe(File.ReadLines("/proc/stat").Count(l => l.StartsWith("cpu", StringComparison.Ordinal)) - 1);
        sample.Cores.ShouldAllBe(c => c >= 0 && c <= 100);
        Umbrek.Core.Health.SampleRules.IsUsable(sample, DateTimeOffset.UtcNow).ShouldBeTrue();
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
