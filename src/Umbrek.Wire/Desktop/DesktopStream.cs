using System.Net.WebSockets;
using System.Text.Json;
using Umbrek.Core.Desktop;

namespace Umbrek.Wire.Desktop;

/// <summary>The host does not show a screen: what it says of it.</summary>
public sealed class DesktopRefusedException(string message) : Exception(message);

/// <summary>
/// The technician's end of a desktop's channel as a stream of RFB (RFC 6143), from when a screen is shown until that one is gone. One
/// reads, one writes.
/// </summary>
public sealed class DesktopStream : LineStream
{
    private readonly WebSocket socket;
    private readonly Action<string>? notice;
    private readonly byte[] held = new byte[64 * 1024];
    private int at;
    private int end;
    private bool isOver;
    private bool mine = true;
    private TaskCompletionSource<DeskHold>? asked;

    private DesktopStream(WebSocket socket, Action<string>? notice) => (this.socket, this.notice) = (socket, notice);

    public ScreenOpened Opened { get; private set; } = null!;

    /// <summary>Why there is no more; null where nobody said.</summary>
    public string? Why { get; private set; }

    /// <summary>Waits until the host shows a screen.</summary>
    /// <param name="notice">Told what the host says meanwhile.</param>
    /// <exception cref="DesktopRefusedException">It does not.</exception>
    public static async Task<DesktopStream> OpenAsync(WebSocket socket, Action<string>? notice, CancellationToken cancel)
    {
        var line = new DesktopStream(socket, notice);
        while (line.Opened is null)
        {
            if (!await line.ReceiveAsync(cancel).ConfigureAwait(false))
            {
                throw new DesktopRefusedException(line.Why ?? "The channel was closed.");
            }
        }
        return line;
    }

    public override async ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken cancellationToken = default)
    {
        while (at == end)
        {
            if (isOver || !await ReceiveAsync(cancellationToken).ConfigureAwait(false))
            {
                return 0;
            }
        }
        var count = Math.Min(buffer.Length, end - at);
        held.AsMemory(at, count).CopyTo(buffer);
        at += count;
        return count;
    }

    public override async ValueTask WriteAsync(ReadOnlyMemory<byte> buffer, CancellationToken cancellationToken = default) =>
        await socket.SendAsync(buffer, WebSocketMessageType.Binary, true, cancellationToken).ConfigureAwait(false);

    /// <summary>Asks for something beside RFB; the answer comes while the stream is read. One at a time.</summary>
    public async Task<DeskHold> AskAsync(DesktopAsk ask, CancellationToken cancel)
    {
        var answered = asked = new(TaskCreationOptions.RunContinuationsAsynchronously);
        await socket.SendAsync(JsonSerializer.SerializeToUtf8Bytes(ask, LinkJson.Default.DesktopAsk).AsMemory(), WebSocketMessageType.Text, true, cancel).ConfigureAwait(false);
        return await answered.Task.WaitAsync(cancel).ConfigureAwait(false);
    }

    private void Tell(DesktopHands hands)
    {
        if (hands.Mine && hands.AskedBy is { } asker)
        {
            notice?.Invoke($"{asker} asks to act here instead of you, and does in a moment, or when you leave.");
        }
        else if (hands.Mine != mine)
        {
            notice?.Invoke(hands.Mine ? "You act here now." : $"{hands.By ?? "Nobody"} acts here: what you do has no effect until he lets you.");
        }
        mine = hands.Mine;
    }

    /// <returns>False when there is no more.</returns>
    private async Task<bool> ReceiveAsync(CancellationToken cancel)
    {
        var got = await socket.ReceiveAsync(held.AsMemory(), cancel).ConfigureAwait(false);
        if (got.MessageType == WebSocketMessageType.Close)
        {
            Why ??= string.IsNullOrEmpty(socket.CloseStatusDescription) ? null : socket.CloseStatusDescription;
            return !(isOver = true);
        }
        if (got.MessageType == WebSocketMessageType.Binary)
        {
            (at, end) = (0, got.Count);
            return true;
        }
        if (!got.EndOfMessage || got.Count > DesktopWord.MaxMessage)
        {
            throw new InvalidDataException("a word is longer than any of a desktop");
        }
        DesktopWord word;
        try
        {
            word = JsonSerializer.Deserialize(held.AsSpan(0, got.Count), LinkJson.Default.DesktopWord) ?? throw new JsonException();
        }
        catch (JsonException e)
        {
            throw new InvalidDataException("a word of a desktop is malformed", e);
        }
        if (word.Notice is { } text)
        {
            notice?.Invoke(text);
        }
        if (word.Hold is { } hold)
        {
            asked?.TrySetResult(hold);
        }
        if (word.Typed is { } secret)
        {
            notice?.Invoke($"The secret '{secret}' was typed.");
        }
        if (word.Hands is { } hands)
        {
            Tell(hands);
        }
        Opened ??= word.Opened!;
        if (word.Person is { } person && Opened is not null)
        {
            Opened = Opened with { Person = person.Name };
            notice?.Invoke(person.ToString());
        }
        Why = word.Refusal ?? word.Gone ?? Why;
        isOver = word.Refusal is not null || word.Gone is not null;
        return !isOver;
    }
}
