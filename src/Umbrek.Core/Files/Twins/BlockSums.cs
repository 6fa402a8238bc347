using System.Buffers.Binary;
using System.IO.Hashing;
using System.Numerics;

namespace Umbrek.Core.Files.Twins;

/// <summary>
/// What is said of a file's blocks, so that the other side finds them in another version of it: for each <c>u32 rolling sum | u128 XXH128</c>,
/// little-endian. The seed is another one every time, so that nobody can make two blocks that are taken for one; what is put
/// together of blocks is checked by its SHA-256 in the end.
/// </summary>
public static class BlockSums
{
    /// <summary>Bytes that are said of one block.</summary>
    public const int EntryBytes = 20;

    public const int MinSize = 1 << 10;
    public const int MaxSize = 1 << 20;

    /// <summary>Of shorter files it is not worth asking.</summary>
    public const long WorthFrom = 128 << 10;

    /// <summary>Of longer ones more would be said than anybody keeps in mind.</summary>
    public const long WorthUpTo = 1L << 40;

    /// <summary>How long blocks are: the more of them the more is said about them, the fewer the more is sent for one byte that differs.</summary>
    public static int SizeFor(long bytes) => (int)Math.Clamp(BitOperations.RoundUpToPowerOf2((ulong)Math.Sqrt(Math.Max(0, bytes) / 4.0)), MinSize, MaxSize);

    public static bool IsSize(int size) => size is >= MinSize and <= MaxSize && BitOperations.IsPow2(size);

    /// <summary>The last block may be shorter.</summary>
    public static long CountOf(long bytes, int size) => (bytes + size - 1) / size;

    /// <summary>How many bytes are said of a file.</summary>
    public static long LengthOf(long bytes, int size) => CountOf(bytes, size) * EntryBytes;

    /// <param name="into">At least <see cref="EntryBytes"/> long.</param>
    public static void Write(ReadOnlySpan<byte> block, long seed, Span<byte> into)
    {
        BinaryPrimitives.WriteUInt32LittleEndian(into, RollingSum.Of(block));
        BinaryPrimitives.WriteUInt128LittleEndian(into[4..], XxHash128.HashToUInt128(block, seed));
    }
}
