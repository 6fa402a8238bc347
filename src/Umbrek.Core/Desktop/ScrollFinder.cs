using System.Numerics;
using System.Runtime.InteropServices;

namespace Umbrek.Core.Desktop;

/// <summary>Finds what was scrolled: rows that lay higher or lower in a part of a picture before.</summary>
public sealed class ScrollFinder
{
    /// <summary>Less is not worth it.</summary>
    public const int LeastRows = 16;
    public const int LeastWidth = 64;

    private readonly Dictionary<ulong, int> before = [];
    private readonly Dictionary<int, int> votes = [];
    private ulong[] hashes = [];

    /// <param name="shown">The picture before.</param>
    /// <param name="now">The picture after.</param>
    /// <returns>What was moved, to where it lies now; and the row at which it lay.</returns>
    public (ScreenRect To, int FromY)? Find(ScreenImage shown, ScreenImage now, ScreenRect part)
    {
        if (part.Width < LeastWidth || part.Height < 2 * LeastRows)
        {
            return null;
        }
        before.Clear();
        votes.Clear();
        if (hashes.Length < part.Height)
        {
            hashes = new ulong[part.Height];
        }
        for (var i = 0; i < part.Height; i++)
        {
            var row = part.Y + i;
            hashes[i] = Hash(now.Row(part, row));
            var hash = Hash(shown.Row(part, row));
            // A row that is there twice says nothing of where it went.
            before[hash] = before.ContainsKey(hash) ? -1 : row;
        }
        for (var i = 0; i < part.Height; i++)
        {
            if (before.TryGetValue(hashes[i], out var was) && was >= 0)
            {
                CollectionsMarshal.GetValueRefOrAddDefault(votes, part.Y + i - was, out _)++;
            }
        }
        var (by, most) = (0, 0);
        foreach (var (offset, count) in votes)
        {
            if (offset != 0 && count > most)
            {
                (by, most) = (offset, count);
            }
        }
        // What stays where it is may not be more than what moves.
        if (most < LeastRows / 2 || votes.GetValueOrDefault(0) > most)
        {
            return null;
        }
        return Longest(shown, now, part, by) is { Height: >= LeastRows } to ? (to, to.Y - by) : null;
    }

    private static ScreenRect Longest(ScreenImage shown, ScreenImage now, ScreenRect part, int by)
    {
        var (bestAt, best, at) = (0, 0, -1);
        var (top, bottom) = (Math.Max(part.Y, part.Y + by), Math.Min(part.Bottom, part.Bottom + by));
        for (var y = top; y <= bottom; y++)
        {
            if (y < bottom && now.Row(part, y).SequenceEqual(shown.Row(part, y - by)))
            {
                at = at < 0 ? y : at;
            }
            else if (at >= 0)
            {
                if (y - at > best)
                {
                    (bestAt, best) = (at, y - at);
                }
                at = -1;
            }
        }
        return new ScreenRect(part.X, bestAt, part.Width, best);
    }

    private static ulong Hash(ReadOnlySpan<uint> row)
    {
        var words = MemoryMarshal.Cast<uint, ulong>(row);
        var (a, b) = (0x9E3779B97F4A7C15ul, 0xC2B2AE3D27D4EB4Ful);
        var i = 0;
        for (; i + 1 < words.Length; i += 2)
        {
            a = BitOperations.RotateLeft((a ^ words[i]) * 0xFF51AFD7ED558CCDul, 31);
            b = BitOperations.RotateLeft((b ^ words[i + 1]) * 0xC4CEB9FE1A85EC53ul, 29);
        }
        for (i *= 2; i < row.Length; i++)
        {
            a = BitOperations.RotateLeft((a ^ row[i]) * 0xFF51AFD7ED558CCDul, 31);
        }
        return a ^ BitOperations.RotateLeft(b, 17);
    }
}
