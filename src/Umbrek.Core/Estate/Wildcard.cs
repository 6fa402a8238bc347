using System.Text;

namespace Umbrek.Core.Estate;

/// <summary>
/// Patterns with <c>*</c> (any characters) and <c>?</c> (one), in linear memory and bounded time. Both sides are folded first
/// (<see cref="Fold"/>), and characters are Unicode scalar values, so that a database that keeps folded text finds the same.
/// </summary>
public static class Wildcard
{
    /// <summary>What the pattern means to a database: so many stars at most, or matching could take for ever.</summary>
    public const int MaxStars = 8;

    public static bool Matches(string pattern, string text)
    {
        if (Ascii.IsValid(pattern) && Ascii.IsValid(text))
        {
            return MatchesFolded(pattern, text);
        }
        const int OnStack = 256;
        if (pattern.Length > OnStack || text.Length > OnStack)
        {
            return MatchesFolded(Fold(pattern), Fold(text));
        }
        // A selection asks this of every host: nothing is allocated.
        Span<char> p = stackalloc char[OnStack];
        Span<char> t = stackalloc char[OnStack];
        return MatchesFolded(p[..pattern.AsSpan().ToUpperInvariant(p)], t[..text.AsSpan().ToUpperInvariant(t)]);
    }

    /// <summary>Text as it is compared: upper case of the invariant culture.</summary>
    public static string Fold(string text) => text.ToUpperInvariant();

    public static bool HasSigns(string pattern) => pattern.AsSpan().ContainsAny('*', '?');

    /// <summary>As <see cref="Matches"/>, for folded text; letters of ASCII need not be folded.</summary>
    public static bool MatchesFolded(ReadOnlySpan<char> pattern, ReadOnlySpan<char> text)
    {
        int p = 0, t = 0, star = -1, resume = 0;
        while (t < text.Length)
        {
            if (p < pattern.Length && pattern[p] == '*')
            {
                star = p++;
                resume = t;
            }
            else if (p < pattern.Length && (pattern[p] == '?' || Upper(pattern[p]) == Upper(text[t])))
            {
                t += pattern[p] == '?' ? Step(text, t) : 1;
                p++;
            }
            else if (star >= 0)
            {
                p = star + 1;
                resume += Step(text, resume);
                t = resume;
            }
            else
            {
                return false;
            }
        }
        while (p < pattern.Length && pattern[p] == '*')
        {
            p++;
        }
        return p == pattern.Length;
    }

    private static char Upper(char c) => char.IsAsciiLetterLower(c) ? (char)(c - ('a' - 'A')) : c;

    private static int Step(ReadOnlySpan<char> text, int at) => Rune.DecodeFromUtf16(text[at..], out _, out var used) == System.Buffers.OperationStatus.Done ? used : 1;
}
