using Umbrek.Core.Health;
using Umbrek.Service.Health;
using Umbrek.Service.Links;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;

namespace Umbrek.Service.Tests.Health;

public sealed class SampleTests
{
    [Fact]
    public async Task A_series_is_thinned_to_means_and_leaves_gaps_as_gaps()
    {
        await using var service = await TestService.StartAsync();
        await using var host = await service.LinkAsync("ripening-climate-02");
        var id = (await service.HostAsync("ripening-climate-02")).Id;
        var now = DateTimeOffset.UtcNow;
        var since = now.AddMinutes(-40);
        // Ten minutes of readings, a gap, ten more.
        Sample[] samples = [.. Enumerable.Range(0, 120).Where(i => i is < 30 or >= 90).Select(i => new Sample { At = since.AddSeconds(20 * i), ProcessorPercent = i % 2 == 0 ? 10 : 30 })];
        await service.Get<Intake>().SamplesAsync(id, samples);
        await service.Get<Intake>().SamplesAsync(id, [new Sample { At = now.AddHours(2) }, new Sample { At = now, ProcessorPercent = double.NaN }]);
        var path = $"hosts/{id}/samples?from={since:yyyy-MM-ddTHH:mm:ss.fffZ}&to={now:yyyy-MM-ddTHH:mm:ss.fffZ}&points=40";
        await Wait.UntilAsync(async () => (await service.Api.GetAsync(path, WireJson.Default.SampleSeries, default)).At.Count > 0, "the samples");
        var series = await service.Api.GetAsync(path, WireJson.Default.SampleSeries, default);
        series.At.Count.ShouldBeInRange(19, 22);
        series.ProcessorPercent.ShouldAllBe(p => p >= 10 && p <= 30);
        series.At.Zip(series.At.Skip(1)).Max(p => p.Second - p.First).ShouldBeGreaterThan(15 * 60);
        (await service.SendAsync(HttpMethod.Get, $"/api/v1/hosts/{id}/samples?points=999999")).Body.ShouldContain("1 to 2000");
    }

    [Fact]
    public async Task Raw_samples_past_their_time_are_forgotten()
    {
        var time = new Microsoft.Extensions.Time.Testing.FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time);
        await service.EnrolAsync("ripening-climate-02");
        var id = (await service.HostAsync("ripening-climate-02")).Id;
        await using (var db = service.Get<Umbrek.Service.Storage.IDatabase>().Open())
        {
            foreach (var hours in new[] { 1, 47, 49, 200 })
            {
                db.Samples.Add(new Umbrek.Service.Storage.SampleRow { HostId = id, At = time.GetUtcNow().AddHours(-hours), Sample = "{}" });
            }
            foreach (var (span, days) in new[] { (RollupSpan.FiveMinutes, 1), (RollupSpan.FiveMinutes, 31), (RollupSpan.Hour, 31), (RollupSpan.Hour, 395), (RollupSpan.Hour, 397) })
            {
                db.Rollups.Add(new Umbrek.Service.Storage.RollupRow { HostId = id, Span = span, At = time.GetUtcNow().AddDays(-days), Figures = Rollup.Of([]).Encode() });
            }
            await db.SaveChangesAsync();
        }
        (await service.Get<SampleService>().PruneAsync(default)).ShouldBe(4);
        await using var left = service.Get<Umbrek.Service.Storage.IDatabase>().Open();
        (left.Samples.Count(), left.Rollups.Count()).ShouldBe((2, 3));
    }
}
