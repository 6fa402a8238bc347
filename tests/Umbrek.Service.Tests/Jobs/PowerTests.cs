using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Jobs;

/// <summary>Who may do what with computers as a whole, and who wakes whom.</summary>
public sealed class PowerTests
{
    private static readonly PowerWish Lock = new(PowerAct.Lock);

    [Fact]
    public async Task It_is_a_permission_of_its_own_beside_running_commands()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-office-02");
        await service.Api.PostAsync("roles", new NewRole("power only", [Permission.See, Permission.Power]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        await service.Api.PostAsync("roles", new NewRole("run only", [Permission.See, Permission.Run]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var priya = await service.JoinedByAsync("Priya Lund", "power only");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "run only");

        var job = await EndedAsync(priya, await RunAsync(priya, new CommandSpec { Action = new HostAction { Power = Lock } }));
        job.Job.CommandText.ShouldBe("lock every screen");
        job.Runs[0].State.ShouldBe(RunState.Succeeded);
        // She reads what came of it, and nothing of what others ran.
        (await priya.GetAsync($"jobs/{job.Job.Id}/search?text=logged", WireJson.Default.FoundLines, default)).Lines.ShouldHaveSingleItem().Text.ShouldBe("Nobody is logged in here.");
        var command = await EndedAsync(service.Api, await RunAsync(service.Api, new CommandSpec { Line = "hostname" }));
        (await Should.ThrowAsync<ApiException>(() => priya.GetAsync($"jobs/{command.Job.Id}/search?text=quay", WireJson.Default.FoundLines, default))).Message.ShouldContain("run commands on quay-office-02");
        (await Should.ThrowAsync<ApiException>(() => RunAsync(priya, new CommandSpec { Line = "reboot" }))).Problem.Status.ShouldBe(403);
        (await Should.ThrowAsync<ApiException>(() => priya.ActAsync($"runs/{command.Runs[0].Id}/cancel", WireJson.Default.RunInfo, default))).Problem.Status.ShouldBe(403);
        (await Should.ThrowAsync<ApiException>(() => RunAsync(tomasz, new CommandSpec { Action = new HostAction { Power = Lock } }))).Problem.Status.ShouldBe(403);
        (await Should.ThrowAsync<ApiException>(() => tomasz.GetAsync($"jobs/{job.Job.Id}/answers", WireJson.Default.JobAnswers, default))).Problem.Status.ShouldBe(403);
    }

    [Fact]
    public async Task It_waits_for_no_host_that_comes_back_in_the_middle_of_work()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-office-02");
        var job = await RunAsync(service.Api, new CommandSpec { Action = new HostAction { Power = Lock } });
        (job.ExpiresAt - job.CreatedAt).ShouldBe(TimeSpan.FromMinutes(5));
        (await Should.ThrowAsync<ApiException>(() => RunAsync(service.Api, new CommandSpec { User = "root", Action = new HostAction { Power = Lock } }))).Message.ShouldContain("takes neither a command nor user");
        (await Should.ThrowAsync<ApiException>(() => RunAsync(service.Api, new CommandSpec { Action = new HostAction { Power = new(PowerAct.Restart, -5) } }))).Message.ShouldContain("from 0 seconds to a day");
    }

    [Fact]
    public async Task A_host_is_woken_by_those_of_its_customer_that_stand_in_its_network()
    {
        await using var service = await TestService.StartAsync();
        var asleep = await RunningAgent.StartAsync(service, "quay-office-02");
        await using var near = await RunningAgent.StartAsync(service, "quay-office-01");
        var before = await service.Api.GetAsync($"hosts/{asleep.Id}/wake", WireJson.Default.WakeHost, default);
        (before.Problem, before.Neighbours.Count).ShouldBe(("is awake: its agent is linked.", 0));
        await asleep.DisposeAsync();
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"hosts/{asleep.Id}/wake", WireJson.Default.WakeHost, default)).Problem is null, "it to be away");
        var neighbour = (await service.Api.GetAsync($"hosts/{asleep.Id}/wake", WireJson.Default.WakeHost, default)).Neighbours.ShouldHaveSingleItem();
        neighbour.ShouldBe(new HostNeighbour(near.Id, "quay-office-01", "198.51.100.0/24"));

        var key = Guid.NewGuid().ToString();
        var woken = await WakeAsync(service.Api, "quay-office-02", key);
        var job = await EndedAsync(service.Api, woken.Job!);
        (job.Job.CommandText, job.Job.Selection, job.Runs[0].HostLabel).ShouldBe(("wake quay-office-02", "quay-office-01", "quay-office-01"));
        (await service.Api.GetAsync($"jobs/{job.Job.Id}/search?text=packet", WireJson.Default.FoundLines, default)).Lines.ShouldHaveSingleItem().Text.ShouldContain("was sent into 198.51.100.0/24");
        // A request that is repeated sends nothing twice.
        (await WakeAsync(service.Api, "quay-office-02", key)).Job!.Id.ShouldBe(job.Job.Id);
        // Who is awake already does not keep the others from being woken.
        (await WakeAsync(service.Api, "all", null)).Hosts.Select(h => h.Problem is null).ShouldBe([false, true], ignoreOrder: true);
        (await Should.ThrowAsync<ApiException>(() => WakeAsync(service.Api, "quay-office-01", null))).Message.ShouldBe("quay-office-01 is awake: its agent is linked.");
        (await Should.ThrowAsync<ApiException>(() => WakeAsync(service.Api, "lantern-99", null))).Problem.Word.ShouldBe(ProblemTypes.SelectionEmpty);
        (await Should.ThrowAsync<ApiException>(() => WakeAsync(service.Api, " ", null))).Message.ShouldContain("Say which hosts are to wake");

        await service.Api.PostAsync("roles", new NewRole("run only", [Permission.See, Permission.Run]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "run only");
        (await Should.ThrowAsync<ApiException>(() => WakeAsync(tomasz, "quay-office-02", null))).Problem.Status.ShouldBe(403);
    }

    private static Task<WakeInfo> WakeAsync(ApiClient who, string selection, string? key) =>
        who.PostAsync("wake", new NewWake(selection), WireJson.Default.NewWake, WireJson.Default.WakeInfo, default, key);

    private static Task<JobInfo> RunAsync(ApiClient who, CommandSpec command) =>
        who.PostAsync("jobs", new NewJob("quay-office-02", command), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);

    private static async Task<JobDetail> EndedAsync(ApiClient who, JobInfo job)
    {
        var detail = await who.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default);
        await Wait.UntilAsync(async () => (detail = await who.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Job.Runs is var runs && runs.Ended == runs.Total, "the runs to end");
        return detail;
    }
}
