using System.Net.WebSockets;
using System.Security.Cryptography;
using System.Text;
using Umbrek.Agent.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Service.Links;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Simulation.Links;
using Umbrek.Tests;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Tests.Links;

public sealed class LinkTests
{
    private const string HandshakeDone = "{\"protocol\":\"json\",\"version\":1}\u001e";

    [Fact]
    public async Task A_host_with_another_key_is_refused()
    {
        await using var service = await TestService.StartAsync();
        var (identity, host) = await service.EnrolAsync("quay-ticket-01");
        using var other = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        await using var forged = new LightHost(identity with { PrivateKey = other.ExportPkcs8PrivateKey() }, host, TimeProvider.System);
        (await Should.ThrowAsync<InvalidOperationException>(() => forged.ConnectAsync(default))).Message.ShouldContain("proof");
        await using var unknown = new LightHost(identity with { HostId = Guid.CreateVersion7() }, host, TimeProvider.System);
        (await Should.ThrowAsync<InvalidOperationException>(() => unknown.ConnectAsync(default))).Message.ShouldContain("does not know");
        (await service.HostAsync("quay-ticket-01")).Presence.State.ShouldBe(PresenceState.Expected);
    }

    [Theory]
    [InlineData("{\"type\":1,\"target\":\"Samples\",\"arguments\":[{\"samples\":\"many\"}]}\u001e")]
    [InlineData("{\"type\":1,\"target\":\"Samples\",\"arguments\":[]}\u001e")]
    [InlineData("{\"type\":1,\"target\":\"RunEvents\",\"arguments\":[{\"events\":[{\"runId\":\"x\"}]}]}\u001e")]
    [InlineData("{\"type\":1,\"target\":\"Goodbye\",\"arguments\":[{\"reason\":\"agent-stopped\"}]}\u001e")]
    [InlineData("not json at all\u001e")]
    [InlineData("oversize")]
    public async Task A_hostile_agents_link_is_closed_and_nobody_else_notices(string message)
    {
        await using var service = await TestService.StartAsync();
        await using var bystander = await service.LinkAsync("plover-log-01");
        using var hostile = new ClientWebSocket();
        await hostile.ConnectAsync(new UriBuilder(service.Address) { Scheme = "ws", Path = LinkProtocol.Path }.Uri, default);
        await SendAsync(hostile, HandshakeDone);
        await SendAsync(hostile, message == "oversize" ? $"{{\"type\":1,\"target\":\"Samples\",\"arguments\":[\"{new string('x', 40_000)}\"]}}\u001e" : message);
        await UntilClosedAsync(hostile);

        bystander.IsLinked.ShouldBeTrue();
        await bystander.SendSampleAsync(default);
        await Wait.UntilAsync(async () => (await service.HostAsync("plover-log-01")).ProcessorPercent is not null, "the other host's sample");
    }

    [Fact]
    public async Task Nothing_is_heard_before_the_hello()
    {
        await using var service = await TestService.StartAsync();
        using var silent = new ClientWebSocket();
        await silent.ConnectAsync(new UriBuilder(service.Address) { Scheme = "ws", Path = LinkProtocol.Path }.Uri, default);
        await SendAsync(silent, HandshakeDone);
        await SendAsync(silent, "{\"type\":1,\"target\":\"Samples\",\"arguments\":[{\"samples\":[]}]}\u001e");
        await UntilClosedAsync(silent);
    }

    [Fact]
    public async Task The_late_end_of_an_old_connection_leaves_the_new_one_alone()
    {
        await using var service = await TestService.StartAsync();
        var (identity, host) = await service.EnrolAsync("dunlin-log-01");
        await using var old = new LightHost(identity, host, TimeProvider.System);
        await old.ConnectAsync(default);
        await using var fresh = new LightHost(identity, host, TimeProvider.System);
        await fresh.ConnectAsync(default);
        await Wait.UntilAsync(() => !old.IsLinked, "the old connection to be closed");
        (await service.HostAsync("dunlin-log-01")).Presence.State.ShouldBe(PresenceState.Linked);
        service.Get<LinkRegistry>().Count.ShouldBe(1);
        fresh.IsLinked.ShouldBeTrue();
    }

    [Fact]
    public async Task Asking_a_host_that_is_away_or_does_not_answer_ends_with_a_sentence()
    {
        await using var service = await TestService.StartAsync();
        await using var mute = await service.LinkAsync("dunlin-log-01");
        var links = service.Get<IAgentLinks>();
        var id = (await service.HostAsync("dunlin-log-01")).Id;
        // This kind of host has no handler for questions: the answer never comes, or comes as a failure.
        (await Should.ThrowAsync<HostUnreachableException>(() => links.AskAsync(id, new HostRequest(HostRequest.Facts), TimeSpan.FromMilliseconds(200), default))).Message.ShouldNotBeEmpty();
        (await Should.ThrowAsync<HostUnreachableException>(() => links.AskAsync(Guid.NewGuid(), new HostRequest(HostRequest.Facts), TimeSpan.FromSeconds(5), default))).Message.ShouldContain("away");
        mute.IsLinked.ShouldBeTrue();
    }

    private static Task SendAsync(ClientWebSocket socket, string text) => socket.SendAsync(Encoding.UTF8.GetBytes(text), WebSocketMessageType.Text, true, default);

    private static async Task UntilClosedAsync(ClientWebSocket socket)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        var buffer = new byte[4096];
        try
        {
            while ((await socket.ReceiveAsync(buffer, limit.Token)).MessageType != WebSocketMessageType.Close)
            {
            }
        }
        catch (WebSocketException)
        {
            // Cut off without a closing handshake: closed all the same.
        }
    }
}

