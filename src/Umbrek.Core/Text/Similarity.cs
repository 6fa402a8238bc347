using System.Runtime.CompilerServices;

namespace Umbrek.Core.Text;

/// <summary>How alike two words are, for suggestions and for finding in spite of slips of the finger.</summary>
public static class Similarity
{
    /// <summary>
    /// Insertions, deletions, replacements and swaps of neighbours that turn one word into the other (optimal string alignment
    /// distance), or <paramref name="most"/> + 1 when it takes more. Case counts.
    /// </summary>
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    public static int Distance(ReadOnlySpan<char> a, ReadOnlySpan<char> b, int most)
    {
        if (Math.Abs(a.Length - b.Length) > most)
        {
            return most + 1;
        }
        const int OnStack = 64;
        var width = b.Length + 1;
        Span<int> rows = width <= OnStack ? stackalloc int[3 * width] : new int[3 * width];
        var before = rows[..width];
        var last = rows.Slice(width, width);
        var current = rows.Slice(2 * width, width);
        for (var j = 0; j < width; j++)
        {
            last[j] = j;
        }
        for (var i = 1; i <= a.Length; i++)
        {
            current[0] = i;
            var best = i;
            for (var j = 1; j < width; j++)
            {
                var cost = a[i - 1] == b[j - 1] ? 0 : 1;
                var value = Math.Min(Math.Min(current[j - 1] + 1, last[j] + 1), last[j - 1] + cost);
                if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
                {
                    value = Math.Min(value, before[j - 2] + 1);
                }
                current[j] = value;
                best = Math.Min(best, value);
            }
            if (best > most)
            {
                return most + 1;
            }
            var spare = before;
            before = last;
            last = current;
            current = spare;
        }
        return Math.Min(last[b.Length], most + 1);
    }

    /// <summary>So many slips are forgiven in a word of this length.</summary>
    public static int Forgiven(int length) => length switch { < 4 => 0, < 8 => 1, _ => 2 };

    /// <summary>The candidate that was most likely meant, or null.</summary>
    public static string? Closest(string word, IEnumerable<string> candidates)
    {
        var upper = word.ToUpperInvariant();
        var most = Math.Max(1, Forgiven(word.Length));
        return candidates
            .Select(c => (Text: c, Distance: Distance(upper, c.ToUpperInvariant(), most)))
            .Where(c => c.Distance <= most && c.Distance < word.Length)
            .OrderBy(c => c.Distance).ThenBy(c => c.Text, StringComparer.Ordinal)
            .Select(c => c.Text).FirstOrDefault();
    }
}
