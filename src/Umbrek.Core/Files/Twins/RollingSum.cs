namespace Umbrek.Core.Files.Twins;

/// <summary>
/// A sum of so many bytes that one step carries on by a byte: a polynomial modulo 2^32 (Karp and Rabin, "Efficient randomized
/// pattern-matching algorithms", 1987). Its high bits are the good ones.
/// </summary>
public static class RollingSum
{
    private const uint Base = 0x9E3779B1;
    private const uint Base2 = unchecked(Base * Base);
    private const uint Base3 = unchecked(Base2 * Base);
    private const uint Base4 = unchecked(Base3 * Base);

    public static uint Of(ReadOnlySpan<byte> block)
    {
        var sum = 0u;
        while (block.Length >= 4)
        {
            sum = unchecked(sum * Base4 + block[0] * Base3 + block[1] * Base2 + block[2] * Base + block[3]);
            block = block[4..];
        }
        foreach (var b in block)
        {
            sum = unchecked(sum * Base + b);
        }
        return sum;
    }

    /// <summary>What the oldest of so many bytes counts for, when it leaves.</summary>
    public static uint Weight(int length)
    {
        var weight = 1u;
        for (var i = 0; i < length; i++)
        {
            weight = unchecked(weight * Base);
        }
        return weight;
    }

    /// <summary>The sum one byte further on.</summary>
    public static uint Roll(uint sum, byte leaves, byte enters, uint weight) => unchecked(sum * Base - leaves * weight + enters);
}
