using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Core.Jobs;
using Umbrek.Service.Jobs;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Jobs;

public sealed class JobTests
{
    [Fact]
    public async Task A_job_runs_on_every_host_of_its_selection_and_its_output_is_kept()
    {
        await using var service = await TestService.StartAsync();
        await using var one = await service.LinkAsync("quay-ticket-01");
        await using var two = await service.LinkAsync("quay-ticket-02");
        await using var other = await service.LinkAsync("plover-log-01");
        var job = await MakeAsync(service, "quay-ticket-*");
        var done = await EndedAsync(service, job.Id);
        done.Runs.Select(r => (r.HostLabel, r.State, r.ExitStatus)).ShouldBe([("quay-ticket-01", RunState.Succeeded, 0), ("quay-ticket-02", RunState.Succeeded, 0)]);
        (await service.SendAsync(HttpMethod.Get, $"/api/v1/runs/{done.Runs[0].Id}/output")).Body.ShouldBe("quay-ticket-01\n");
        (await service.SendAsync(HttpMethod.Get, $"/api/v1/runs/{done.Runs[0].Id}/output?stream=stderr")).Body.ShouldBe("");
        other.Executions.ShouldBe(0);
    }

    [Fact]
    public async Task The_same_request_twice_starts_it_once()
    {
        await using var service = await TestService.StartAsync();
        await using var host = await service.LinkAsync("quay-ticket-01");
        var key = Guid.NewGuid().ToString();
        var jobs = await Task.WhenAll(Enumerable.Range(0, 5).Select(_ => MakeAsync(service, "all", key: key)));
        jobs.Select(j => j.Id).Distinct().Count().ShouldBe(1);
        await EndedAsync(service, jobs[0].Id);
        host.Executions.ShouldBe(1);
    }

    [Fact]
    public async Task A_run_waits_for_a_host_that_is_away_and_goes_out_on_its_return()
    {
        await using var service = await TestService.StartAsync();
        var (identity, simulated) = await service.EnrolAsync("dunlin-log-01");
        var job = await MakeAsync(service, "dunlin-log-01");
        job.Runs.Waiting.ShouldBe(1);
        await service.RestartAsync();
        await using var host = new Umbrek.Simulation.Links.LightHost(identity, simulated, TimeProvider.System);
        await host.ConnectAsync(default);
        (await EndedAsync(service, job.Id)).Runs[0].State.ShouldBe(RunState.Succeeded);
        host.Executions.ShouldBe(1);
    }

    [Fact]
    public async Task A_waiting_run_expires_and_never_runs()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time);
        var (identity, simulated) = await service.EnrolAsync("dunlin-log-01");
        var job = await MakeAsync(service, "dunlin-log-01", expires: 60);
        time.Advance(TimeSpan.FromSeconds(61));
        await service.Get<JobService>().ExpireAsync(default);
        (await GetAsync(service, job.Id)).Runs[0].State.ShouldBe(RunState.Expired);
        await using var host = new Umbrek.Simulation.Links.LightHost(identity, simulated, time);
        await host.ConnectAsync(default);
        host.Executions.ShouldBe(0);
    }

    [Fact]
    public async Task A_run_cancelled_while_it_waits_never_runs()
    {
        await using var service = await TestService.StartAsync();
        var (identity, simulated) = await service.EnrolAsync("dunlin-log-01");
        var job = await MakeAsync(service, "dunlin-log-01");
        await service.Api.ActAsync(HttpMethod.Post, $"jobs/{job.Id}/cancel", default);
        var run = (await GetAsync(service, job.Id)).Runs[0];
        run.State.ShouldBe(RunState.Cancelled);
        run.Reason!.ShouldContain(TestService.Name);
        await using var host = new Umbrek.Simulation.Links.LightHost(identity, simulated, TimeProvider.System);
        await host.ConnectAsync(default);
        host.Executions.ShouldBe(0);
    }

    [Fact]
    public async Task Events_delivered_again_are_kept_once_and_those_of_a_stranger_not_at_all()
    {
        await using var service = await TestService.StartAsync();
        await using var host = await service.LinkAsync("quay-ticket-01");
        await using var stranger = await service.LinkAsync("quay-ticket-02");
        var job = await MakeAsync(service, "quay-ticket-01");
        var run = (await EndedAsync(service, job.Id)).Runs[0];
        var piece = new RunEvent { RunId = run.Id, Sequence = 2, At = DateTimeOffset.UtcNow, Kind = RunEventKind.Stdout, Data = "again"u8.ToArray() };
        var later = piece with { Sequence = 4, Data = "forged"u8.ToArray() };
        var intake = service.Get<Intake>();
        await intake.EventsAsync(run.HostId, [piece, piece]);
        await intake.EventsAsync((await service.HostAsync("quay-ticket-02")).Id, [later]);
        await intake.MarkAsync([run.Id], m => m);
        (await service.SendAsync(HttpMethod.Get, $"/api/v1/runs/{run.Id}/output")).Body.ShouldBe("quay-ticket-01\n");
    }

    [Fact]
    public async Task A_host_that_lost_its_journal_leaves_an_interrupted_run()
    {
        await using var service = await TestService.StartAsync();
        var (identity, simulated) = await service.EnrolAsync("dunlin-log-01");
        var job = await MakeAsync(service, "dunlin-log-01");
        var run = (await GetAsync(service, job.Id)).Runs[0];
        await service.Get<Intake>().EventsAsync(run.HostId, [new RunEvent { RunId = run.Id, Sequence = 0, At = DateTimeOffset.UtcNow, Kind = RunEventKind.Accepted }]);
        await service.Get<Intake>().MarkAsync([run.Id], m => m);
        await using var host = new Umbrek.Simulation.Links.LightHost(identity, simulated, TimeProvider.System);
        await host.ConnectAsync(default);
        var ended = (await EndedAsync(service, job.Id)).Runs[0];
        ended.State.ShouldBe(RunState.Interrupted);
        host.Executions.ShouldBe(0);
    }

    [Fact]
    public async Task A_listing_of_jobs_goes_on_where_its_page_ended()
    {
        await using var service = await TestService.StartAsync();
        await using var host = await service.LinkAsync("quay-ticket-01");
        for (var i = 0; i < 5; i++)
        {
            await MakeAsync(service, "all", line: $"echo {i}");
        }
        var first = await service.Api.GetAsync("jobs?limit=3", WireJson.Default.PageJobInfo, default);
        var second = await service.Api.GetAsync($"jobs?limit=3&cursor={first.NextCursor}", WireJson.Default.PageJobInfo, default);
        first.Items.Concat(second.Items).Select(j => j.CommandText).ShouldBe(["echo 4", "echo 3", "echo 2", "echo 1", "echo 0"]);
        second.NextCursor.ShouldBeNull();
    }

    private static Task<JobInfo> MakeAsync(TestService service, string selection, string? key = null, long? expires = null, string line = "hostname") =>
        service.Api.PostAsync("jobs", new NewJob(selection, new CommandSpec { Line = line }, expires), WireJson.Default.NewJob, WireJson.Default.JobInfo, default, key);

    private static Task<JobDetail> GetAsync(TestService service, Guid id) => service.Api.GetAsync($"jobs/{id}", WireJson.Default.JobDetail, default);

    private static async Task<JobDetail> EndedAsync(TestService service, Guid id)
    {
        await Wait.UntilAsync(async () => (await GetAsync(service, id)).Job.Runs is var runs && runs.Ended == runs.Total, "the job to end");
        return await GetAsync(service, id);
    }
}
