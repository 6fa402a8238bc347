using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Client;
using Umbrek.Core.Jobs;
using Umbrek.Service.Links;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Hosting;

/// <summary>Live views as a client of the service sees them.</summary>
public sealed class LiveTests
{
    [Fact]
    public async Task A_stranger_gets_no_live_view()
    {
        await using var service = await TestService.StartAsync();
        await using var line = service.Live("rubbish");
        await Should.ThrowAsync<Exception>(() => line.StartAsync());
        line.State.ShouldBe(HubConnectionState.Disconnected);
    }

    [Fact]
    public async Task The_estate_comes_whole_and_then_only_what_changed()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        await service.EnrolAsync("quay-ticket-02");
        await using var line = service.Live(service.Token);
        await line.StartAsync();
        using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        var messages = line.StreamAsync<EstateChanges>("Estate", enough.Token).GetAsyncEnumerator(enough.Token);

        (await messages.MoveNextAsync()).ShouldBeTrue();
        messages.Current.Reset.ShouldBeTrue();
        messages.Current.Hosts.Select(h => h.Label).Order().ShouldBe(["quay-ticket-01", "quay-ticket-02"]);

        await service.EnrolAsync("plover-log-01");
        (await messages.MoveNextAsync()).ShouldBeTrue();
        messages.Current.Reset.ShouldBeFalse();
        messages.Current.Hosts.Select(h => h.Label).ShouldBe(["plover-log-01"]);
    }

    [Fact]
    public async Task A_hundred_changes_of_one_host_are_few_messages_and_end_with_the_last()
    {
        await using var service = await TestService.StartAsync();
        await using var host = await service.LinkAsync("plover-log-01");
        var id = (await service.HostAsync("plover-log-01")).Id;
        await using var line = service.Live(service.Token);
        await line.StartAsync();
        using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        var messages = line.StreamAsync<EstateChanges>("Estate", enough.Token).GetAsyncEnumerator(enough.Token);
        await messages.MoveNextAsync();
        var estate = service.Get<Umbrek.Service.Estate.EstateIndex>();
        for (var i = 1; i <= 100; i++)
        {
            estate.Edited(id, $"label {i}", TestService.Group, [], [], null);
        }
        var seen = 0;
        do
        {
            (await messages.MoveNextAsync()).ShouldBeTrue();
            seen++;
        }
        while (messages.Current.Hosts.Single().Label != "label 100");
        seen.ShouldBeLessThan(5);
    }

    [Fact]
    public async Task A_job_that_is_watched_gives_runs_and_output_and_says_when_it_is_over()
    {
        await using var service = await TestService.StartAsync();
        var (identity, simulated) = await service.EnrolAsync("plover-log-01");
        var job = await service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        await using var line = service.Live(service.Token);
        await line.StartAsync();
        using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        var messages = new List<JobChanges>();
        await using var host = new Umbrek.Simulation.Links.LightHost(identity, simulated, TimeProvider.System);
        await foreach (var message in line.StreamAsync<JobChanges>("Job", job.Id, enough.Token))
        {
            messages.Add(message);
            if (message.CaughtUp && messages.Count(m => m.CaughtUp) == 1)
            {
                message.Job.Runs.Waiting.ShouldBe(1);
                await host.ConnectAsync(default);
            }
        }
        messages[0].Reset.ShouldBeTrue();
        messages.Skip(1).ShouldAllBe(m => !m.Reset);
        messages[^1].Finished.ShouldBeTrue();
        messages.SelectMany(m => m.Runs).Last().State.ShouldBe(RunState.Succeeded);
        var output = messages.SelectMany(m => m.Output).Single();
        (output.Stream, System.Text.Encoding.UTF8.GetString(output.Data)).ShouldBe((RunEventKind.Stdout, "plover-log-01\n"));
    }

    [Fact]
    public async Task A_job_that_is_over_is_told_at_once_and_one_that_is_not_is_an_error()
    {
        await using var service = await TestService.StartAsync();
        await using var host = await service.LinkAsync("plover-log-01");
        var job = await service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Job.Runs.Succeeded == 1, "the run");
        await using var line = service.Live(service.Token);
        await line.StartAsync();
        var messages = await line.StreamAsync<JobChanges>("Job", job.Id).ToListAsync();
        messages[^1].Finished.ShouldBeTrue();
        messages.SelectMany(m => m.Output).Count().ShouldBe(1);
        (await Should.ThrowAsync<HubException>(async () => await line.StreamAsync<JobChanges>("Job", Guid.NewGuid()).ToListAsync())).Message.ShouldContain("no such job");
    }

    [Fact]
    public async Task New_jobs_are_told_to_whoever_watches_the_list()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("plover-log-01");
        await using var line = service.Live(service.Token);
        await line.StartAsync();
        using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        var messages = line.StreamAsync<JobInfo>("Jobs", enough.Token).GetAsyncEnumerator(enough.Token);
        var next = messages.MoveNextAsync();
        JobInfo job = null!;
        await Wait.UntilAsync(async () =>
        {
            // The view may be a moment late; the first job made after it began is seen.
            job = await service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
            return next.IsCompleted;
        }, "the list's first message");
        (await next).ShouldBeTrue();
        messages.Current.CommandText.ShouldBe("hostname");
        messages.Current.Runs.Waiting.ShouldBe(1);
    }

    [Fact]
    public async Task A_run_that_stands_still_says_why_until_it_goes_on()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("plover-log-01");
        var job = await service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        var run = (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Runs[0];
        var intake = service.Get<Intake>();
        await intake.EventsAsync(run.HostId, [new RunEvent { RunId = run.Id, Sequence = 0, At = DateTimeOffset.UtcNow, Kind = RunEventKind.Accepted }]);
        await intake.HeldAsync(run.HostId, new Umbrek.Wire.Links.RunHeld(run.Id, "The disk is full."));
        await intake.HeldAsync(Guid.NewGuid(), new Umbrek.Wire.Links.RunHeld(run.Id, "said by a stranger"));
        await intake.MarkAsync([run.Id], m => m);
        (await service.Api.GetAsync($"runs/{run.Id}", WireJson.Default.RunInfo, default)).Reason.ShouldBe("The disk is full.");
        await intake.HeldAsync(run.HostId, new Umbrek.Wire.Links.RunHeld(run.Id, null));
        await intake.MarkAsync([run.Id], m => m);
        (await service.Api.GetAsync($"runs/{run.Id}", WireJson.Default.RunInfo, default)).Reason.ShouldBeNull();
    }
}
