using System.Buffers.Binary;
using System.Net.WebSockets;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;

namespace Umbrek.Wire.Files;

/// <summary>What came of one side of a channel to files: a word, or bytes of a file (good until the next is received).</summary>
public readonly record struct FileMessage<T>(T? Word, ReadOnlyMemory<byte> Data) where T : class;

/// <summary>
/// A channel to files on a WebSocket: in both directions a stream of records <c>u8 kind | u32 length, little-endian | bytes</c>
/// (1: a word as JSON, 2: bytes of a file), cut into binary messages wherever one is full: many small files share one. The technician's
/// words are <see cref="FileAsk"/>, the host's <see cref="FileWord"/>. One side sends, one receives.
/// </summary>
public sealed class FileFrames<TOut, TIn>(WebSocket socket, JsonTypeInfo<TOut> outType, JsonTypeInfo<TIn> inType) where TOut : class where TIn : class
{
    private const int HeaderBytes = FileFrames.HeaderBytes;
    private const byte WordKind = 1;
    private const byte DataKind = 2;

    private byte[]? outgoing;
    private int filled;
    private byte[]? incoming;
    private int start;
    private int end;

    /// <summary>So much of a record of bytes has not come yet.</summary>
    private int dataLeft;

    /// <summary>Why the channel was closed, when it was.</summary>
    public string? ClosedBecause => string.IsNullOrEmpty(socket.CloseStatusDescription) ? null : socket.CloseStatusDescription;

    /// <summary>Puts a word into the message that is being filled, and sends those that are full.</summary>
    public ValueTask WriteAsync(TOut word, CancellationToken cancel) => WriteAsync(WordKind, JsonSerializer.SerializeToUtf8Bytes(word, outType), cancel);

    /// <summary>The same for bytes of a file, however many.</summary>
    public async ValueTask WriteAsync(ReadOnlyMemory<byte> data, CancellationToken cancel)
    {
        while (!data.IsEmpty)
        {
            var part = data[..Math.Min(data.Length, FileFrames.MaxRecord)];
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

    /// <summary>Sends a word, and all that was filled before it.</summary>
    public async Task SayAsync(TOut word, CancellationToken cancel)
    {
        await WriteAsync(word, cancel).ConfigureAwait(false);
        await FlushAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>The next word, or the next bytes of a file: as many of them as have come, so that none are lost that came before a line breaks.</summary>
    /// <returns>Null when the other side closed the channel.</returns>
    /// <exception cref="InvalidDataException">What came is no record.</exception>
    public async ValueTask<FileMessage<TIn>?> ReceiveAsync(CancellationToken cancel)
    {
        if (dataLeft > 0)
        {
            return await ReceiveDataAsync(cancel).ConfigureAwait(false);
        }
        if (!await FillAsync(HeaderBytes, cancel).ConfigureAwait(false))
        {
            return null;
        }
        var kind = incoming![start];
        var length = BinaryPrimitives.ReadUInt32LittleEndian(incoming.AsSpan(start + 1));
        if (kind is not (WordKind or DataKind) || length > FileFrames.MaxRecord)
        {
            throw new InvalidDataException("what came is no word about files");
        }
        if (kind == DataKind)
        {
            start += HeaderBytes;
            dataLeft = (int)length;
            return await ReceiveDataAsync(cancel).ConfigureAwait(false);
        }
        if (!await FillAsync(HeaderBytes + (int)length, cancel).ConfigureAwait(false))
        {
            return null;
        }
        var record = incoming.AsMemory(start + HeaderBytes, (int)length);
        start += HeaderBytes + (int)length;
        try
        {
            return new FileMessage<TIn>(JsonSerializer.Deserialize(record.Span, inType) ?? throw new InvalidDataException("a word is empty"), default);
        }
        catch (JsonException e)
        {
            throw new InvalidDataException("a word is malformed", e);
        }
    }

    private async ValueTask<FileMessage<TIn>?> ReceiveDataAsync(CancellationToken cancel)
    {
        if (dataLeft > 0 && !await FillAsync(1, cancel).ConfigureAwait(false))
        {
            return null;
        }
        var bytes = incoming.AsMemory(start, Math.Min(dataLeft, end - start));
        start += bytes.Length;
        dataLeft -= bytes.Length;
        return new FileMessage<TIn>(null, bytes);
    }

    public async Task CloseAsync(CancellationToken cancel)
    {
        if (socket.State is WebSocketState.Open or WebSocketState.CloseReceived)
        {
            await socket.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, cancel).ConfigureAwait(false);
        }
    }

    private async ValueTask WriteAsync(byte kind, ReadOnlyMemory<byte> record, CancellationToken cancel)
    {
        if (record.Length > FileFrames.MaxRecord)
        {
            throw new InvalidDataException("a record is longer than a message");
        }
        outgoing ??= new byte[FileFrames.MaxMessage];
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
        incoming ??= new byte[2 * FileFrames.MaxMessage];
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

/// <summary>The two ends of a channel to files.</summary>
public static class FileFrames
{
    public const int MaxMessage = 64 * 1024;

    /// <summary>Most bytes of one record.</summary>
    public const int MaxRecord = MaxMessage - HeaderBytes;

    internal const int HeaderBytes = 5;

    /// <summary>Asks.</summary>
    public static FileFrames<FileAsk, FileWord> OfTechnician(WebSocket socket) => new(socket, LinkJson.Default.FileAsk, LinkJson.Default.FileWord);

    /// <summary>Answers.</summary>
    public static FileFrames<FileWord, FileAsk> OfHost(WebSocket socket) => new(socket, LinkJson.Default.FileWord, LinkJson.Default.FileAsk);
}
