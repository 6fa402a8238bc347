using System.Buffers.Binary;
using System.Net.WebSockets;
using System.Text.Json;
using Umbrek.Wire.Sessions;

namespace Umbrek.Wire.Files;

/// <summary>What came of an answer: a word, or bytes of a file (good until the next is received).</summary>
public readonly record struct FileMessage(FileWord? Word, ReadOnlyMemory<byte> Data);

/// <summary>
/// A channel to files on a WebSocket. Questions are texts, one <see cref="FileAsk"/> each. Answers are one stream of records
/// <c>u8 kind | u32 length, little-endian | bytes</c> (1: a <see cref="FileWord"/> as JSON, 2: bytes of a file), cut into binary
/// messages wherever one is full: many small files share one. One side sends, one receives.
/// </summary>
public sealed class FileFrames(WebSocket socket)
{
    public const int MaxMessage = 64 * 1024;

    /// <summary>Most bytes of one record.</summary>
    public const int MaxRecord = MaxMessage - HeaderBytes;
    private const int HeaderBytes = 5;
    private const byte WordKind = 1;
    private const byte DataKind = 2;

    private readonly WordFrames<FileAsk> questions = new(socket, LinkJson.Default.FileAsk, FileAsk.MaxBytes);
    private byte[]? outgoing;
    private int filled;
    private byte[]? incoming;
    private int start;
    private int end;

    /// <summary>Why the channel was closed, when it was.</summary>
    public string? ClosedBecause => questions.ClosedBecause;

    public Task AskAsync(FileAsk ask, CancellationToken cancel) => questions.SendAsync(ask, cancel);

    /// <returns>The next question, or null when the technician has gone.</returns>
    /// <exception cref="InvalidDataException">What came is no question.</exception>
    public Task<FileAsk?> HearAsync(CancellationToken cancel) => questions.ReceiveAsync(cancel);

    /// <summary>Puts a word into the message that is being filled, and sends those that are full.</summary>
    public ValueTask WriteAsync(FileWord word, CancellationToken cancel) => WriteAsync(WordKind, JsonSerializer.SerializeToUtf8Bytes(word, LinkJson.Default.FileWord), cancel);

    /// <summary>The same for bytes of a file, however many.</summary>
    public async ValueTask WriteAsync(ReadOnlyMemory<byte> data, CancellationToken cancel)
    {
        while (!data.IsEmpty)
        {
            var part = data[..Math.Min(data.Length, MaxRecord)];
            await WriteAsync(DataKind, part, cancel).ConfigureAwait(false);
            data = data[part.Length..];
        }
    }

    /// <summary>Sends what is filled so far.</summary>
    public async ValueTask FlushAsync(CancellationToken cancel)
    {
        if (filled > 0)
        {
            var length = filled;
            filled = 0;
            await socket.SendAsync(outgoing.AsMemory(0, length), WebSocketMessageType.Binary, true, cancel).ConfigureAwait(false);
        }
    }

    /// <returns>Null when the host closed the channel.</returns>
    /// <exception cref="InvalidDataException">What came is no answer.</exception>
    public async ValueTask<FileMessage?> ReceiveAsync(CancellationToken cancel)
    {
        if (!await FillAsync(HeaderBytes, cancel).ConfigureAwait(false))
        {
            return null;
        }
        var kind = incoming![start];
        var length = BinaryPrimitives.ReadUInt32LittleEndian(incoming.AsSpan(start + 1));
        if (kind is not (WordKind or DataKind) || length > MaxRecord)
        {
            throw new InvalidDataException("what came is no answer about files");
        }
        if (!await FillAsync(HeaderBytes + (int)length, cancel).ConfigureAwait(false))
        {
            return null;
        }
        var record = incoming.AsMemory(start + HeaderBytes, (int)length);
        start += HeaderBytes + (int)length;
        if (kind == DataKind)
        {
            return new FileMessage(null, record);
        }
        try
        {
            return new FileMessage(JsonSerializer.Deserialize(record.Span, LinkJson.Default.FileWord) ?? throw new InvalidDataException("a word is empty"), default);
        }
        catch (JsonException e)
        {
            throw new InvalidDataException("a word is malformed", e);
        }
    }

    public Task CloseAsync(CancellationToken cancel) => questions.CloseAsync(cancel);

    private async ValueTask WriteAsync(byte kind, ReadOnlyMemory<byte> record, CancellationToken cancel)
    {
        if (record.Length > MaxRecord)
        {
            throw new InvalidDataException("a record is longer than a message");
        }
        outgoing ??= new byte[MaxMessage];
        if (filled + HeaderBytes + record.Length > outgoing.Length)
        {
            await FlushAsync(cancel).ConfigureAwait(false);
        }
        outgoing[filled] = kind;
        BinaryPrimitives.WriteUInt32LittleEndian(outgoing.AsSpan(filled + 1), (uint)record.Length);
        record.CopyTo(outgoing.AsMemory(filled + HeaderBytes));
        filled += HeaderBytes + record.Length;
    }

    /// <summary>Receives until so many bytes are there.</summary>
    /// <returns>False at the end.</returns>
    private async ValueTask<bool> FillAsync(int bytes, CancellationToken cancel)
    {
        incoming ??= new byte[2 * MaxMessage];
        if (end - start >= bytes)
        {
            return true;
        }
        if (start + bytes > incoming.Length || start == end)
        {
            incoming.AsSpan(start, end - start).CopyTo(incoming);
            (start, end) = (0, end - start);
        }
        while (end - start < bytes)
        {
            var got = await socket.ReceiveAsync(incoming.AsMemory(end), cancel).ConfigureAwait(false);
            if (got.MessageType == WebSocketMessageType.Close)
            {
                return false;
            }
            end += got.Count;
        }
        return true;
    }
}
