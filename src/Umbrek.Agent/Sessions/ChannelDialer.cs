using System.Net.WebSockets;
using System.Text.Json;
using System.Threading.Channels;
using Umbrek.Agent.Access;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;

namespace Umbrek.Agent.Sessions;

/// <summary>Comes to channels that the service opens, each over a WebSocket of its own.</summary>
public sealed class ChannelDialer(KeyDoor door, AgentLog log)
{
    /// <summary>More at once are not come to: each is a connection.</summary>
    private const int Most = 32;
    private int open;

    /// <summary>What was tried at the key.</summary>
    public ChannelReader<KeyReport> KeyReports => door.Reports;

    /// <summary>A channel of this kind takes no longer.</summary>
    private static readonly TimeSpan KeyWithin = TimeSpan.FromMinutes(2);

    /// <summary>Comes to the channel and stays until it ends; whatever goes wrong is logged.</summary>
    public async Task DialAsync(ChannelOrder order, AgentIdentity identity, CancellationToken ended)
    {
        if (Interlocked.Increment(ref open) > Most)
        {
            Interlocked.Decrement(ref open);
            log.Warning($"{order.Technician} opened a channel while {Most} are open; it was not come to");
            return;
        }
        try
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(ended);
            limit.CancelAfter(KeyWithin);
            using var socket = new ClientWebSocket();
            if (identity.Service.Scheme != Uri.UriSchemeHttp)
            {
                var pin = identity.NewPin();
                socket.Options.RemoteCertificateValidationCallback = pin.Validate;
            }
            socket.Options.KeepAliveInterval = LinkProtocol.PingInterval;
            await socket.ConnectAsync(AddressOf(identity.Service), limit.Token).ConfigureAwait(false);
            await socket.SendAsync(JsonSerializer.SerializeToUtf8Bytes(new ChannelJoin(order.Ticket), LinkJson.Default.ChannelJoin), WebSocketMessageType.Text, true, limit.Token).ConfigureAwait(false);
            switch (order.Kind)
            {
                case ChannelKinds.Key or ChannelKinds.NewKey:
                    await door.ServeAsync(new KeyFrames(socket), order, identity, limit.Token).ConfigureAwait(false);
                    break;
                default:
                    await socket.CloseAsync(WebSocketCloseStatus.PolicyViolation, $"This agent knows no channel '{order.Kind}'. Update it.", limit.Token).ConfigureAwait(false);
                    break;
            }
        }
        catch (Exception e) when (e is WebSocketException or IOException or OperationCanceledException or JsonException or InvalidDataException)
        {
            log.Warning($"the channel '{order.Kind}' for {order.Technician} ended: {e.Message}");
        }
        finally
        {
            Interlocked.Decrement(ref open);
        }
    }

    private static Uri AddressOf(Uri service)
    {
        var address = new UriBuilder(new Uri(ApiClient.Root(service), ChannelJoin.Path.TrimStart('/')));
        address.Scheme = service.Scheme == Uri.UriSchemeHttp ? "ws" : "wss";
        return address.Uri;
    }
}
