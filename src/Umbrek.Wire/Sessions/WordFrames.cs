using System.Net.WebSockets;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;

namespace Umbrek.Wire.Sessions;

/// <summary>A channel that carries one JSON text after the other on a WebSocket. One sends, one receives.</summary>
/// <param name="most">Most bytes of one of them.</param>
public sealed class WordFrames<T>(WebSocket socket, JsonTypeInfo<T> type, int most) where T : class
{
    private byte[] buffer = new byte[Math.Min(most, 16 * 1024)];

    public Task SendAsync(T word, CancellationToken cancel) =>
        socket.SendAsync(JsonSerializer.SerializeToUtf8Bytes(word, type), WebSocketMessageType.Text, true, cancel);

    /// <returns>Null when the other side closed the channel.</returns>
    /// <exception cref="InvalidDataException">What came is no such text.</exception>
    public async Task<T?> ReceiveAsync(CancellationToken cancel)
    {
        var length = 0;
        while (true)
        {
            var got = await socket.ReceiveAsync(buffer.AsMemory(length), cancel).ConfigureAwait(false);
            if (got.MessageType == WebSocketMessageType.Close)
            {
                return null;
            }
            length += got.Count;
            if (got.EndOfMessage)
            {
                break;
            }
            if (length == buffer.Length)
            {
                if (length >= most)
                {
                    throw new InvalidDataException("a frame is longer than any of this kind of channel");
                }
                Array.Resize(ref buffer, Math.Min(most, 2 * length));
            }
        }
        try
        {
            return JsonSerializer.Deserialize(buffer.AsSpan(0, length), type) ?? throw new InvalidDataException("a frame is empty");
        }
        catch (JsonException e)
        {
            throw new InvalidDataException("a frame is malformed", e);
        }
    }

    /// <summary>Why the channel was closed, when it was.</summary>
    public string? ClosedBecause => string.IsNullOrEmpty(socket.CloseStatusDescription) ? null : socket.CloseStatusDescription;

    public async Task CloseAsync(CancellationToken cancel)
    {
        if (socket.State is WebSocketState.Open or WebSocketState.CloseReceived)
        {
            await socket.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, cancel).ConfigureAwait(false);
        }
    }
}
