namespace Umbrek.Core.Estate;

/// <summary>Puts the meaning of saved selections in the place of their names.</summary>
public static class SavedSelections
{
    private const int MaxDepth = 16;

    /// <param name="find">The meaning of a name, or null when there is none.</param>
    /// <returns>A selection without saved ones in it, or null with <paramref name="problem"/> set.</returns>
    public static Selection? Resolve(Selection selection, Func<string, Selection?> find, out string? problem)
    {
        var terms = 0;
        string? found = null;
        var resolved = Replace(selection, []);
        problem = found;
        return found is null ? resolved : null;

        Selection Replace(Selection s, string[] inside)
        {
            if (found is not null || ++terms > SelectionParser.MaxTerms)
            {
                found ??= $"With the saved selections in it, the selection holds more than {SelectionParser.MaxTerms} conditions.";
                return s;
            }
            switch (s)
            {
                case Selection.Saved saved when inside.Contains(saved.Name, StringComparer.OrdinalIgnoreCase) || inside.Length >= MaxDepth:
                    found = $"The saved selection '{saved.Name}' leads back to itself: {string.Join(" → ", inside.Append(saved.Name))}.";
                    return s;
                case Selection.Saved saved:
                    if (find(saved.Name) is not { } meaning)
                    {
                        found = $"There is no saved selection '{saved.Name}'.";
                        return s;
                    }
                    return Replace(meaning, [.. inside, saved.Name]);
                case Selection.Not not:
                    return new Selection.Not(Replace(not.Operand, inside));
                case Selection.Every every:
                    return Selection.And([.. every.All.Select(p => Replace(p, inside))]);
                case Selection.Any any:
                    return Selection.Or([.. any.All.Select(p => Replace(p, inside))]);
                default:
                    return s;
            }
        }
    }
}
