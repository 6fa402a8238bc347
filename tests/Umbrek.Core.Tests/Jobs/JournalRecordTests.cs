using CsCheck;
using Umbrek.Core.Jobs;

namespace Umbrek.Core.Tests.Jobs;

public sealed class JournalRecordTests
{
    private static readonly Gen<JournalRecord> Records =
        Gen.Select(Gen.Enum<RunEventKind>(), Gen.Long[0, long.MaxValue], Gen.Long[0, 4_000_000_000_000], Gen.Byte.Array[0, 300])
            .Select((kind, sequence, at, payload) => new JournalRecord(kind, sequence, DateTimeOffset.FromUnixTimeMilliseconds(at), payload));

    [Fact]
    public void What_was_written_is_read_back() => Records.Sample(record =>
    {
        var bytes = Encode(record);
        JournalRecord.TryDecode(bytes, out var read, out var consumed).ShouldBe(JournalRead.Record);
        consumed.ShouldBe(bytes.Length);
        (read.Kind, read.Sequence, read.At).ShouldBe((record.Kind, record.Sequence, record.At));
        read.Payload.ToArray().ShouldBe(record.Payload.ToArray());
    });

    [Fact]
    public void A_record_cut_anywhere_is_incomplete_and_never_wrong() => Gen.Select(Records, Gen.Double[0, 1]).Sample((record, where) =>
    {
        var bytes = Encode(record);
        var cut = (int)(where * (bytes.Length - 1));
        JournalRecord.TryDecode(bytes.AsMemory(0, cut), out _, out var consumed).ShouldBe(JournalRead.Incomplete);
        consumed.ShouldBe(0);
    });

    [Fact]
    public void A_flipped_bit_is_noticed() => Gen.Select(Records, Gen.Double[0, 1], Gen.Int[0, 7]).Sample((record, where, bit) =>
    {
        var bytes = Encode(record);
        bytes[(int)(where * (bytes.Length - 1))] ^= (byte)(1 << bit);
        JournalRecord.TryDecode(bytes, out _, out _).ShouldNotBe(JournalRead.Record);
    });

    private static byte[] Encode(JournalRecord record)
    {
        var bytes = new byte[record.EncodedLength];
        record.Encode(bytes).ShouldBe(bytes.Length);
        return bytes;
    }
}
