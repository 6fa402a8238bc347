using System.Net.WebSockets;
using System.Text.Json;
using Umbrek.Core.Shell;

namespace Umbrek.Wire.Shell;

/// <summary>What came on a shell's channel: a word, or bytes of a stream (good until the next is received).</summary>
public readonly record struct ShellMessage(ShellWord? Word, ShellStream Stream, ReadOnlyMemory<byte> Data);

/// <summary>Messages of a shell's channel on a WebSocket. Several may send at once; one receives.</summary>
public sealed class ShellFrames(WebSocket socket) : IDisposable
{
    private readonly byte[] incoming = new byte[ShellWord.MaxMessage];
    private readonly byte[] outgoing = new byte[ShellWord.MaxData + 1];
    private readonly SemaphoreSlim turn = new(1);

    /// <summary>Why the channel was closed, when it was.</summary>
    public string? ClosedBecause => string.IsNullOrEmpty(socket.CloseStatusDescription) ? null : socket.CloseStatusDescription;

    public Task SendAsync(ShellWord word, CancellationToken cancel) => SendWordAsync(JsonSerializer.SerializeToUtf8Bytes(word, LinkJson.Default.ShellWord), cancel);

    /// <param name="word">A <see cref="ShellWord"/> as JSON.</param>
    public async Task SendWordAsync(ReadOnlyMemory<byte> word, CancellationToken cancel)
    {
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            await socket.SendAsync(word, WebSocketMessageType.Text, true, cancel).ConfigureAwait(false);
        }
        finally
        {
            turn.Release();
        }
    }

    /// <param name="data">At most <see cref="ShellWord.MaxData"/> bytes.</param>
    public async Task SendAsync(ShellStream stream, ReadOnlyMemory<byte> data, CancellationToken cancel)
    {
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            outgoing[0] = (byte)stream;
            data.CopyTo(outgoing.AsMemory(1));
            await socket.SendAsync(outgoing.AsMemory(0, data.Length + 1), WebSocketMessageType.Binary, true, cancel).ConfigureAwait(false);
        }
        finally
        {
            turn.Release();
        }
    }

    /// <returns>Null when the other side closed the channel.</returns>
    /// <exception cref="InvalidDataException">What came is no message of a shell.</exception>
    public async Task<ShellMessage?> ReceiveAsync(CancellationToken cancel)
    {
        var length = 0;
        while (true)
        {
            var got = await socket.ReceiveAsync(incoming.AsMemory(length), cancel).ConfigureAwait(false);
            if (got.MessageType == WebSocketMessageType.Close)
            {
                return null;
            }
            length += got.Count;
            if (got.EndOfMessage)
            {
                return Read(got.MessageType, length);
            }
            if (length == incoming.Length)
            {
                throw new InvalidDataException("a message is longer than any of a shell");
            }
        }
    }

    public async Task RefuseAsync(string problem, CancellationToken cancel)
    {
        await SendAsync(new ShellWord(Problem: problem), cancel).ConfigureAwait(false);
        await CloseAsync(cancel).ConfigureAwait(false);
    }

    public async Task CloseAsync(CancellationToken cancel)
    {
        if (socket.State is WebSocketState.Open or WebSocketState.CloseReceived)
        {
            await socket.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, cancel).ConfigureAwait(false);
        }
    }

    public void Dispose() => turn.Dispose();

    private ShellMessage Read(WebSocketMessageType type, int length)
    {
        if (type == WebSocketMessageType.Text)
        {
            try
            {
                return new ShellMessage(JsonSerializer.Deserialize(incoming.AsSpan(0, length), LinkJson.Default.ShellWord) ?? throw new InvalidDataException("a word is empty"), default, default);
            }
            catch (JsonException e)
            {
                throw new InvalidDataException("a word is malformed", e);
            }
        }
        return length > 0 && Enum.IsDefined((ShellStream)incoming[0])
            ? new ShellMessage(null, (ShellStream)incoming[0], incoming.AsMemory(1, length - 1))
            : throw new InvalidDataException("bytes came for no stream");
    }
}
