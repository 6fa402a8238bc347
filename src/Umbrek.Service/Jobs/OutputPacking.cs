using System.IO.Compression;
using Umbrek.Core.Jobs;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Jobs;

/// <summary>Output as it is stored: packed by Brotli (RFC 7932) where that makes it smaller.</summary>
public static class OutputPacking
{
    /// <summary>Not worth a look.</summary>
    private const int Least = 200;

    /// <summary>Fast, and most of what can be gained with text.</summary>
    private const int Quality = 1;
    private const int WindowBits = 16;

    /// <returns>Null for an event without output.</returns>
    public static RunOutputRow? Pack(RunEvent e)
    {
        if (e.Data is not { } data)
        {
            return null;
        }
        Span<byte> packed = stackalloc byte[RunEvent.MaxDataBytes];
        var smaller = data.Length is >= Least and <= RunEvent.MaxDataBytes && BrotliEncoder.TryCompress(data, packed[..(data.Length * 7 / 8)], out var written, Quality, WindowBits) ? written : 0;
        return new RunOutputRow { RunId = e.RunId, Sequence = e.Sequence, Stream = e.Kind, Packed = smaller > 0, Data = smaller > 0 ? packed[..smaller].ToArray() : data };
    }

    /// <exception cref="InvalidDataException">What is stored is damaged.</exception>
    public static byte[] Unpack(RunOutputRow row)
    {
        if (!row.Packed)
        {
            return row.Data;
        }
        Span<byte> data = stackalloc byte[RunEvent.MaxDataBytes];
        return BrotliDecoder.TryDecompress(row.Data, data, out var written)
            ? data[..written].ToArray()
            : throw new InvalidDataException($"Piece {row.Sequence} of the output of run {row.RunId} can't be read; the database is damaged there.");
    }
}
