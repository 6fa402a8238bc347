using Umbrek.Core.Health;
using Umbrek.Service.Estate;
using Umbrek.Service.Health;
using Umbrek.Service.Links;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Links;

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
        var path = $"hosts/{id}/series?metrics=processor&from={since:yyyy-MM-ddTHH:mm:ss.fffZ}&to={now:yyyy-MM-ddTHH:mm:ss.fffZ}&points=40";
        await Wait.UntilAsync(async () => (await service.Api.GetAsync(path, WireJson.Default.MetricSeries, default)).Lines.Count > 0, "the samples");
        var line = (await service.Api.GetAsync(path, WireJson.Default.MetricSeries, default)).Lines.Single();
        line.Mean.Count(v => v is not null).ShouldBeInRange(19, 23);
        line.Mean.ShouldAllBe(p => p == null || (p >= 10 && p <= 30));
        line.Min.Min().ShouldBe(10);
        line.Max.Max().ShouldBe(30);
        string.Concat(line.Mean.Select(v => v is null ? ' ' : 'x')).Trim().ShouldContain(new string(' ', 15));
        (await service.SendAsync(HttpMethod.Get, $"/api/v1/hosts/{id}/series?points=999999")).Body.ShouldContain("1 to 2000");
        (await service.SendAsync(HttpMethod.Get, $"/api/v1/hosts/{id}/series?metrics=tide")).Body.ShouldContain("is no metric. There are processor,");
        (await service.SendAsync(HttpMethod.Get, $"/api/v1/hosts/{id}/series?from=2020-01-01T00:00:00Z")).Body.ShouldContain("400 days at most");
    }

    [Fact]
    public async Task A_host_that_sends_a_hundred_samples_a_second_has_two_of_them_kept()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("ripening-climate-02");
        var id = (await service.HostAsync("ripening-climate-02")).Id;
        var since = DateTimeOffset.UtcNow.AddMinutes(-5);
        var samples = Enumerable.Range(0, 1000).Select(i => new Sample { At = since.AddMilliseconds(10 * i), ProcessorPercent = 10 }).ToList();
        foreach (var part in samples.Chunk(20))
        {
            await service.Get<Intake>().SamplesAsync(id, part);
        }
        // Late ones are welcome whenever they come.
        await service.Get<Intake>().SamplesAsync(id, [new Sample { At = since.AddHours(-1), ProcessorPercent = 10 }]);
        await using var db = service.Get<Umbrek.Service.Storage.IDatabase>().Open();
        await Wait.UntilAsync(() => db.Samples.Count() == 21, "two a second, and the late one");
    }

    [Fact]
    public async Task A_clock_that_is_off_is_measured_shown_and_corrected_for()
    {
        await using var service = await TestService.StartAsync();
        await using var host = await service.LinkAsync("ripening-climate-02");
        var id = (await service.HostAsync("ripening-climate-02")).Id;
        var off = TimeSpan.FromMinutes(7);
        var sent = DateTimeOffset.UtcNow;
        await host.SendAsync(ToService.Samples, new SampleBatch([new Sample { At = sent - off - TimeSpan.FromSeconds(30), ProcessorPercent = 10 }, new Sample { At = sent - off, ProcessorPercent = 20 }], sent - off));
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"hosts?selection={Uri.EscapeDataString("clock.off > 6 min and clock.side = behind")}", WireJson.Default.PageHostSummary, default)).Items.Count == 1, "the clock to be shown");
        await using (var db = service.Get<Umbrek.Service.Storage.IDatabase>().Open())
        {
            await Wait.UntilAsync(() => db.Samples.Count(s => s.HostId == id) >= 2, "the samples");
            db.Samples.Where(s => s.HostId == id).Select(s => s.At).ToList().ShouldAllBe(at => (at - sent).Duration() < TimeSpan.FromMinutes(1));
        }
        // A host can't say it of itself.
        await host.SendAsync(ToService.Facts, new FactReport([new Core.Inventory.Fact("clock.off", System.Text.Json.JsonSerializer.SerializeToElement(0), sent), new Core.Inventory.Fact("os.name", System.Text.Json.JsonSerializer.SerializeToElement("Tidal"), sent)]));
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"hosts?selection={Uri.EscapeDataString("os = Tidal and clock.off > 6 min")}", WireJson.Default.PageHostSummary, default)).Items.Count == 1, "the other fact");
        // When it is set right, that is seen too.
        await host.SendAsync(ToService.Samples, new SampleBatch([new Sample { At = DateTimeOffset.UtcNow, ProcessorPercent = 30 }], DateTimeOffset.UtcNow));
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"hosts?selection={Uri.EscapeDataString("clock.off < 1 s and clock.side = right")}", WireJson.Default.PageHostSummary, default)).Items.Count == 1, "the clock to be right");
    }

    [Fact]
    public async Task A_link_that_is_lost_again_and_again_is_unsteady_and_one_alert()
    {
        var time = new Microsoft.Extensions.Time.Testing.FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time);
        await service.EnrolAsync("ripening-climate-02");
        var id = (await service.HostAsync("ripening-climate-02")).Id;
        var estate = service.Get<EstateIndex>();
        for (var i = 0; i < 8; i++)
        {
            estate.Linked(id, "ripening-climate-02", "0.1.0", null, time.GetUtcNow());
            await LookAsync();
            time.Advance(TimeSpan.FromSeconds(20));
            estate.Unlinked(id, Core.Estate.AwayReason.LostContact, time.GetUtcNow());
            time.Advance(TimeSpan.FromSeconds(10));
        }
        estate.Linked(id, "ripening-climate-02", "0.1.0", null, time.GetUtcNow());
        await LookAsync();
        (await service.HostAsync("ripening-climate-02")).Presence.Losses.ShouldBe(8);
        await UntilAsync(async () => (await service.Api.GetAsync($"hosts?selection={Uri.EscapeDataString("unsteady = yes")}", WireJson.Default.PageHostSummary, default)).Items.Count == 1);
        await UntilAsync(async () => (await service.Api.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items.Count > 0);
        (await service.Api.GetAsync("alerts?all=true", WireJson.Default.PageAlertLine, default)).Items.Select(a => a.What).ShouldBe(["The link of ripening-climate-02 is lost again and again."]);
        // Ten minutes without a loss, and all is well.
        await UntilAsync(async () => (await service.Api.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items.Count == 0);
        (await service.HostAsync("ripening-climate-02")).Presence.Losses.ShouldBe(0);

        // Time goes by no faster than checks see the link come back; otherwise it were away all the while for them.
        async Task LookAsync()
        {
            var engine = service.Get<Umbrek.Service.Health.CheckEngine>();
            var (before, asked) = (engine.Looked, 0);
            await Wait.UntilAsync(
                () =>
                {
                    if (asked++ % 100 == 0)
                    {
                        time.Advance(TimeSpan.FromSeconds(2));
                    }
                    // One look may have begun before.
                    return engine.Looked >= before + 2;
                },
                "checks to run");
        }

        Task UntilAsync(Func<Task<bool>> until) => Wait.UntilAsync(
            async () =>
            {
                time.Advance(TimeSpan.FromSeconds(5));
                return await until();
            },
            "it");
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
        (await service.Get<SamplePruner>().PruneAsync(default)).ShouldBe(4);
        await using var left = service.Get<Umbrek.Service.Storage.IDatabase>().Open();
        (left.Samples.Count(), left.Rollups.Count()).ShouldBe((2, 3));
    }
}
