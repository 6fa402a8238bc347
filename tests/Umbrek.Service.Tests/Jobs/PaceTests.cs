using System.Collections.Concurrent;
using Umbrek.Core.Jobs;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Simulation.Links;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Jobs;

/// <summary>Hosts that take turns.</summary>
public sealed class PaceTests : IAsyncLifetime
{
    private TestService service = null!;
    private readonly Dictionary<string, LightHost> hosts = [];
    private readonly ConcurrentDictionary<string, TaskCompletionSource<(string, int)>> begun = new();

    public async ValueTask InitializeAsync()
    {
        service = await TestService.StartAsync();
        foreach (var name in new[] { "quay-ticket-01", "quay-ticket-02", "quay-ticket-03", "quay-ticket-04" })
        {
            await TakeAsync(name, await service.LinkAsync(name));
        }
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var host in hosts.Values)
        {
            await host.DisposeAsync();
        }
        await service.DisposeAsync();
    }

    [Fact]
    public async Task Two_at_once_and_the_next_when_one_has_ended()
    {
        var job = await MakeAsync(new RunPace(AtOnce: 2));
        await BegunAsync("quay-ticket-01", "quay-ticket-02");
        (await GetAsync(job)).Runs.Where(r => r.State == RunState.Waiting).ShouldAllBe(r => r.Reason == "Its turn has not come yet.");
        End("quay-ticket-02");
        await BegunAsync("quay-ticket-01", "quay-ticket-02", "quay-ticket-03");
        End("quay-ticket-01");
        End("quay-ticket-03");
        await BegunAsync("quay-ticket-01", "quay-ticket-02", "quay-ticket-03", "quay-ticket-04");
        End("quay-ticket-04");
        await EndedAsync(job);
        (await GetAsync(job)).Job.Runs.Succeeded.ShouldBe(4);
    }

    [Fact]
    public async Task After_so_many_failures_nobody_begins_any_more()
    {
        var job = await MakeAsync(new RunPace(AtOnce: 1, StopAfterFailures: 2));
        await BegunAsync("quay-ticket-01");
        End("quay-ticket-01", 1);
        await BegunAsync("quay-ticket-01", "quay-ticket-02");
        End("quay-ticket-02", 1);
        var ended = await EndedAsync(job);
        ended.Runs.Select(r => r.State).ShouldBe([RunState.Failed, RunState.Failed, RunState.Cancelled, RunState.Cancelled]);
        ended.Runs[3].Reason.ShouldBe("Not begun: 2 hosts had failed, and the job was to stop then.");
        begun.Count.ShouldBe(2);
    }

    [Fact]
    public async Task A_host_that_is_away_holds_nobody_up_and_has_its_turn_on_return()
    {
        await hosts["quay-ticket-01"].DisposeAsync();
        await Wait.UntilAsync(async () => (await service.HostAsync("quay-ticket-01")).Presence.State != Umbrek.Core.Estate.PresenceState.Linked, "the host to be away");
        var job = await MakeAsync(new RunPace(AtOnce: 3));
        await BegunAsync("quay-ticket-02", "quay-ticket-03", "quay-ticket-04");
        End("quay-ticket-02");
        await hosts["quay-ticket-01"].ConnectAsync(default);
        await BegunAsync("quay-ticket-01", "quay-ticket-02", "quay-ticket-03", "quay-ticket-04");
        foreach (var name in new[] { "quay-ticket-01", "quay-ticket-03", "quay-ticket-04" })
        {
            End(name);
        }
        (await EndedAsync(job)).Job.Runs.Succeeded.ShouldBe(4);
    }

    [Fact]
    public async Task Whose_turn_it_is_survives_the_service()
    {
        var job = await MakeAsync(new RunPace(AtOnce: 1));
        await BegunAsync("quay-ticket-01");
        await service.RestartAsync();
        foreach (var host in hosts.Values)
        {
            await host.ConnectAsync(default);
        }
        // The first host's order comes again, for it had not accepted it; nobody else begins.
        (await GetAsync(job)).Runs.Count(r => r.State == RunState.Waiting).ShouldBe(3);
        foreach (var name in new[] { "quay-ticket-01", "quay-ticket-02", "quay-ticket-03", "quay-ticket-04" })
        {
            await Wait.UntilAsync(() => begun.ContainsKey(name), $"{name} to begin");
            End(name);
        }
        await EndedAsync(job);
    }

    [Fact]
    public async Task A_job_that_is_cancelled_begins_nowhere_else()
    {
        var job = await MakeAsync(new RunPace(AtOnce: 1));
        await BegunAsync("quay-ticket-01");
        await service.Api.ActAsync(HttpMethod.Post, $"jobs/{job}/cancel", default);
        End("quay-ticket-01");
        (await EndedAsync(job)).Runs.Count(r => r.State == RunState.Cancelled).ShouldBe(3);
        begun.Count.ShouldBe(1);
        (await Should.ThrowAsync<ApiException>(() => MakeAsync(new RunPace(AtOnce: 0)))).Message.ShouldContain("At once");
    }

    private Task TakeAsync(string name, LightHost host)
    {
        hosts[name] = host;
        host.Answer = _ => begun.GetOrAdd(name, _ => new(TaskCreationOptions.RunContinuationsAsynchronously)).Task;
        return Task.CompletedTask;
    }

    private void End(string name, int status = 0) => begun[name].TrySetResult(("done\n", status));

    private async Task BegunAsync(params string[] names)
    {
        await Wait.UntilAsync(() => begun.Count >= names.Length, "the next to begin");
        begun.Keys.Order().ShouldBe(names);
    }

    private async Task<Guid> MakeAsync(RunPace pace) =>
        (await service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = "hostname" }, Pace: pace), WireJson.Default.NewJob, WireJson.Default.JobInfo, default)).Id;

    private Task<JobDetail> GetAsync(Guid id) => service.Api.GetAsync($"jobs/{id}", WireJson.Default.JobDetail, default);

    private async Task<JobDetail> EndedAsync(Guid id)
    {
        await Wait.UntilAsync(async () => (await GetAsync(id)).Job.Runs is var runs && runs.Ended == runs.Total, "the job to end");
        return await GetAsync(id);
    }
}
