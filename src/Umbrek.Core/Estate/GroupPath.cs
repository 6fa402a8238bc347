namespace Umbrek.Core.Estate;

/// <summary>
/// Where a group stands: the names from the customer down, joined by "/". Names hold no slash themselves.
/// Comparison ignores case, as people do.
/// </summary>
public static class GroupPath
{
    public const char Separator = '/';

    /// <summary>Splits a typed path; blanks around the names do not count.</summary>
    public static string[] Split(string path) =>
        path.Split(Separator, StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries);

    public static string Join(IEnumerable<string> names) => string.Join(Separator, names);

    /// <summary>True when <paramref name="path"/> is <paramref name="ancestor"/> or lies below it.</summary>
    public static bool IsAtOrBelow(string path, string ancestor)
    {
        var above = IsTidy(ancestor) ? ancestor : Join(Split(ancestor));
        return path.StartsWith(above, StringComparison.OrdinalIgnoreCase) && (above.Length == 0 || path.Length == above.Length || path[above.Length] == Separator);
    }

    /// <summary>True when splitting and joining would change nothing; asked of every host, so without splitting.</summary>
    private static bool IsTidy(string path)
    {
        for (var i = 0; i < path.Length; i++)
        {
            var edge = i == 0 || i == path.Length - 1 || path[i - 1] == Separator || path[i + 1] == Separator;
            if (edge && (path[i] == Separator || char.IsWhiteSpace(path[i])))
            {
                return false;
            }
        }
        return true;
    }

    /// <summary>The customer's name: the first of the path.</summary>
    public static string Customer(string path) => path.IndexOf(Separator) is var cut && cut < 0 ? path.Trim() : path[..cut].Trim();
}
