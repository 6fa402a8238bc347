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
        var above = Split(ancestor);
        var names = Split(path);
        return above.Length <= names.Length
            && above.Zip(names).All(pair => string.Equals(pair.First, pair.Second, StringComparison.OrdinalIgnoreCase));
    }

    /// <summary>The customer's name: the first of the path.</summary>
    public static string Customer(string path) => Split(path) is [var first, ..] ? first : "";
}
