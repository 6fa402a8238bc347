using Umbrek.Core.Text;

namespace Umbrek.Core.Estate;

/// <summary>What quick find looks through of one host, folded (<see cref="Wildcard.Fold"/>).</summary>
/// <param name="Names">Label and system name.</param>
/// <param name="Others">Customer and groups, addresses, tags, people logged in.</param>
public sealed record Findable(IReadOnlyList<string> Names, IReadOnlyList<string> Others)
{
    private static readonly char[] Breaks = ['-', '_', '.', ' ', '/', '@', ':', '\\'];

    /// <summary>The words in all of it, for what is typed with a slip.</summary>
    public IReadOnlyList<string> Words { get; } = [.. Names.Concat(Others).SelectMany(t => t.Split(Breaks, StringSplitOptions.RemoveEmptyEntries)).Distinct()];
}

/// <summary>Finds by any part of what is known of a host, also when it is mistyped; the better match has the higher score.</summary>
public sealed class QuickFind
{
    private readonly string[] words;
    private readonly Dictionary<string, int>[] slips;

    /// <param name="typed">Words with blanks between them; every one must be found.</param>
    public QuickFind(string typed)
    {
        words = Wildcard.Fold(typed).Split(' ', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
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
        var typed = words[word];
        var best = 0;
        foreach (var name in host.Names)
        {
            best = Math.Max(best, Exact(name, typed) * 2);
        }
        foreach (var other in host.Others)
        {
            best = Math.Max(best, Exact(other, typed));
        }
        return best > 0 || !forgiving ? best : Slip(host, word);
    }

    /// <summary>The whole text, its beginning, the beginning of a word in it, or somewhere within.</summary>
    private static int Exact(string text, string typed)
    {
        var at = text.IndexOf(typed, StringComparison.Ordinal);
        return at < 0 ? 0 : at == 0 ? text.Length == typed.Length ? 50 : 40 : char.IsLetterOrDigit(text[at - 1]) ? 20 : 30;
    }

    /// <summary>A word, or the beginning of one, that differs by a slip or two; each word of the estate is looked at once.</summary>
    private int Slip(Findable host, int word)
    {
        var typed = words[word];
        var most = Similarity.Forgiven(typed.Length);
        if (most == 0)
        {
            return 0;
        }
        var best = 0;
        foreach (var known in host.Words)
        {
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
