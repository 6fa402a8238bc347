using System.Net.WebSockets;
using System.Text.Json;

namespace Umbrek.Wire.Sessions;

/// <summary>Frames of a key channel on a WebSocket.</summary>
public sealed class KeyFrames(WebSocket socket)
{
    private readonly byte[] buffer = new byte[KeyFrame.MaxBytes];

    public Task SendAsync(KeyFrame frame, CancellationToken cancel) =>
        socket.SendAsync(JsonSerializer.SerializeToUtf8Bytes(frame, LinkJson.Default.KeyFrame), WebSocketMessageType.Text, true, cancel);

    /// <returns>Null when the other side closed the channel.</returns>
    /// <exception cref="InvalidDataException">What came is no frame.</exception>
    public async Task<KeyFrame?> ReceiveAsync(CancellationToken cancel)
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
                throw new InvalidDataException("a frame is longer than any of this kind of channel");
            }
        }
        try
        {
            return JsonSerializer.Deserialize(buffer.AsSpan(0, length), LinkJson.Default.KeyFrame) ?? throw new InvalidDataException("a frame is empty");
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
