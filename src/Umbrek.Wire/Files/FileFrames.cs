using System.Buffers.Binary;
using System.IO.Compression;
using System.Net.WebSockets;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Umbrek.Core.Files;

namespace Umbrek.Wire.Files;

/// <summary>What came of one side of a channel to files: a word, or bytes of a file (good until the next is received).</summary>
public readonly record struct FileMessage<T>(T? Word, ReadOnlyMemory<byte> Data) where T : class;

/// <summary>
/// A channel to files on a WebSocket: in both directions a stream of records <c>u8 kind | u32 length, little-endian | bytes</c>
/// (1: a word as JSON, 2: bytes of a file, 3: the same packed by DEFLATE, RFC 1951, each record by itself), cut into binary messages
/// wherever one is full: many small files share one. The technician's words are <see cref="FileAsk"/>, the host's
/// <see cref="FileWord"/>. One side sends, one receives.
/// </summary>
/// <param name="packs">With what time is taken of packing, where the other side understands it; null where it does not.</param>
public sealed class FileFrames<TOut, TIn>(WebSocket socket, JsonTypeInfo<TOut> outType, JsonTypeInfo<TIn> inType, TimeProvider? packs = null) where TOut : class where TIn : class
{
    private const int HeaderBytes = FileFrames.HeaderBytes;
    private const byte WordKind = 1;
    private const byte DataKind = 2;
    private const byte PackedKind = 3;

    private readonly PackChoice choice = new();
    private byte[]? packed;
    private byte[]? unpacked;
    private byte[]? outgoing;
    private int filled;
    private byte[]? incoming;
    private int start;
    private int end;

    /// <summary>So much of a record of bytes has not come yet.</summary>
    private int dataLeft;

    private long written;
    private long received;

    /// <summary>So many bytes of files went over the line, either way, as long as they were there.</summary>
    public long Moved => Volatile.Read(ref written) + Volatile.Read(ref received);

    /// <summary>Why the channel was closed, when it was.</summary>
    public string? ClosedBecause => string.IsNullOrEmpty(socket.CloseStatusDescription) ? null : socket.CloseStatusDescription;

    /// <summary>Puts a word into the message that is being filled, and sends those that are full.</summary>
    public ValueTask WriteAsync(TOut word, CancellationToken cancel)
    {
        choice.Restart();
        return WriteAsync(WordKind, JsonSerializer.SerializeToUtf8Bytes(word, outType), cancel);
    }

    /// <summary>The same for bytes of a file, however many.</summary>
    public async ValueTask WriteAsync(ReadOnlyMemory<byte> data, CancellationToken cancel)
    {
        while (!data.IsEmpty)
        {
            var part = data[..Math.Min(data.Length, FileFrames.MaxRecord)];
            var less = packs is not null && choice.IsWorth(part.Length) ? Pack(part.Span, packs) : default;
            var (kind, record) = less.IsEmpty ? (DataKind, part) : (PackedKind, less);
            await WriteAsync(kind, record, cancel).ConfigureAwait(false);
            Volatile.Write(ref written, written + record.Length);
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
            var began = packs?.GetTimestamp() ?? 0;
            await socket.SendAsync(outgoing.AsMemory(0, length), WebSocketMessageType.Binary, true, cancel).ConfigureAwait(false);
            if (packs is not null)
            {
                choice.Sent(length, packs.GetElapsedTime(began));
            }
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
        if (kind is not (WordKind or DataKind or PackedKind) || length > FileFrames.MaxRecord)
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
        if (kind == PackedKind)
        {
            Volatile.Write(ref received, received + record.Length);
            return new FileMessage<TIn>(null, Unpack(record));
        }
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
        Volatile.Write(ref received, received + bytes.Length);
        return new FileMessage<TIn>(null, bytes);
    }

    public async Task CloseAsync(CancellationToken cancel)
    {
        if (socket.State is WebSocketState.Open or WebSocketState.CloseReceived)
        {
            await socket.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, cancel).ConfigureAwait(false);
        }
    }

    /// <returns>Nothing where it is not worth it.</returns>
    private ReadOnlyMemory<byte> Pack(ReadOnlySpan<byte> data, TimeProvider time)
    {
        // What does not pack becomes longer, by an eighth where each byte is a code of nine bits (RFC 1951, 3.2.6).
        packed ??= new byte[2 * FileFrames.MaxRecord];
        var began = time.GetTimestamp();
        using var into = new MemoryStream(packed);
        using (var deflate = new DeflateStream(into, CompressionLevel.Fastest, leaveOpen: true))
        {
            deflate.Write(data);
        }
        var length = (int)into.Position;
        return choice.Packed(data.Length, length, time.GetElapsedTime(began)) ? packed.AsMemory(0, length) : default;
    }

    private ReadOnlyMemory<byte> Unpack(ReadOnlyMemory<byte> record)
    {
        // No record is longer than one that is not packed, whatever it says.
        unpacked ??= new byte[FileFrames.MaxRecord + 1];
        try
        {
            using var deflate = new DeflateStream(new MemoryStream(record.ToArray(), writable: false), CompressionMode.Decompress);
            var length = deflate.ReadAtLeast(unpacked, unpacked.Length, throwOnEndOfStream: false);
            return length is > 0 and <= FileFrames.MaxRecord ? unpacked.AsMemory(0, length) : throw new InvalidDataException("bytes of a file are packed in no way that is known");
        }
        catch (IOException e)
        {
            throw new InvalidDataException("bytes of a file are packed in no way that is known", e);
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
    /// <param name="packs">Bytes are packed where that is faster, by this time; null: never.</param>
    public static FileFrames<FileAsk, FileWord> OfTechnician(WebSocket socket, TimeProvider? packs = null) => new(socket, LinkJson.Default.FileAsk, LinkJson.Default.FileWord, packs);

    /// <summary>Answers.</summary>
    /// <param name="packs">The same; the technician's side has said that it understands.</param>
    public static FileFrames<FileWord, FileAsk> OfHost(WebSocket socket, TimeProvider? packs = null) => new(socket, LinkJson.Default.FileWord, LinkJson.Default.FileAsk, packs);
}
