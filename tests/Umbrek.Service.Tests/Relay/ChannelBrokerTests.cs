using System.Collections.Concurrent;
using System.Net.WebSockets;
using System.Security.Cryptography;
using System.Text.Json;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Service.Relay;
using Umbrek.Wire;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Tests.Relay;

/// <summary>The two ends of a channel over real WebSockets, without sessions, hosts or a database.</summary>
public sealed class ChannelBrokerTests : IAsyncLifetime
{
    private readonly CountedTime time = new();
    private readonly CancellationTokenSource session = new();
    private WebApplication app = null!;
    private ChannelBroker broker = null!;
    private Uri address = null!;
    private int uses;
    private int overs;

    public async ValueTask InitializeAsync()
    {
        broker = new ChannelBroker(time);
        var builder = WebApplication.CreateSlimBuilder();
        builder.WebHost.UseUrls("http://127.0.0.1:0");
        builder.Logging.ClearProviders();
        app = builder.Build();
        app.UseWebSockets();
        app.Run(broker.ServeAsync);
        await app.StartAsync();
        address = new UriBuilder(app.Services.GetRequiredService<IServer>().Features.Get<IServerAddressesFeature>()!.Addresses.Single()) { Scheme = "ws", Path = ChannelJoin.Path }.Uri;
    }

    public async ValueTask DisposeAsync()
    {
        await session.CancelAsync();
        await app.DisposeAsync();
        session.Dispose();
    }

    private (string Technician, string Host) Open(IChannelTap? tap = null, int window = ChannelBroker.SmallWindow) =>
        broker.Open(() => Interlocked.Increment(ref uses), () => Interlocked.Increment(ref overs), tap, window, session.Token);

    private async Task<ClientWebSocket> ComeAsync(string ticket)
    {
        var socket = new ClientWebSocket();
        await socket.ConnectAsync(address, default);
        await socket.SendAsync(JsonSerializer.SerializeToUtf8Bytes(new ChannelJoin(ticket), WireJson.Default.ChannelJoin), WebSocketMessageType.Text, true, default);
        return socket;
    }

    private async Task<(ClientWebSocket Technician, ClientWebSocket Host)> BothAsync(IChannelTap? tap = null, int window = ChannelBroker.SmallWindow)
    {
        var (technician, host) = Open(tap, window);
        return (await ComeAsync(technician), await ComeAsync(host));
    }

    /// <summary>One whole message, or null where the other side has closed.</summary>
    private static async Task<(WebSocketMessageType Type, byte[] Bytes)?> HearAsync(ClientWebSocket socket)
    {
        using var whole = new MemoryStream();
        var buffer = new byte[10_000];
        while (true)
        {
            var got = await socket.ReceiveAsync(buffer, default).WaitAsync(TimeSpan.FromSeconds(20));
            if (got.MessageType == WebSocketMessageType.Close)
            {
                return null;
            }
            whole.Write(buffer, 0, got.Count);
            if (got.EndOfMessage)
            {
                return (got.MessageType, whole.ToArray());
            }
        }
    }

    private static async Task ClosesAsync(ClientWebSocket socket, WebSocketCloseStatus status, string why)
    {
        (await HearAsync(socket)).ShouldBeNull();
        socket.CloseStatus.ShouldBe(status);
        socket.CloseStatusDescription.ShouldNotBeNull().ShouldStartWith(why);
    }

    [Theory]
    [InlineData(ChannelBroker.SmallWindow)]
    [InlineData(ChannelBroker.LargeWindow)]
    public async Task Messages_arrive_whole_in_order_and_of_their_kind_both_ways(int window)
    {
        var (technician, host) = await BothAsync(window: window);
        // Around the window's size, and many windows long.
        int[] sizes = [0, 1, window - 1, window, window + 1, 5 * window + 3];
        foreach (var (from, to) in ((ClientWebSocket, ClientWebSocket)[])[(technician, host), (host, technician)])
        {
            // Text is to be UTF-8 (RFC 6455, 5.6); both kinds of each size.
            var sent = sizes.SelectMany(s => new[] { (WebSocketMessageType.Binary, RandomNumberGenerator.GetBytes(s)), (WebSocketMessageType.Text, RandomNumberGenerator.GetHexString(s, lowercase: true).Select(c => (byte)c).ToArray()) }).ToList();
            var sending = Task.Run(async () =>
            {
                foreach (var (type, bytes) in sent)
                {
                    await from.SendAsync(bytes, type, true, default);
                }
            });
            foreach (var (type, bytes) in sent)
            {
                var heard = (await HearAsync(to))!.Value;
                heard.Type.ShouldBe(type);
                heard.Bytes.AsSpan().SequenceEqual(bytes).ShouldBeTrue($"{bytes.Length} bytes");
            }
            await sending;
        }
        uses.ShouldBeGreaterThanOrEqualTo(2 * sizes.Length);
    }

