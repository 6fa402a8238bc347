using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Simulation.Estate;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Tests.Jobs;

/// <summary>Services of hosts: seen as they change, and started by jobs.</summary>
public sealed class ServiceTests
{
    [Fact]
    public async Task Services_are_seen_and_one_that_has_failed_is_started_again()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03", story: HostStory.PrinterStopped);
        var session = await service.Api.PostAsync($"hosts/{agent.Id}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);
        var (socket, _) = await ChannelSocket.OpenAsync(service.Api, null, session.Id, new NewChannel(ChannelKinds.Services, View: new ViewWish(0.5)), default);
        using var open = socket;
        var frames = ViewWord.Frames(socket);
        var services = (await frames.ReceiveAsync(default))!.Services!;
        services.Single(s => s.Name == "ticket-print").State.ShouldBe(ServiceState.Failed);
        services.Single(s => s.Name == "nfs-server").Start.ShouldBe(ServiceStart.Never);
        (await service.Api.GetAsync("audit?action=service.look", WireJson.Default.PageAuditInfo, default)).Items.ShouldHaveSingleItem().Target.ShouldContain("quay-ticket-03");

        var job = await RunAsync(service, new ServiceWish("ticket-print", ServiceAct.Restart));
        job.CommandText.ShouldBe("restart service ticket-print");
        // What has not changed is not said again.
        (await frames.ReceiveAsync(default))!.Services!.Single(s => s.Name == "ticket-print").State.ShouldBe(ServiceState.Runs);
        (await service.Api.GetAsync($"jobs/{job.Id}/search?text=active", WireJson.Default.FoundLines, default)).Lines.ShouldHaveSingleItem().Text.ShouldBe("ticket-print.service is active (running), enabled.");
        (await RunAsync(service, new ServiceWish("lantern", ServiceAct.Start))).Runs.Failed.ShouldBe(1);
    }

    [Fact]
    public async Task Without_the_permission_or_a_name_nothing_is_done()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03");
        await service.Api.PostAsync("roles", new NewRole("shell only", [Permission.See, Permission.Shell]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var priya = await service.JoinedByAsync("Priya Lund", "shell only");
        var session = await priya.PostAsync($"hosts/{agent.Id}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);
        (await Should.ThrowAsync<ApiException>(() => ChannelSocket.OpenAsync(priya, null, session.Id, new NewChannel(ChannelKinds.Services), default))).Message.ShouldContain("run commands on quay-ticket-03");
        (await Should.ThrowAsync<ApiException>(() => RunAsync(service, new ServiceWish("cups; reboot", ServiceAct.Stop)))).Message.ShouldContain("is no name of a service");
        (await Should.ThrowAsync<ApiException>(() => RunAsync(service, new ServiceWish("-h", ServiceAct.Stop)))).Message.ShouldContain("is no name of a service");
    }

    private static async Task<JobInfo> RunAsync(TestService service, ServiceWish wish)
    {
        var job = await service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Action = new HostAction { Service = wish } }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        await Wait.UntilAsync(async () => (job = (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Job).Runs.Ended == 1, "the run to end");
        return job;
    }
}
