using System.Buffers.Binary;
using System.IO.Hashing;

namespace Umbrek.Core.Jobs;

public enum JournalRead
{
    Record,

    /// <summary>The bytes end inside a record: more may follow, or the writer was cut off.</summary>
    Incomplete,

    /// <summary>What stands here was never a whole record.</summary>
    Corrupt,
}

/// <summary>
/// One record of a run's journal on disk:
/// <code>
/// u32 length of the body | u32 CRC-32 of the body | body = u8 kind | i64 sequence | i64 time (Unix ms) | payload
/// </code>
/// all little-endian. A power cut leaves at most a torn last record, which length and checksum give away.
/// </summary>
public readonly record struct JournalRecord(RunEventKind Kind, long Sequence, DateTimeOffset At, ReadOnlyMemory<byte> Payload)
{
    private const int Header = 8;
    private const int Fixed = 17;

    /// <summary>Largest payload, in bytes.</summary>
    public const int MaxPayload = 20 * 1024;

    public int EncodedLength => Header + Fixed + Payload.Length;

    /// <summary>Writes the record to the start of <paramref name="target"/> and returns its length in bytes.</summary>
    public int Encode(Span<byte> target)
    {
        ArgumentOutOfRangeException.ThrowIfGreaterThan(Payload.Length, MaxPayload);
        var body = target.Slice(Header, Fixed + Payload.Length);
        body[0] = (byte)Kind;
        BinaryPrimitives.WriteInt64LittleEndian(body[1..], Sequence);
        BinaryPrimitives.WriteInt64LittleEndian(body[9..], At.ToUnixTimeMilliseconds());
        Payload.Span.CopyTo(body[Fixed..]);
        BinaryPrimitives.WriteInt32LittleEndian(target, body.Length);
        BinaryPrimitives.WriteUInt32LittleEndian(target[4..], Crc32.HashToUInt32(body));
        return Header + body.Length;
    }

    /// <summary>Reads the record at the start of <paramref name="source"/>.</summary>
    /// <param name="consumed">Its length in bytes, 0 when there is none.</param>
    public static JournalRead TryDecode(ReadOnlyMemory<byte> source, out JournalRecord record, out int consumed)
    {
        record = default;
        consumed = 0;
        var span = source.Span;
        if (span.Length < Header)
        {
            return JournalRead.Incomplete;
        }
        var length = BinaryPrimitives.ReadInt32LittleEndian(span);
        if (length is < Fixed or > Fixed + MaxPayload)
        {
            return JournalRead.Corrupt;
        }
        if (span.Length < Header + length)
        {
            return JournalRead.Incomplete;
        }
        var body = span.Slice(Header, length);
        if (Crc32.HashToUInt32(body) != BinaryPrimitives.ReadUInt32LittleEndian(span[4..]) || body[0] > (byte)RunEventKind.Step)
        {
            return JournalRead.Corrupt;
        }
        var milliseconds = BinaryPrimitives.ReadInt64LittleEndian(body[9..]);
        if (milliseconds is < -62135596800000 or > 253402300799999)
        {
            return JournalRead.Corrupt;
        }
        record = new JournalRecord(
            (RunEventKind)body[0],
            BinaryPrimitives.ReadInt64LittleEndian(body[1..]),
            DateTimeOffset.FromUnixTimeMilliseconds(milliseconds),
            source.Slice(Header + Fixed, length - Fixed));
        consumed = Header + length;
        return JournalRead.Record;
    }
}