    [Fact]
    public async Task A_ticket_opens_one_end_once_and_nothing_else_opens_any()
    {
        var (ticket, hostTicket) = Open();
        using var technician = await ComeAsync(ticket);
        using var host = await ComeAsync(hostTicket);
        await technician.SendAsync("in"u8.ToArray(), WebSocketMessageType.Text, true, default);
        (await HearAsync(host)).ShouldNotBeNull();
        foreach (var used in (string[])[ticket, hostTicket, "", "not a ticket", Convert.ToBase64String(RandomNumberGenerator.GetBytes(32))])
        {
            using var again = await ComeAsync(used);
            await ClosesAsync(again, WebSocketCloseStatus.PolicyViolation, "The ticket is unknown, used or over.");
        }
        using var wordless = new ClientWebSocket();
        await wordless.ConnectAsync(address, default);
        await wordless.SendAsync("{"u8.ToArray(), WebSocketMessageType.Text, true, default);
        await ClosesAsync(wordless, WebSocketCloseStatus.PolicyViolation, "The ticket is unknown, used or over.");
        using var http = new HttpClient();
        (await http.GetAsync(new UriBuilder(address) { Scheme = "http" }.Uri)).StatusCode.ShouldBe(System.Net.HttpStatusCode.BadRequest);
        // None of them has cut the two that are there.
        await host.SendAsync("still"u8.ToArray(), WebSocketMessageType.Text, true, default);
        (await HearAsync(technician))!.Value.Bytes.ShouldBe("still"u8.ToArray());
    }

    [Fact]
    public async Task A_technician_hears_that_the_host_does_not_come_and_the_ticket_is_over()
    {
        var (ticket, hostTicket) = Open();
        using var technician = await ComeAsync(ticket);
        await PassAsync(ClosesAsync(technician, WebSocketCloseStatus.EndpointUnavailable, "The host did not come"));
        await Umbrek.Tests.Wait.UntilAsync(() => overs == 1, "the channel to be over");
        using var late = await ComeAsync(hostTicket);
        await ClosesAsync(late, WebSocketCloseStatus.PolicyViolation, "The ticket is unknown, used or over.");
    }

    [Fact]
    public async Task A_host_hears_that_nobody_comes_and_the_channel_is_over_once()
    {
        var (_, hostTicket) = Open();
        using var host = await ComeAsync(hostTicket);
        await PassAsync(ClosesAsync(host, WebSocketCloseStatus.EndpointUnavailable, "Nobody came to the other end."));
        await Umbrek.Tests.Wait.UntilAsync(() => overs == 1, "the channel to be over");
    }

    /// <summary>Lets a ticket's time pass once the end that came is waited with: two waits are those of the tickets themselves.</summary>
    private async Task PassAsync(Task closed)
    {
        await Umbrek.Tests.Wait.UntilAsync(() => time.Waits == 3, "the end to be served");
        time.Advance(ChannelJoin.Within);
        await closed;
    }

    /// <summary>A clock that stands still, and counts who waits for as long as a ticket is good.</summary>
    private sealed class CountedTime() : FakeTimeProvider(DateTimeOffset.UtcNow)
    {
        private int waits;

        public int Waits => Volatile.Read(ref waits);

