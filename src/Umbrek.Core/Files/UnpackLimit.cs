using Umbrek.Core.Text;

namespace Umbrek.Core.Files;

/// <summary>Says when an archive grows to more than it should.</summary>
/// <param name="packed">How long it is.</param>
/// <param name="room">So much is free where it is unpacked.</param>
/// <param name="large">It is known to grow, and meant to.</param>
public sealed class UnpackLimit(long packed, long room, bool large)
{
    public const long MostEntries = 1_000_000;

    /// <summary>So much is left free.</summary>
    private const long Reserve = 256 << 20;

    /// <summary>So far nothing is asked about.</summary>
    private const long Small = 1 << 30;

    /// <summary>Text shrinks to a tenth or twentieth; what was made to grow, to a thousandth.</summary>
    private const long Honest = 200;

    private long entries;
    private long bytes;

    /// <summary>So many more files and bytes come, or are said to.</summary>
    /// <returns>Why they should not; null where they may.</returns>
    public string? Add(long moreEntries, long moreBytes)
    {
        entries += moreEntries;
        // What is said to be there may be more than any number holds.
        bytes = moreBytes < 0 || bytes > long.MaxValue - moreBytes ? long.MaxValue : bytes + moreBytes;
        return entries > MostEntries ? $"It holds more than {MostEntries} files, the most that are unpacked at once."
            : bytes > Math.Max(0, room - Reserve) ? $"It grows to {Units.Bytes(bytes)} and more, and there is room for {Units.Bytes(Math.Max(0, room - Reserve))}."
            : !large && bytes > Small && bytes / Honest > packed ? $"It grows to more than {Honest} times its length, which few archives do that mean well. Say that it is meant to be large, if it is."
            : null;
    }
}
