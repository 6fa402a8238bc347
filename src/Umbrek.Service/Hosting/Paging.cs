using Umbrek.Wire.Estate;

namespace Umbrek.Service.Hosting;

/// <summary>Cuts an ordered list into pages. The cursor is the id of the last item of the page before.</summary>
public static class Paging
{
    public const int Default = 200;
    public const int Most = 1000;

    public static Page<T> Cut<T>(IReadOnlyList<T> all, string? cursor, int? limit, Func<T, Guid> id)
    {
        var size = Size(limit);
        var start = 0;
        if (!string.IsNullOrEmpty(cursor))
        {
            var after = ReadCursor(cursor);
            for (var i = 0; i < all.Count && start == 0; i++)
            {
                if (id(all[i]) == after)
                {
                    start = i + 1;
                }
            }
            if (start == 0)
            {
                throw ProblemException.Invalid("The page that the cursor continues has changed; list again from the start.");
            }
        }
        var items = all.Skip(start).Take(size).ToList();
        return new Page<T>(items, start + items.Count < all.Count ? id(items[^1]).ToString() : null, all.Count);
    }

    public static int Size(int? limit) =>
        limit is null ? Default : limit is > 0 and <= Most ? limit.Value : throw ProblemException.Invalid($"A page has 1 to {Most} items, not {limit}.");

    public static Guid ReadCursor(string cursor) =>
        Guid.TryParse(cursor, out var id) ? id : throw ProblemException.Invalid("The cursor is not one that this listing gave; list again from the start.");
}
