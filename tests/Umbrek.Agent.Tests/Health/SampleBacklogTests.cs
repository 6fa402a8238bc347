using Umbrek.Agent.Health;
using Umbrek.Core.Health;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Tests.Health;

public sealed class SampleBacklogTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);

    [Fact]
    public void Samples_wait_until_they_are_kept_oldest_first()
    {
        var backlog = new SampleBacklog();
        for (var i = 0; i < 50; i++)
        {
            backlog.Add(new Sample { At = Noon.AddSeconds(15 * i) });
        }
        var first = backlog.Oldest()!;
        first.Samples.Count.ShouldBe(SampleBatch.MaxCount);
        first.Samples[0].At.ShouldBe(Noon);
        backlog.Oldest()!.Samples[0].At.ShouldBe(Noon);
        backlog.Kept(first.Samples[^1].At);
        backlog.Count.ShouldBe(50 - SampleBatch.MaxCount);
        backlog.Oldest()!.Samples[0].At.ShouldBe(Noon.AddSeconds(15 * SampleBatch.MaxCount));
    }

    [Fact]
    public void A_day_is_kept_and_no_more()
    {
        var backlog = new SampleBacklog();
        for (var i = 0; i <= 30 * 60; i++)
        {
            backlog.Add(new Sample { At = Noon.AddMinutes(i) });
        }
        backlog.Count.ShouldBe(24 * 60 + 1);
    }

    [Fact]
    public void A_batch_fits_into_a_message_however_large_its_samples_are()
    {
        var backlog = new SampleBacklog();
        var large = new Sample
        {
            At = Noon,
            FileSystems = [.. Enumerable.Range(0, 32).Select(i => new FileSystemSample($"/srv/volumes/a-rather-long-mount-point-{i}", "ext4", long.MaxValue, 1, 1))],
            Interfaces = [.. Enumerable.Range(0, 32).Select(i => new InterfaceSample($"interface-{i}", 1e9, 1e9))],
        };
        for (var i = 0; i < 20; i++)
        {
            backlog.Add(large with { At = Noon.AddSeconds(i) });
        }
        var batch = backlog.Oldest()!;
        batch.Samples.Count.ShouldBeInRange(1, 19);
        System.Text.Json.JsonSerializer.SerializeToUtf8Bytes(batch, Wire.WireJson.Default.SampleBatch).Length.ShouldBeLessThan(LinkProtocol.MaxMessageBytes - 100);
    }
}
