using System.Buffers.Binary;
using System.IO.Hashing;
using System.Numerics;

namespace Umbrek.Core.Files.Twins;

/// <summary>What a scan found from where it stands.</summary>
/// <param name="Literal">So many bytes are not in the other version.</param>
/// <param name="From">Those behind them are, from there on.</param>
/// <param name="Same">So many; 0 for none.</param>
public readonly record struct DeltaStep(int Literal, long From, int Same);

/// <summary>Finds blocks of one version of a file in another, wherever they lie there.</summary>
public sealed class DeltaScan
{
    /// <summary>Blocks whose rolling sums fall together: more are not remembered, so that nobody can make a scan slow.</summary>
    private const int MostTogether = 16;

    private readonly byte[] sums;
    private readonly long seed;
    private readonly int whole;
    private readonly int tail;
    private readonly uint weight;
    private readonly int shift;
    private readonly int[] heads;
    private readonly int[] next;

    /// <summary>The block that is looked for first: the one behind the last that was found.</summary>
    private int expected;

    /// <param name="sums">See <see cref="BlockSums"/>.</param>
    /// <param name="size">How long a block is.</param>
    /// <param name="bytes">How long the other version is.</param>
    /// <exception cref="InvalidDataException">These are no sums of such a file.</exception>
    public DeltaScan(byte[] sums, int size, long bytes, long seed)
    {
        if (!BlockSums.IsSize(size) || bytes is < 0 or > BlockSums.WorthUpTo || sums.LongLength != BlockSums.LengthOf(bytes, size))
        {
            throw new InvalidDataException("What is said of the blocks does not fit the file.");
        }
        (this.sums, this.seed, Size) = (sums, seed, size);
        (whole, tail) = ((int)(bytes / size), (int)(bytes % size));
        weight = RollingSum.Weight(size);
        var width = Math.Max(8, BitOperations.Log2((uint)Math.Max(1, whole)) + 2);
        shift = 32 - width;
        heads = new int[1 << width];
        next = new int[whole];
        heads.AsSpan().Fill(-1);
        for (var block = whole - 1; block >= 0; block--)
        {
            Remember(block);
        }
    }

    /// <summary>How long a block is.</summary>
    public int Size { get; }

    /// <summary>Looks from where the window begins. What it took is literal and same together; the next window begins behind them.</summary>
    /// <param name="window">A block or more, unless it is the end.</param>
    /// <param name="isEnd">Nothing comes behind it.</param>
    public DeltaStep Next(ReadOnlySpan<byte> window, bool isEnd)
    {
        if (window.Length < Size)
        {
            return isEnd ? Last(window) : throw new ArgumentException("A window holds a block at least.", nameof(window));
        }
        if (expected < whole && IsBlock(expected, window[..Size]))
        {
            return Found(0, expected);
        }
        var last = window.Length - Size;
        var sum = RollingSum.Of(window[..Size]);
        for (var at = 0; ; at++)
        {
            for (var block = heads[sum >> shift]; block >= 0; block = next[block])
            {
                if (SumOf(block) == sum && IsBlock(block, window.Slice(at, Size)))
                {
                    return Found(at, block);
                }
            }
            if (at == last)
            {
                return isEnd ? Last(window) : new DeltaStep(last + 1, 0, 0);
            }
            sum = RollingSum.Roll(sum, window[at], window[at + Size], weight);
        }
    }

    /// <summary>The shorter last block can only be the end of the other version, too.</summary>
    private DeltaStep Last(ReadOnlySpan<byte> window) =>
        tail > 0 && window.Length >= tail && IsBlock(whole, window[^tail..]) ? new DeltaStep(window.Length - tail, (long)whole * Size, tail) : new DeltaStep(window.Length, 0, 0);

    private DeltaStep Found(int at, int block)
    {
        expected = block + 1;
        return new DeltaStep(at, (long)block * Size, Size);
    }

    private void Remember(int block)
    {
        ref var head = ref heads[SumOf(block) >> shift];
        var together = 0;
        for (var other = head; other >= 0; other = next[other])
        {
            // One of several that are alike is enough.
            if (++together == MostTogether || Entry(other).SequenceEqual(Entry(block)))
            {
                return;
            }
        }
        (next[block], head) = (head, block);
    }

    private ReadOnlySpan<byte> Entry(int block) => sums.AsSpan(block * BlockSums.EntryBytes, BlockSums.EntryBytes);

    private uint SumOf(int block) => BinaryPrimitives.ReadUInt32LittleEndian(sums.AsSpan(block * BlockSums.EntryBytes));

    private bool IsBlock(int block, ReadOnlySpan<byte> bytes) => BinaryPrimitives.ReadUInt128LittleEndian(Entry(block)[4..]) == XxHash128.HashToUInt128(bytes, seed);
}
