using System.Net.WebSockets;
using System.Text;
using Umbrek.Agent.Access;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Sessions;
using Umbrek.Wire.Shell;

namespace Umbrek.Service.Tests.Shell;

/// <summary>Who gets to a shell: the real agent, through channels of a real service.</summary>
public sealed class ShellTests
{
    private const string Key = "harbour lamp seven gulls";
    private static readonly ShellWish Hostname = new() { Command = new CommandSpec { Line = "hostname; exit 3" } };
    private static readonly ShellWish Terminal = new() { Terminal = TerminalSize.Usual };

    private static Task<SessionInfo> SessionAsync(ApiClient who, Guid host) =>
        who.PostAsync($"hosts/{host}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);

    private static Task<ChannelTicket> ChannelAsync(ApiClient who, SessionInfo session, NewChannel wish) =>
        who.PostAsync($"sessions/{session.Id}/channels", wish, WireJson.Default.NewChannel, WireJson.Default.ChannelTicket, default);

    /// <summary>Opens a shell and hears it to its end, or to a sentence that says why there is none.</summary>
    private static async Task<(string Output, ShellWord Last)> HearAsync(ApiClient who, SessionInfo session, ShellWish wish, SealedOrder? seal = null, bool usesVault = false)
    {
        var (socket, _) = await ChannelSocket.OpenAsync(who, null, session.Id, new NewChannel(ChannelKinds.Shell, wish, seal, usesVault), default);
        using (socket)
        {
            using var frames = new ShellFrames(socket);
            var output = new StringBuilder();
            while (await frames.ReceiveAsync(default) is { } message)
            {
                if (message.Word is { Ended: not null } or { Problem: not null })
                {
                    await frames.SendAsync(new ShellWord(End: true), default);
                    return (output.ToString(), message.Word);
                }
                output.Append(Encoding.UTF8.GetString(message.Data.Span));
            }
        }
        throw new InvalidOperationException("The channel closed without a word.");
    }

    private static async Task<IReadOnlyList<ShellInfo>> ListAsync(ApiClient who, Guid host) => (await who.GetAsync($"hosts/{host}/shells", WireJson.Default.PageShellInfo, default)).Items;

    [Fact]
    public async Task Whoever_may_gets_a_shell_and_it_stands_in_the_audit_log()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var session = await SessionAsync(service.Api, agent.Id);
        var (output, last) = await HearAsync(service.Api, session, Hostname);
        (output, last.Ended!.ExitStatus).ShouldBe(("quay-ticket-01\n", 3));
        var line = (await service.Api.GetAsync("audit?action=shell.open", WireJson.Default.PageAuditInfo, default)).Items.ShouldHaveSingleItem();
        line.Detail.ShouldContain("hostname; exit 3");
        line.Target.ShouldContain("quay-ticket-01");
    }

    [Fact]
    public async Task Without_the_permission_or_with_nonsense_there_is_none()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var own = await SessionAsync(service.Api, agent.Id);
        async Task<string> RefusedAsync(ApiClient who, SessionInfo session, NewChannel wish) => (await Should.ThrowAsync<ApiException>(() => ChannelAsync(who, session, wish))).Message;

        (await RefusedAsync(service.Api, own, new NewChannel(ChannelKinds.Shell))).ShouldContain("nothing is said of it");
        (await RefusedAsync(service.Api, own, new NewChannel(ChannelKinds.Shell, Terminal with { Terminal = new TerminalSize(65535, 65535) }))).ShouldContain("can't be");
        (await RefusedAsync(service.Api, own, new NewChannel(ChannelKinds.Shell, Terminal with { User = "a b" }))).ShouldContain("no name of a system user");

