using System.Net.WebSockets;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Simulation.Estate;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Tests.Jobs;

/// <summary>Logs of hosts, for those who may read files there.</summary>
public sealed class LogTests
{
    [Fact]
    public async Task A_log_is_read_and_followed_and_the_audit_log_says_which()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03", story: HostStory.PrinterStopped);
        using var look = await OpenAsync(service.Api, agent.Id, new LogWish(3, Text: "paper", Follow: true));
        var frames = LogWord.Frames(look);
        var first = (await frames.ReceiveAsync(default))!;
        (first.Sources!.Journal, first.Sources.Files[0].Path).ShouldBe((true, "/var/log/kiosk.log"));
        var lines = (await frames.ReceiveAsync(default))!.Lines!;
        lines.Count.ShouldBe(3);
        lines.ShouldAllBe(l => l.Source == "ticket-print" && l.Severity == LogSeverity.Error && l.At != null);
        lines.Select(l => l.At!.Value).ShouldBeInOrder();
        (await frames.ReceiveAsync(default))!.CaughtUp.ShouldBeTrue();
        var said = (await service.Api.GetAsync("audit?action=log.read", WireJson.Default.PageAuditInfo, default)).Items.ShouldHaveSingleItem();
        said.Target.ShouldContain("quay-ticket-03");
        said.Detail.ShouldContain("the journal");

        using var none = await OpenAsync(service.Api, agent.Id, new LogWish(1, "/var/log/none.log"));
        var file = LogWord.Frames(none);
        (await file.ReceiveAsync(default))!.Sources.ShouldNotBeNull();
        (await file.ReceiveAsync(default))!.Problem.ShouldBe("There is no file /var/log/none.log on this host.");
        (await Should.ThrowAsync<ApiException>(() => OpenAsync(service.Api, agent.Id, new LogWish(1, "kiosk.log")))).Message.ShouldContain("whole path");
    }

    [Fact]
    public async Task It_takes_the_permission_to_read_files_and_the_host_to_allow_it()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03");
        await service.Api.PostAsync("roles", new NewRole("run only", [Permission.See, Permission.Run]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        await service.Api.PostAsync("roles", new NewRole("reads", [Permission.See, Permission.ReadFiles]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "run only");
        (await Should.ThrowAsync<ApiException>(() => OpenAsync(tomasz, agent.Id, new LogWish(1)))).Message.ShouldContain("read files of quay-ticket-03");
        using var priya = await service.JoinedByAsync("Priya Lund", "reads");
        (await FirstAsync(priya, agent.Id)).Sources.ShouldNotBeNull();

        await service.Api.PutAsync($"hosts/{agent.Id}/policy", new HostPolicyPart([HostAct.Run]), 0, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, default);
        await Umbrek.Tests.Wait.UntilAsync(
            async () => (await FirstAsync(priya, agent.Id)).Problem?.Contains("does not allow its logs to be read", StringComparison.Ordinal) == true, "the host to keep to it");
    }

    private static async Task<LogWord> FirstAsync(ApiClient who, Guid hostId)
    {
        using var socket = await OpenAsync(who, hostId, new LogWish(1));
        return (await LogWord.Frames(socket).ReceiveAsync(default))!;
    }

    private static async Task<WebSocket> OpenAsync(ApiClient who, Guid hostId, LogWish wish)
    {
        var session = await who.PostAsync($"hosts/{hostId}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);
        var (socket, _) = await ChannelSocket.OpenAsync(who, null, session.Id, new NewChannel(ChannelKinds.Logs, Log: wish), default);
        return socket;
    }
}