        public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period)
        {
            var timer = base.CreateTimer(callback, state, dueTime, period);
            if (dueTime == ChannelJoin.Within)
            {
                Interlocked.Increment(ref waits);
            }
            return timer;
        }
    }

    [Fact]
    public async Task The_end_of_a_session_closes_both_ends_and_what_is_said_after_it_reaches_nobody()
    {
        var (technician, host) = await BothAsync();
        await technician.SendAsync("before"u8.ToArray(), WebSocketMessageType.Text, true, default);
        (await HearAsync(host)).ShouldNotBeNull();
        await session.CancelAsync();
        await technician.SendAsync("after"u8.ToArray(), WebSocketMessageType.Text, true, default);
        await ClosesAsync(technician, WebSocketCloseStatus.EndpointUnavailable, "The session has ended.");
        await ClosesAsync(host, WebSocketCloseStatus.EndpointUnavailable, "The session has ended.");
    }

    [Fact]
    public async Task A_technician_hears_of_the_sessions_end_though_the_host_closes_at_the_same_moment()
    {
        var technicians = new List<ClientWebSocket>();
        for (var i = 0; i < 20; i++)
        {
            var (technician, host) = await BothAsync();
            await host.SendAsync("here"u8.ToArray(), WebSocketMessageType.Text, true, default);
            (await HearAsync(technician)).ShouldNotBeNull();
            technicians.Add(technician);
            // What is registered last is called first: the host closes before the relay has heard of the end.
            session.Token.Register(() => host.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, default).GetAwaiter().GetResult());
        }
        await session.CancelAsync();
        foreach (var technician in technicians)
        {
            await ClosesAsync(technician, WebSocketCloseStatus.EndpointUnavailable, "The session has ended.");
        }
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task Why_one_end_closes_the_other_is_told(bool hostCloses)
    {
        var (technician, host) = await BothAsync();
        var (closes, hears) = hostCloses ? (host, technician) : (technician, host);
        await closes.SendAsync("last word"u8.ToArray(), WebSocketMessageType.Text, true, default);
        await closes.CloseOutputAsync(WebSocketCloseStatus.PolicyViolation, "The screen is locked.", default);
        (await HearAsync(hears))!.Value.Bytes.ShouldBe("last word"u8.ToArray());
        await ClosesAsync(hears, WebSocketCloseStatus.PolicyViolation, "The screen is locked.");
        await hears.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, default);
        await Umbrek.Tests.Wait.UntilAsync(() => overs == 1, "the channel to be over");
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task An_end_that_is_cut_off_is_told_to_the_other(bool hostGoes)
    {
        var (technician, host) = await BothAsync();
        var (goes, stays) = hostGoes ? (host, technician) : (technician, host);
        await goes.SendAsync("here"u8.ToArray(), WebSocketMessageType.Text, true, default);
        (await HearAsync(stays)).ShouldNotBeNull();
        goes.Abort();
        await ClosesAsync(stays, WebSocketCloseStatus.EndpointUnavailable, "The other end went away.");
    }

    [Fact]
    public async Task A_tap_sees_each_piece_before_the_other_end_and_what_it_refuses_does_not_go_on()
    {
        var tap = new Tap();
        var (technician, host) = await BothAsync(tap);
        await technician.SendAsync("dir"u8.ToArray(), WebSocketMessageType.Text, true, default);
        (await HearAsync(host)).ShouldNotBeNull();
        tap.Seen.ShouldBe(["to the host: dir"]);
        await host.SendAsync("a b"u8.ToArray(), WebSocketMessageType.Text, true, default);
        (await HearAsync(technician)).ShouldNotBeNull();
        tap.Seen.ShouldBe(["to the host: dir", "from the host: a b"]);

        await host.SendAsync("refuse this"u8.ToArray(), WebSocketMessageType.Text, true, default);
        await ClosesAsync(technician, WebSocketCloseStatus.EndpointUnavailable, "The disk is full.");
        await ClosesAsync(host, WebSocketCloseStatus.EndpointUnavailable, "The disk is full.");
        await Umbrek.Tests.Wait.UntilAsync(() => tap.IsOver, "the tap to be told");
    }

    private sealed class Tap : IChannelTap
    {
        public ConcurrentQueue<string> Seen { get; } = new();

        public bool IsOver { get; private set; }

        public void See(bool fromHost, WebSocketMessageType type, ReadOnlySpan<byte> bytes, bool endOfMessage)
        {
            var text = System.Text.Encoding.UTF8.GetString(bytes);
            if (text.StartsWith("refuse", StringComparison.Ordinal))
            {
                throw new ChannelTapException("The disk is full.");
            }
            Seen.Enqueue($"{(fromHost ? "from" : "to")} the host: {text}");
        }

        public void Over() => IsOver = true;
    }

    [Fact]
    public async Task A_slow_end_holds_up_the_other_and_nothing_piles_up_in_between()
    {
        const int total = 96 * 1024 * 1024;
        // What the kernel keeps for two connections on the loopback (tcp_rmem, tcp_wmem: 6 and 4 MiB at most) and two windows.
        const int most = 2 * (6 + 4) * 1024 * 1024 + 2 * ChannelBroker.LargeWindow;
        var (technician, host) = await BothAsync(window: ChannelBroker.LargeWindow);
        var sent = 0L;
        var sending = Task.Run(async () =>
        {
            var piece = new byte[ChannelBroker.LargeWindow];
            while (sent < total)
            {
                await host.SendAsync(piece, WebSocketMessageType.Binary, true, default);
                Interlocked.Add(ref sent, piece.Length);
            }
        });
        // Nothing is read until the sender is held up, or has sent all; what is ahead of the reader is then what lies in between.
        var (read, ahead, buffer) = (0L, 0L, new byte[ChannelBroker.LargeWindow]);
        var still = 0;
        for (var before = -1L; still < 50 && !sending.IsCompleted; before = Interlocked.Read(ref sent))
        {
            await Task.Yield();
            Thread.Yield();
            still = before == Interlocked.Read(ref sent) && before > 1024 * 1024 ? still + 1 : 0;
        }
        while (read < total)
        {
            ahead = Math.Max(ahead, Interlocked.Read(ref sent) - read);
            read += (await technician.ReceiveAsync(buffer.AsMemory(), default).AsTask().WaitAsync(TimeSpan.FromSeconds(20))).Count;
        }
        await sending;
        read.ShouldBe(total);
        ahead.ShouldBeLessThanOrEqualTo(most);
    }
}