        // One who may run commands, and neither open shells nor choose whom they run as.
        await service.Api.PostAsync("roles", new NewRole("runner", [Permission.See, Permission.Run]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        await service.Api.PostAsync("roles", new NewRole("shell only", [Permission.See, Permission.Shell]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "runner");
        (await RefusedAsync(tomasz, await SessionAsync(tomasz, agent.Id), new NewChannel(ChannelKinds.Shell, Terminal))).ShouldContain("open a shell on quay-ticket-01");
        (await Should.ThrowAsync<ApiException>(() => ListAsync(tomasz, agent.Id))).Problem.Status.ShouldBe(403);
        using var priya = await service.JoinedByAsync("Priya Lund", "shell only");
        var hers = await SessionAsync(priya, agent.Id);
        (await RefusedAsync(priya, hers, new NewChannel(ChannelKinds.Shell, Hostname with { User = "games" }))).ShouldContain("choose the system user on quay-ticket-01");
        (await HearAsync(priya, hers, Hostname)).Output.ShouldBe("quay-ticket-01\n");
    }

    [Fact]
    public async Task What_is_asked_for_again_under_its_id_begins_once()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var session = await SessionAsync(service.Api, agent.Id);
        var wish = Terminal with { BeginAs = Guid.CreateVersion7() };
        // The line breaks before anything was heard.
        (await ChannelSocket.OpenAsync(service.Api, null, session.Id, new NewChannel(ChannelKinds.Shell, wish), default)).Socket.Dispose();
        await Wait.UntilAsync(async () => (await ListAsync(service.Api, agent.Id)).Count == 1, "it to begin");
        var (socket, _) = await ChannelSocket.OpenAsync(service.Api, null, session.Id, new NewChannel(ChannelKinds.Shell, wish), default);
        using (socket)
        {
            using var frames = new ShellFrames(socket);
            (await frames.ReceiveAsync(default))!.Value.Word!.Opened!.ShellId.ShouldBe(wish.BeginAs.Value);
        }
        (await ListAsync(service.Api, agent.Id)).ShouldHaveSingleItem();
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        (await HearAsync(tomasz, await SessionAsync(tomasz, agent.Id), wish)).Last.Problem!.ShouldContain("That shell has ended");
        (await Should.ThrowAsync<ApiException>(() => ChannelAsync(service.Api, session, new NewChannel(ChannelKinds.Shell, wish with { ShellId = wish.BeginAs })))).Message.ShouldContain("say which");
    }

    [Theory]
    [InlineData("sleep 600")]
    [InlineData("yes 'low tide at the quay'")]
    public async Task Who_looks_on_is_told_that_the_session_has_ended(string line)
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var session = await SessionAsync(service.Api, agent.Id);
        var (socket, _) = await ChannelSocket.OpenAsync(service.Api, null, session.Id, new NewChannel(ChannelKinds.Shell, new ShellWish { Command = new CommandSpec { Line = line } }), default);
        using (socket)
        {
            using var frames = new ShellFrames(socket);
            (await frames.ReceiveAsync(default))!.Value.Word!.Opened.ShouldNotBeNull();
            await service.Api.ActAsync($"sessions/{session.Id}/end", WireJson.Default.SessionInfo, default);
            while (await frames.ReceiveAsync(default) is not null)
            {
            }
            frames.ClosedBecause.ShouldBe("The session has ended.");
        }
        await Wait.UntilAsync(async () => (await ListAsync(service.Api, agent.Id)).Count == 0, "the shell to end with its session");
    }

