using System.Net.WebSockets;
using System.Text.Json;
using Umbrek.Wire.Api;
using Umbrek.Wire.Links;

namespace Umbrek.Wire.Sessions;

/// <summary>The technician's way to a channel.</summary>
public static class ChannelSocket
{
    /// <summary>Opens a channel of a session of one's own and comes to it; the host may still be on its way.</summary>
    /// <param name="pin">The service's key as the caller trusts it; null trusts the system's certificate authorities.</param>
    /// <returns>The socket, which the caller disposes, and what the service said of the channel.</returns>
    /// <exception cref="ApiException">The service does not open it.</exception>
    /// <exception cref="WebSocketException">The way to it is broken.</exception>
    public static async Task<(ClientWebSocket Socket, ChannelTicket Ticket)> OpenAsync(ApiClient api, ServicePin? pin, Guid sessionId, NewChannel wish, CancellationToken cancel)
    {
        var ticket = await api.PostAsync($"sessions/{sessionId}/channels", wish, WireJson.Default.NewChannel, WireJson.Default.ChannelTicket, cancel).ConfigureAwait(false);
        var root = api.Http.BaseAddress!;
        var socket = new ClientWebSocket();
        try
        {
            if (pin is not null)
            {
                socket.Options.RemoteCertificateValidationCallback = pin.Validate;
            }
            socket.Options.KeepAliveInterval = LinkProtocol.PingInterval;
            socket.Options.KeepAliveTimeout = LinkProtocol.Silence;
            await socket.ConnectAsync(new UriBuilder(new Uri(root, ticket.Path.TrimStart('/'))) { Scheme = root.Scheme == Uri.UriSchemeHttp ? "ws" : "wss" }.Uri, cancel).ConfigureAwait(false);
            await socket.SendAsync(JsonSerializer.SerializeToUtf8Bytes(new ChannelJoin(ticket.Ticket), LinkJson.Default.ChannelJoin), WebSocketMessageType.Text, true, cancel).ConfigureAwait(false);
            return (socket, ticket);
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }
}
