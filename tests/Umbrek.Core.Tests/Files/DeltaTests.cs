using System.Buffers.Binary;
using Umbrek.Core.Files.Twins;

namespace Umbrek.Core.Tests.Files;

public sealed class DeltaTests
{
    private const long Seed = 0x51;

    [Fact]
    public void A_rolling_sum_is_that_of_the_bytes_it_stands_at()
    {
        var bytes = Bytes(5000, seed: 1);
        foreach (var length in new[] { 1, 3, 4, 7, 64, 1000 })
        {
            var sum = RollingSum.Of(bytes.AsSpan(0, length));
            var weight = RollingSum.Weight(length);
            for (var at = 0; at + length < bytes.Length; at++)
            {
                sum = RollingSum.Roll(sum, bytes[at], bytes[at + length], weight);
                Assert.Equal(RollingSum.Of(bytes.AsSpan(at + 1, length)), sum);
            }
        }
    }

    [Theory]
    [InlineData(0, 1024)]
    [InlineData(1 << 20, 1024)]
    [InlineData(1 << 30, 16 * 1024)]
    [InlineData(long.MaxValue, 1 << 20)]
    public void Blocks_grow_with_the_file_within_bounds(long bytes, int expected) => Assert.Equal(expected, BlockSums.SizeFor(bytes));

    [Fact]
    public void A_changed_stretch_costs_little_more_than_itself()
    {
        var old = Bytes(4 << 20, seed: 2);
        var now = (byte[])old.Clone();
        Bytes(10_000, seed: 3).CopyTo(now.AsSpan(1_234_567));
        var found = Find(old, now, 2048);
        Assert.Equal(now, found.Text);
        Assert.InRange(found.Literal, 10_000, 10_000 + 2 * 2048);
    }

    [Theory]
    [InlineData(1)]
    [InlineData(2047)]
    [InlineData(2049)]
    [InlineData(100_001)]
    public void What_was_put_in_or_taken_out_moves_the_rest_and_it_is_found_there(int much)
    {
        var old = Bytes(1 << 20, seed: 4);
        var added = old[..300_000].Concat(Bytes(much, seed: 5)).Concat(old[300_000..]).ToArray();
        var found = Find(old, added, 2048);
        Assert.Equal(added, found.Text);
        Assert.InRange(found.Literal, much, much + 2 * 2048);
        var cut = Find(added, old, 2048);
        Assert.Equal(old, cut.Text);
        Assert.InRange(cut.Literal, 0, 2 * 2048);
    }

    [Fact]
    public void Parts_that_changed_places_are_found()
    {
        var old = Bytes(256 * 1024, seed: 6);
        byte[] now = [.. old[100_000..], .. old[..100_000]];
        var found = Find(old, now, 1024);
        Assert.Equal(now, found.Text);
        Assert.InRange(found.Literal, 0, 3 * 1024);
    }

    [Fact]
    public void Any_two_versions_of_any_lengths_come_out_right_whatever_the_windows()
    {
        var random = new Random(7);
        for (var round = 0; round < 300; round++)
        {
            // Few different bytes, so that much looks like something else.
            var old = Few(random, random.Next(0, 9000));
            var now = random.Next(3) switch
            {
                0 => Few(random, random.Next(0, 9000)),
                1 => [.. old.Take(random.Next(old.Length + 1)), .. Few(random, random.Next(50)), .. old.Skip(random.Next(old.Length + 1))],
                _ => old,
            };
            Assert.Equal(now, Find(old, now, 1024, random).Text);
        }
    }

    [Fact]
    public void The_same_file_is_found_whole_with_its_shorter_end()
    {
        var old = Bytes(10_000, seed: 8);
        Assert.Equal((0, old.Length), (Find(old, old, 1024).Literal, Find(old, old, 1024).Text.Length));
    }

    [Fact]
    public void Many_blocks_that_are_alike_take_no_longer()
    {
        var old = new byte[8 << 20];
        var now = new byte[(8 << 20) + 5];
        now[77] = 1;
        var found = Find(old, now, 1024);
        Assert.Equal(now, found.Text);
        Assert.InRange(found.Literal, 1, 3 * 1024);
    }

    [Fact]
    public void Blocks_whose_rolling_sums_fall_together_are_told_apart()
    {
        // Every entry claims the same rolling sum; only what XXH128 says of the block counts.
        var old = Bytes(64 * 1024, seed: 9);
        var sums = Sums(old, 1024);
        for (var at = 0; at < sums.Length; at += BlockSums.EntryBytes)
        {
            BinaryPrimitives.WriteUInt32LittleEndian(sums.AsSpan(at), RollingSum.Of(old.AsSpan(0, 1024)));
        }
        var found = Find(old, [.. old[..1024], .. Bytes(5000, seed: 10)], 1024, sums: sums);
        Assert.Equal(5000, found.Literal);
    }

    [Theory]
    [InlineData(1000, 10_000, 200)]
    [InlineData(1024, 10_000, 180)]
    [InlineData(1024, 10_000, 220)]
    [InlineData(1024, -1, 0)]
    public void Sums_that_do_not_fit_the_file_are_refused(int size, long bytes, int length) => Assert.Throws<InvalidDataException>(() => new DeltaScan(new byte[length], size, bytes, Seed));

    private static (byte[] Text, int Literal) Find(byte[] old, byte[] now, int size, Random? random = null, byte[]? sums = null)
    {
        var scan = new DeltaScan(sums ?? Sums(old, size), size, old.Length, Seed);
        var text = new List<byte>();
        var literal = 0;
        for (var at = 0; at < now.Length;)
        {
            var length = Math.Min(now.Length - at, random is null ? 16 * size : size + random.Next(3 * size));
            var step = scan.Next(now.AsSpan(at, length), at + length == now.Length);
            Assert.True(step.Literal + step.Same > 0);
            text.AddRange(now.AsSpan(at, step.Literal));
            text.AddRange(old.AsSpan((int)step.From, step.Same));
            literal += step.Literal;
            at += step.Literal + step.Same;
        }
        return ([.. text], literal);
    }

    private static byte[] Sums(byte[] file, int size)
    {
        var sums = new byte[BlockSums.LengthOf(file.Length, size)];
        for (var (at, into) = (0, 0); at < file.Length; at += size, into += BlockSums.EntryBytes)
        {
            BlockSums.Write(file.AsSpan(at, Math.Min(size, file.Length - at)), Seed, sums.AsSpan(into));
        }
        return sums;
    }

    private static byte[] Bytes(int length, int seed)
    {
        var bytes = new byte[length];
        new Random(seed).NextBytes(bytes);
        return bytes;
    }

    private static byte[] Few(Random random, int length) => [.. Enumerable.Range(0, length).Select(_ => (byte)random.Next(2))];
}
