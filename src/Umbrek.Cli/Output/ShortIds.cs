using Umbrek.Cli.Hosting;

namespace Umbrek.Cli.Output;

/// <summary>Ids as people type them: whole, or the last characters that the tables show.</summary>
public static class ShortIds
{
    public static T Find<T>(IEnumerable<T> items, Func<T, Guid> id, string typed, string what, string lister)
    {
        var wanted = typed.Replace("-", "").ToLowerInvariant();
        var found = wanted.Length < 4 ? [] : items.Where(i => id(i).ToString("N").EndsWith(wanted, StringComparison.Ordinal)).Take(2).ToList();
        return found switch
        {
            [var one] => one,
            [] => throw new ClientException($"There is no {what} '{typed}'. '{lister}' shows their ids.", ExitCodes.NothingMatched),
            _ => throw new ClientException($"More than one {what} ends in '{typed}'; write more of the id.", ExitCodes.NothingMatched),
        };
    }
}
