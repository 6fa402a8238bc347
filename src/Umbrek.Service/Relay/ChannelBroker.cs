using System.Collections.Concurrent;
using System.Net.WebSockets;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Umbrek.Wire;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Relay;

/// <summary>
/// Brings the two ends of a channel together by tickets that are good once, and carries what they say both ways without looking at it;
/// a tap may see it first. A slow end holds up the other: nothing piles up in between.
/// </summary>
public sealed class ChannelBroker(TimeProvider time)
{
    /// <summary>What is carried at a time, of channels on which people type.</summary>
    public const int SmallWindow = 16 * 1024;

    /// <summary>The same of channels that move much.</summary>
    public const int LargeWindow = 64 * 1024;

    private const string Lost = "The other end went away.";
    private const string SessionEnded = "The session has ended.";
    private static readonly TimeSpan LastWords = TimeSpan.FromSeconds(5);

    private readonly ConcurrentDictionary<string, (Channel Channel, bool IsHost)> tickets = new();

    /// <param name="used">Called with whatever goes over it.</param>
    /// <param name="over">Called once, when nobody comes to it any more.</param>
    /// <param name="tap">Sees what goes over it.</param>
    private sealed class Channel(Action used, Action over, IChannelTap? tap, int window, CancellationToken ended)
    {
        private int isOver;

        public CancellationToken Ended { get; } = ended;

        public IChannelTap? Tap { get; } = tap;

        public int Window => window;

        public void Use() => used();

        public void End()
        {
            if (Interlocked.Exchange(ref isOver, 1) == 0)
            {
                Tap?.Over();
                over();
            }
        }

        /// <summary>The technician's end has come.</summary>
        public TaskCompletionSource Met { get; } = new(TaskCreationOptions.RunContinuationsAsynchronously);
        public TaskCompletionSource<WebSocket> Host { get; } = new(TaskCreationOptions.RunContinuationsAsynchronously);
        public TaskCompletionSource Over { get; } = new(TaskCreationOptions.RunContinuationsAsynchronously);
    }

    /// <summary>A ticket for either end.</summary>
    /// <param name="used">Called whenever something goes over it.</param>
    /// <param name="over">Called once it has ended, or nobody came to it in time.</param>
    /// <param name="ended">Ends the channel, with the session that it belongs to.</param>
    /// <param name="tap">Sees what goes over it; null where nobody looks.</param>
    /// <param name="window">How many bytes are carried at a time, each way.</param>
    public (string Technician, string Host) Open(Action used, Action over, IChannelTap? tap, int window, CancellationToken ended)
    {
        var channel = new Channel(used, over, tap, window, ended);
        return (Give(channel, isHost: false), Give(channel, isHost: true));
    }

    /// <summary>A channel whose technician's end is the service itself.</summary>
    /// <returns>The host's ticket; its socket, once it has come; and what lets it go.</returns>
    public (string Ticket, Task<WebSocket> Host, Action LetGo) OpenOwn(CancellationToken ended)
    {
        var channel = new Channel(() => { }, () => { }, null, SmallWindow, ended);
        channel.Met.SetResult();
        return (Give(channel, isHost: true), channel.Host.Task.WaitAsync(ChannelJoin.Within, time, ended), () => channel.Over.TrySetResult());
    }

