using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Storage;

public sealed class ServiceOnPostgresTests(PostgresServer server)
{
    [Fact]
    public async Task The_whole_service_works_on_PostgreSQL_and_finds_everything_again_after_a_restart()
    {
        await using var service = await TestService.StartAsync(database: server.ConnectionString("whole"));
        await using var host = await service.LinkAsync("plover-log-01");
        await host.SendFactsAsync(default);
        await host.SendSampleAsync(default);
        host.Steps = order => order.Command.Steps is null ? [] : [new(0, StepState.Running), new(0, StepState.Failed, 1, 3, "quite 'so'")];
        var book = await service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Steps = [new("Look", "true")] }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        var job = await service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default, "once");
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Job.Runs.Succeeded == 1, "the run");
        await Wait.UntilAsync(async () => (await service.HostAsync("plover-log-01")) is { Os: not null, ProcessorPercent: not null }, "facts and a sample");
        var id = (await service.HostAsync("plover-log-01")).Id;
        var read = await service.Api.GetAsync($"hosts/{id}", WireJson.Default.HostDetail, default);
        await service.Api.PatchAsync($"hosts/{id}", new HostChange(Label: "Plover, log"), read.Version, WireJson.Default.HostChange, WireJson.Default.HostDetail, default);

        await service.RestartAsync();

        var after = await service.HostAsync("Plover, log");
        (after.SystemName, after.Presence.State).ShouldBe(("plover-log-01", PresenceState.Returning));
        after.ProcessorPercent.ShouldNotBeNull();
        (await service.Api.GetAsync($"hosts/{id}/series?metrics=processor", WireJson.Default.MetricSeries, default)).Lines.Single().Mean.Count(v => v is not null).ShouldBe(1);
        (await service.Api.GetAsync($"jobs/{book.Id}", WireJson.Default.JobDetail, default)).Runs[0].Steps.ShouldHaveSingleItem().Reason.ShouldBe("quite 'so'");
        var again = await service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default, "once");
        again.Id.ShouldBe(job.Id);
        (await service.Api.GetAsync("installers", WireJson.Default.PageInstallerInfo, default)).Items.Single().Uses.ShouldBe(1);
    }
}
