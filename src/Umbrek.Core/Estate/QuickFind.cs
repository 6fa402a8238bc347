using System.Numerics;
using System.Runtime.CompilerServices;
using Umbrek.Core.Text;

namespace Umbrek.Core.Estate;

/// <summary>What quick find looks through of one host, folded (<see cref="Wildcard.Fold"/>).</summary>
public sealed class Findable
{
    private static readonly char[] Breaks = ['-', '_', '.', ' ', '/', '@', ':', '\\', Between];

    /// <summary>Stands between texts in <see cref="Text"/>, and is never typed.</summary>
    public const char Between = '\n';

    private readonly string[] words;
    private readonly ulong[] letters;

    /// <param name="names">Label and system name.</param>
    /// <param name="others">Customer and groups, addresses, tags, people logged in.</param>
    public Findable(IReadOnlyList<string> names, IReadOnlyList<string> others)
    {
        // One text, so that a host that has nothing of what is typed costs one search.
        Text = string.Join(Between, names.Concat(others));
        NamesEnd = names.Sum(n => n.Length + 1);
        words = [.. Text.Split(Breaks, StringSplitOptions.RemoveEmptyEntries).Distinct()];
        letters = Array.ConvertAll(words, LettersOf);
    }

    /// <summary>All texts, names first.</summary>
    public string Text { get; }

    /// <summary>Where the names end in <see cref="Text"/>.</summary>
    public int NamesEnd { get; }

    /// <summary>The words in all of it, for what is typed with a slip.</summary>
    public ReadOnlySpan<string> Words => words;

    /// <summary>The letters of each word as <see cref="LettersOf"/> gives them.</summary>
    public ReadOnlySpan<ulong> Letters => letters;

    /// <summary>A bit for each letter and digit that stands in the word: one slip brings at most one bit that the other word lacks.</summary>
    public static ulong LettersOf(string word)
    {
        var bits = 0UL;
        foreach (var c in word)
        {
            bits |= 1UL << (c % 64);
        }
        return bits;
    }
}

/// <summary>Finds by any part of what is known of a host, also when it is mistyped; the better match has the higher score.</summary>
public sealed class QuickFind
{
    private readonly string[] words;
    private readonly ulong[] letters;
    private readonly Dictionary<string, int>[] slips;

    /// <param name="typed">Words with blanks between them; every one must be found.</param>
    public QuickFind(string typed)
    {
        words = Wildcard.Fold(typed).Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries);
        letters = Array.ConvertAll(words, Findable.LettersOf);
        slips = [.. words.Select(_ => new Dictionary<string, int>())];
    }

    public bool IsEmpty => words.Length == 0;

    /// <summary>0 when it is not found; nothing typed finds everything.</summary>
    /// <param name="forgiving">Whether slips are forgiven, which takes several times as long.</param>
    public int Score(Findable host, bool forgiving)
    {
        var sum = 1;
        for (var i = 0; i < words.Length; i++)
        {
            var best = Best(host, i, forgiving);
            if (best == 0)
            {
                return 0;
            }
            sum += best;
        }
        return sum;
    }

    private int Best(Findable host, int word, bool forgiving)
    {
        var best = Exact(host, words[word]);
        return best > 0 || !forgiving ? best : Slip(host, word);
    }

    /// <summary>A whole text, its beginning, the beginning of a word in it, or somewhere within; twice as much in a name.</summary>
    private static int Exact(Findable host, string typed)
    {
        var text = host.Text;
        var best = 0;
        for (var at = text.IndexOf(typed, StringComparison.Ordinal); at >= 0; at = text.IndexOf(typed, at + 1, StringComparison.Ordinal))
        {
            var end = at + typed.Length;
            var begins = at == 0 || text[at - 1] == Findable.Between;
            var ends = end == text.Length || text[end] == Findable.Between;
            var score = begins ? ends ? 50 : 40 : char.IsLetterOrDigit(text[at - 1]) ? 20 : 30;
            best = Math.Max(best, at < host.NamesEnd ? score * 2 : score);
        }
        return best;
    }

    /// <summary>A word, or the beginning of one, that differs by a slip or two; each word of the estate is looked at once. Compiled as well as can be before it runs first: it goes through an estate at once.</summary>
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private int Slip(Findable host, int word)
    {
        var typed = words[word];
        var most = Similarity.Forgiven(typed.Length);
        if (most == 0)
        {
            return 0;
        }
        var best = 0;
        for (var i = 0; i < host.Words.Length; i++)
        {
            if (BitOperations.PopCount(letters[word] & ~host.Letters[i]) > most)
            {
                continue;
            }
            var known = host.Words[i];
            if (!slips[word].TryGetValue(known, out var score))
            {
                var whole = Similarity.Distance(typed, known, most);
                var beginning = known.Length > typed.Length ? Similarity.Distance(typed, known.AsSpan(0, typed.Length), most) : most + 1;
                var distance = Math.Min(whole, beginning);
                slips[word][known] = score = distance > most ? 0 : 12 - 4 * distance - (whole > most ? 1 : 0);
            }
            best = Math.Max(best, score);
        }
        return best;
    }
}