    /// <summary>Comes to the technician's end of a channel here in the service, for a technician.</summary>
    /// <exception cref="TimeoutException">The host does not come.</exception>
    /// <exception cref="InvalidOperationException">The ticket is unknown, used or over.</exception>
    public async Task<OwnEnd> ComeAsync(string ticket, CancellationToken cancel)
    {
        if (!tickets.TryRemove(Hash(ticket), out var place) || place.IsHost)
        {
            throw new InvalidOperationException("The ticket is unknown, used or over.");
        }
        var channel = place.Channel;
        channel.Met.SetResult();
        void LetGo()
        {
            channel.Over.TrySetResult();
            channel.End();
        }
        try
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(channel.Ended, cancel);
            return new OwnEnd(await channel.Host.Task.WaitAsync(ChannelJoin.Within, time, limit.Token).ConfigureAwait(false), channel.Use, LetGo, channel.Ended);
        }
        catch
        {
            LetGo();
            throw;
        }
    }

    /// <summary>One end, from its opening to the end of the channel.</summary>
    public async Task ServeAsync(HttpContext http)
    {
        if (!http.WebSockets.IsWebSocketRequest)
        {
            http.Response.StatusCode = StatusCodes.Status400BadRequest;
            return;
        }
        using var socket = await http.WebSockets.AcceptWebSocketAsync().ConfigureAwait(false);
        if (await ReadTicketAsync(socket, http.RequestAborted).ConfigureAwait(false) is not { } ticket || !tickets.TryRemove(Hash(ticket), out var place))
        {
            await CloseAsync(socket, WebSocketCloseStatus.PolicyViolation, "The ticket is unknown, used or over. Open the channel anew.").ConfigureAwait(false);
            return;
        }
        var (channel, isHost) = place;
        if (isHost)
        {
            channel.Host.SetResult(socket);
            await StayAsync(channel, socket, http.RequestAborted).ConfigureAwait(false);
            return;
        }
        channel.Met.SetResult();
        try
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(channel.Ended, http.RequestAborted);
            var host = await channel.Host.Task.WaitAsync(ChannelJoin.Within, time, limit.Token).ConfigureAwait(false);
            await CarryAsync(socket, host, channel).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            await CloseAsync(socket, WebSocketCloseStatus.EndpointUnavailable, $"The host did not come to the channel within {ChannelJoin.Within.TotalSeconds:0} s. Look at its agent, and try again.").ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            await CloseAsync(socket, WebSocketCloseStatus.EndpointUnavailable, SessionEnded).ConfigureAwait(false);
        }
        finally
        {
            channel.Over.SetResult();
            channel.End();
        }
    }

    /// <summary>The host's end is carried by the technician's; it waits for that no longer than a ticket is good.</summary>
    private async Task StayAsync(Channel channel, WebSocket host, CancellationToken gone)
    {
        try
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(channel.Ended, gone);
            await channel.Met.Task.WaitAsync(ChannelJoin.Within, time, limit.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is TimeoutException or OperationCanceledException)
        {
            await CloseAsync(host, WebSocketCloseStatus.EndpointUnavailable, "Nobody came to the other end.").ConfigureAwait(false);
            return;
        }
        await channel.Over.Task.ConfigureAwait(false);
    }

    private static async Task CarryAsync(WebSocket technician, WebSocket host, Channel channel)
    {
        using var over = new CancellationTokenSource();
        var sessionEnded = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        using var toldOfEnd = channel.Ended.Register(() => sessionEnded.TrySetResult());
        var up = PumpAsync(technician, host, isFromHost: false, channel, over.Token);
        var down = PumpAsync(host, technician, isFromHost: true, channel, over.Token);
        var first = await Task.WhenAny(sessionEnded.Task, up, down).ConfigureAwait(false);
        // Said before a reading is cut off, after which a socket says nothing more.
        var why = channel.Ended.IsCancellationRequested ? SessionEnded
            : first.Exception?.InnerException is ChannelTapException untold ? untold.Message
            : first.IsFaulted ? Lost
            : null;
        if (why is not null)
        {
            await CloseBothAsync(technician, host, why).ConfigureAwait(false);
        }
        // Whoever ends first ends both; what the other still has to say it says now.
        over.CancelAfter(LastWords);
        await Task.WhenAll(up, down).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        await CloseBothAsync(technician, host, why ?? Lost).ConfigureAwait(false);
    }

    private static Task CloseBothAsync(WebSocket technician, WebSocket host, string why) => Task.WhenAll(
        CloseAsync(technician, WebSocketCloseStatus.EndpointUnavailable, why),
        CloseAsync(host, WebSocketCloseStatus.EndpointUnavailable, why));

    /// <summary>Carries one way until that end closes; what is said after the session's end reaches nobody.</summary>
    private static async Task PumpAsync(WebSocket from, WebSocket to, bool isFromHost, Channel channel, CancellationToken over)
    {
        var buffer = new byte[channel.Window];
        while (true)
        {
            var got = await from.ReceiveAsync(buffer.AsMemory(), over).ConfigureAwait(false);
            if (got.MessageType == WebSocketMessageType.Close)
            {
                // A host that is told of its session's end closes too; the other end hears the reason, not what came of it.
                await (channel.Ended.IsCancellationRequested
                    ? CloseAsync(to, WebSocketCloseStatus.EndpointUnavailable, SessionEnded)
                    : CloseAsync(to, from.CloseStatus ?? WebSocketCloseStatus.NormalClosure, from.CloseStatusDescription)).ConfigureAwait(false);
                return;
            }
            if (channel.Ended.IsCancellationRequested)
            {
                continue;
            }
            channel.Use();
            channel.Tap?.See(isFromHost, got.MessageType, buffer.AsSpan(0, got.Count), got.EndOfMessage);
            await to.SendAsync(buffer.AsMemory(0, got.Count), got.MessageType, got.EndOfMessage, over).ConfigureAwait(false);
        }
    }

    private static async Task CloseAsync(WebSocket socket, WebSocketCloseStatus status, string? why)
    {
        if (socket.State is not (WebSocketState.Open or WebSocketState.CloseReceived))
        {
            return;
        }
        try
        {
            using var limit = new CancellationTokenSource(LastWords);
            await socket.CloseOutputAsync(status, why, limit.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is WebSocketException or OperationCanceledException or ObjectDisposedException)
        {
            // It is gone already.
        }
    }

    private static async Task<string?> ReadTicketAsync(WebSocket socket, CancellationToken cancel)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(LastWords);
        var buffer = new byte[512];
        try
        {
            var got = await socket.ReceiveAsync(buffer.AsMemory(), limit.Token).ConfigureAwait(false);
            return got is { EndOfMessage: true, MessageType: WebSocketMessageType.Text } ? JsonSerializer.Deserialize(buffer.AsSpan(0, got.Count), WireJson.Default.ChannelJoin)?.Ticket : null;
        }
        catch (Exception e) when (e is JsonException or WebSocketException or OperationCanceledException)
        {
            return null;
        }
    }

    private string Give(Channel channel, bool isHost)
    {
        var ticket = Convert.ToBase64String(RandomNumberGenerator.GetBytes(32));
        var hash = Hash(ticket);
        tickets[hash] = (channel, isHost);
        _ = ForgetAsync(hash, channel);
        return ticket;
    }

    private async Task ForgetAsync(string hash, Channel channel)
    {
        await Task.Delay(ChannelJoin.Within, time).ConfigureAwait(false);
        if (tickets.TryRemove(hash, out var place) && !place.IsHost)
        {
            channel.End();
        }
    }

    private static string Hash(string ticket) => Convert.ToBase64String(SHA256.HashData(Encoding.UTF8.GetBytes(ticket)));
}
