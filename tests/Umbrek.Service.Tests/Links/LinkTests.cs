using System.Net.WebSockets;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Links;
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
    [InlineData("{\"type\":1,\"target\":\"Goodbye\",\"arguments\":[{\"reason\":2}]}\u001e")]
    [InlineData("{\"type\":1,\"target\":\"Samples\",\"arguments\":[{}]}\u001e")]
    [InlineData("{\"type\":1,\"target\":\"RunEvents\",\"arguments\":[{\"events\":[null]}]}\u001e")]
    [InlineData("not json at all\u001e")]
    [InlineData("oversize")]
    [InlineData("too many samples")]
    public async Task A_hostile_agents_link_is_closed_and_nobody_else_notices(string message)
    {
        await using var service = await TestService.StartAsync();
        await using var bystander = await service.LinkAsync("plover-log-01");
        // It has proven its key and is linked: what it says now is what ends its link.
        var (identity, _) = await service.EnrolAsync("quay-ticket-01");
        using var hostile = await SayHelloAsync(service, identity);
        (await service.HostAsync("quay-ticket-01")).Presence.State.ShouldBe(PresenceState.Linked);
        await SendAsync(hostile, message switch
        {
            "oversize" => $"{{\"type\":1,\"target\":\"Samples\",\"arguments\":[\"{new string('x', 40_000)}\"]}}\u001e",
            "too many samples" => $"{{\"type\":1,\"target\":\"Samples\",\"arguments\":[{{\"samples\":[{string.Join(',', Enumerable.Repeat("{\"at\":\"2026-11-23T12:00:00Z\"}", 21))}]}}]}}\u001e",
            _ => message,
        });
        await UntilClosedAsync(hostile);
        await Wait.UntilAsync(async () => (await service.HostAsync("quay-ticket-01")).Presence.State == PresenceState.Away, "the hostile host to be away");

        bystander.IsLinked.ShouldBeTrue();
        await bystander.SendSampleAsync(default);
        await Wait.UntilAsync(async () => (await service.HostAsync("plover-log-01")).ProcessorPercent is not null, "the other host's sample");
    }

    [Fact]
    public async Task A_link_that_says_nothing_wrong_stays_open()
    {
        await using var service = await TestService.StartAsync();
        var (identity, _) = await service.EnrolAsync("quay-ticket-01");
        using var honest = await SayHelloAsync(service, identity);
        await SendAsync(honest, $"{{\"type\":1,\"target\":\"Samples\",\"arguments\":[{{\"samples\":[{{\"at\":\"{DateTimeOffset.UtcNow:yyyy-MM-ddTHH:mm:ssZ}\",\"processorPercent\":7}}]}}]}}\u001e");
        (await ReadUntilAsync(honest, "SamplesKept")).ShouldContain("upTo");
        honest.State.ShouldBe(WebSocketState.Open);
    }

    [Fact]
    public async Task A_link_that_speaks_before_its_hello_is_cut_at_once_and_one_that_only_waits_is_not()
    {
        // The clock stands still: nobody is cut for being late.
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time);
        using var waits = await BeginAsync(service);
        using var speaks = await BeginAsync(service);
        var waiting = UntilClosedAsync(waits);
        // Well formed, and taken without a word from a host that has proven who it is.
        await SendAsync(speaks, "{\"type\":1,\"target\":\"Goodbye\",\"arguments\":[{\"reason\":\"agent-stopped\"}]}\u001e");
        await UntilClosedAsync(speaks);
        waiting.IsCompleted.ShouldBeFalse();
        time.Advance(LinkProtocol.HelloWithin);
        await waiting;
        service.Get<LinkRegistry>().Count.ShouldBe(0);
    }

    /// <summary>A link up to the handshake of its protocol, and no further.</summary>
    private static async Task<ClientWebSocket> BeginAsync(TestService service)
    {
        var socket = new ClientWebSocket();
        await socket.ConnectAsync(new UriBuilder(service.Address) { Scheme = "ws", Path = LinkProtocol.Path }.Uri, default);
        await SendAsync(socket, HandshakeDone);
        return socket;
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
        mute.FallSilent();
        (await Should.ThrowAsync<HostUnreachableException>(() => links.AskAsync(id, new HostRequest(HostRequest.Facts), TimeSpan.FromMilliseconds(200), default))).Message.ShouldNotBeEmpty();
        (await Should.ThrowAsync<HostUnreachableException>(() => links.AskAsync(Guid.NewGuid(), new HostRequest(HostRequest.Facts), TimeSpan.FromSeconds(5), default))).Message.ShouldContain("away");
        mute.IsLinked.ShouldBeTrue();
    }

    private static Task SendAsync(ClientWebSocket socket, string text) => socket.SendAsync(Encoding.UTF8.GetBytes(text), WebSocketMessageType.Text, true, default);

    /// <summary>A link written by hand from docs/protocol.md: handshake, challenge, hello.</summary>
    private static async Task<ClientWebSocket> SayHelloAsync(TestService service, AgentIdentity identity)
    {
        var socket = new ClientWebSocket();
        await socket.ConnectAsync(new UriBuilder(service.Address) { Scheme = "ws", Path = LinkProtocol.Path }.Uri, default);
        await SendAsync(socket, HandshakeDone);
        var challenge = JsonDocument.Parse(await ReadUntilAsync(socket, "Challenge")).RootElement.GetProperty("arguments")[0];
        using var key = identity.OpenKey();
        var proof = LinkProof.Sign(key, identity.HostId, identity.ServiceKeySha256, challenge.GetProperty("nonce").GetBytesFromBase64());
        await SendAsync(socket, JsonSerializer.Serialize(new
        {
            type = 1,
            invocationId = "1",
            target = "Hello",
            arguments = new[] { new { version = 1, hostId = identity.HostId, proof, agentVersion = "0", systemName = "quay-ticket-01", hostTime = DateTimeOffset.UtcNow, unfinishedRuns = Array.Empty<Guid>() } },
        }) + "\u001e");
        (await ReadUntilAsync(socket, "\"invocationId\":\"1\"")).ShouldContain("\"refusal\":\"none\"");
        return socket;
    }

    /// <summary>The first message from here on that holds a word.</summary>
    private static async Task<string> ReadUntilAsync(ClientWebSocket socket, string word)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        var buffer = new byte[16 * 1024];
        while (true)
        {
            var got = await socket.ReceiveAsync(buffer, limit.Token);
            got.MessageType.ShouldNotBe(WebSocketMessageType.Close);
            if (Encoding.UTF8.GetString(buffer, 0, got.Count).Split('\u001e').FirstOrDefault(m => m.Contains(word, StringComparison.Ordinal)) is { } message)
            {
                return message;
            }
        }
    }

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