    [Fact]
    public async Task A_session_has_so_many_channels_and_no_more()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var session = await SessionAsync(service.Api, agent.Id);
        var problem = await Should.ThrowAsync<ApiException>(async () =>
        {
            for (var i = 0; i < 2000; i++)
            {
                await ChannelAsync(service.Api, session, new NewChannel(ChannelKinds.Shell, Terminal));
            }
        });
        problem.Message.ShouldContain("32 channels of this session are open");
    }

    [Fact]
    public async Task A_host_that_asks_for_its_key_opens_only_what_was_sealed()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01", state =>
        {
            HostLimit.Write(state.LimitFile, new HostPolicyPart(KeyFor: [HostAct.Shell]));
            new HostKeys(state, null, TimeProvider.System).Set(KeptKey.Of(Key, service.Get<Umbrek.Service.Hosting.ServiceKey>().Sha256));
        });
        var session = await SessionAsync(service.Api, agent.Id);
        (await HearAsync(service.Api, session, Hostname)).Last.Problem!.ShouldContain("asks for its access key to open a terminal");

        var door = await HostDoor.OpenAsync(service.Api, null, agent.Id, ChannelBinding.AccessKey, Key, default);
        var seal = door.Seal(Hostname);
        // What is written down is what the host does: nothing else can be sealed.
        (await Should.ThrowAsync<ApiException>(() => HearAsync(service.Api, door.Session, Hostname, door.Seal(Hostname with { User = "games" })))).Message.ShouldContain("is not what is asked for");
        (await HearAsync(service.Api, door.Session, Hostname, seal)).Output.ShouldBe("quay-ticket-01\n");
        (await HearAsync(service.Api, door.Session, Hostname, seal)).Last.Problem!.ShouldContain("a second time");
        // A seal for a command is none for a shell.
        var other = door.Seal(Hostname.Command!) with { Text = door.Seal(Hostname).Text };
        (await HearAsync(service.Api, door.Session, Hostname, other)).Last.Problem!.ShouldContain("was not sealed by");

        // The vault proves it for who may use it.
        (await Should.ThrowAsync<ApiException>(() => HearAsync(service.Api, session, Hostname, usesVault: true))).Message.ShouldContain("The vault has no access key");
        await service.Api.PostAsync("secrets", new NewSecret(SecretKind.AccessKey, Key, HostId: agent.Id), WireJson.Default.NewSecret, WireJson.Default.SecretInfo, default);
        (await HearAsync(service.Api, session, Hostname, usesVault: true)).Output.ShouldBe("quay-ticket-01\n");
    }

    [Fact]
    public async Task A_host_that_allows_none_says_so()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01", state => HostLimit.Write(state.LimitFile, new HostPolicyPart(Allowed: [HostAct.Run])));
        (await HearAsync(service.Api, await SessionAsync(service.Api, agent.Id), Hostname)).Last.Problem!.ShouldContain("does not allow shells");
    }

    [Fact]
    public async Task A_shell_goes_on_for_its_technician_alone_and_ends_with_his_session()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        using var odile = await service.JoinedByAsync("Odile Marsh");
        var his = await SessionAsync(tomasz, agent.Id);
        ShellOpened? opened = null;
        using (var socket = (await ChannelSocket.OpenAsync(tomasz, null, his.Id, new NewChannel(ChannelKinds.Shell, Terminal), default)).Socket)
        {
            using var frames = new ShellFrames(socket);
            while (opened is null)
            {
                opened = (await frames.ReceiveAsync(default))!.Value.Word?.Opened;
            }
            await socket.CloseAsync(WebSocketCloseStatus.NormalClosure, null, default);
        }
        await Wait.UntilAsync(async () => (await ListAsync(tomasz, agent.Id)) is [{ IsAttended: false, IsTerminal: true, CommandText: "login shell" }], "nobody to be connected to it");

        // Another technician sees nothing of it, who administers the place sees it; neither gets into it.
        (await ListAsync(odile, agent.Id)).ShouldBeEmpty();
        (await ListAsync(service.Api, agent.Id)).ShouldHaveSingleItem().Technician.ShouldBe("Tomasz Vail");
        (await HearAsync(service.Api, await SessionAsync(service.Api, agent.Id), Terminal with { ShellId = opened!.ShellId })).Last.Problem!.ShouldContain("has ended");
        (await Should.ThrowAsync<ApiException>(() => odile.ActAsync(HttpMethod.Post, $"hosts/{agent.Id}/shells/{opened.ShellId}/end", default))).Problem.Status.ShouldBe(404);

        await tomasz.ActAsync(HttpMethod.Post, $"sessions/{his.Id}/end", default);
        await Wait.UntilAsync(async () => (await ListAsync(service.Api, agent.Id)).Count == 0, "the shell to end with its session");
    }

    [Fact]
    public async Task Who_administers_the_place_ends_anybodys_shell()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        var hearing = HearAsync(tomasz, await SessionAsync(tomasz, agent.Id), Terminal);
        await Wait.UntilAsync(async () => (await ListAsync(service.Api, agent.Id)) is [{ IsAttended: true }], "it to be connected to");
        var shell = (await ListAsync(service.Api, agent.Id)).Single();
        await service.Api.ActAsync(HttpMethod.Post, $"hosts/{agent.Id}/shells/{shell.Id}/end", default);
        (await hearing).Last.Ended!.Reason.ShouldBe("its session ended");
        await Wait.UntilAsync(async () => (await ListAsync(service.Api, agent.Id)).Count == 0, "it to be gone");
    }
}
