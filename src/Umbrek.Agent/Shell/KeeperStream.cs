using System.Buffers.Binary;
using System.Net.Sockets;
using System.Text.Json;
using Umbrek.Core.Shell;
using Umbrek.Wire;
using Umbrek.Wire.Shell;

namespace Umbrek.Agent.Shell;

/// <summary>One message between a shell's keeper and the agent: bytes of a stream, or a word.</summary>
public readonly record struct KeeperMessage(ShellStream Stream, ReadOnlyMemory<byte> Data, ReadOnlyMemory<byte> Word)
{
    public bool IsWord => !Word.IsEmpty;

    public ShellWord? ReadWord() => JsonSerializer.Deserialize(Word.Span, LinkJson.Default.ShellWord);
}

/// <summary>
/// Messages over a keeper's socket: <c>u8 kind | u32 length, little-endian | bytes</c>, where the kind is a stream's or
/// <see cref="WordKind"/>. Several may write at once; one reads.
/// </summary>
public sealed class KeeperStream(Socket socket) : IDisposable
{
    private const byte WordKind = 3;
    private const int HeaderBytes = 5;

    private readonly NetworkStream stream = new(socket, ownsSocket: true);
    private readonly SemaphoreSlim turn = new(1);
    private readonly byte[] header = new byte[HeaderBytes];
    private readonly byte[] outgoing = new byte[HeaderBytes + ShellWord.MaxMessage];

    public Task WriteAsync(ShellWord word, CancellationToken cancel) => WriteAsync(WordKind, JsonSerializer.SerializeToUtf8Bytes(word, LinkJson.Default.ShellWord), cancel);

    public Task WriteWordAsync(ReadOnlyMemory<byte> word, CancellationToken cancel) => WriteAsync(WordKind, word, cancel);

    public Task WriteAsync(ShellStream of, ReadOnlyMemory<byte> data, CancellationToken cancel) => WriteAsync((byte)of, data, cancel);

    /// <returns>Null at the end.</returns>
    /// <exception cref="InvalidDataException">What came is no message.</exception>
    public async Task<KeeperMessage?> ReadAsync(CancellationToken cancel)
    {
        if (await stream.ReadAtLeastAsync(header, HeaderBytes, throwOnEndOfStream: false, cancel).ConfigureAwait(false) < HeaderBytes)
        {
            return null;
        }
        var length = BinaryPrimitives.ReadInt32LittleEndian(header.AsSpan(1));
        if (header[0] > WordKind || length is < 0 or > ShellWord.MaxMessage)
        {
            throw new InvalidDataException("what came is no message of a shell");
        }
        var bytes = new byte[length];
        await stream.ReadExactlyAsync(bytes, cancel).ConfigureAwait(false);
        return header[0] == WordKind ? new KeeperMessage(default, default, bytes) : new KeeperMessage((ShellStream)header[0], bytes, default);
    }

    public void Dispose()
    {
        stream.Dispose();
        turn.Dispose();
    }

    private async Task WriteAsync(byte kind, ReadOnlyMemory<byte> bytes, CancellationToken cancel)
    {
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            outgoing[0] = kind;
            BinaryPrimitives.WriteInt32LittleEndian(outgoing.AsSpan(1), bytes.Length);
            bytes.CopyTo(outgoing.AsMemory(HeaderBytes));
            await stream.WriteAsync(outgoing.AsMemory(0, HeaderBytes + bytes.Length), cancel).ConfigureAwait(false);
        }
        finally
        {
            turn.Release();
        }
    }
}
