using System.Globalization;

namespace Umbrek.Core.Text;

/// <summary>Versions in their order: numbers by value, words by letters, and what goes on after a point is later than what ends.</summary>
public static class VersionOrder
{
    private static readonly System.Buffers.SearchValues<char> Signs = System.Buffers.SearchValues.Create(".-+~_ ");

    public static int Compare(string left, string right)
    {
        var (a, b) = (Split(left), Split(right));
        for (var i = 0; i < Math.Min(a.Count, b.Count); i++)
        {
            var order = Number(a[i]) is { } x && Number(b[i]) is { } y ? x.CompareTo(y) : string.CompareOrdinal(a[i], b[i]);
            if (order != 0)
            {
                return order;
            }
        }
        return a.Count.CompareTo(b.Count);
    }

    private static long? Number(string part) => long.TryParse(part, NumberStyles.None, CultureInfo.InvariantCulture, out var number) ? number : null;

    private static List<string> Split(string version)
    {
        var parts = new List<string>();
        foreach (var range in version.AsSpan().SplitAny(Signs))
        {
            parts.Add(version[range].ToLowerInvariant());
        }
        return parts;
    }
}
