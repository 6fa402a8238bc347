using Umbrek.Core.Estate;

namespace Umbrek.Core.Files.Twins;

/// <summary>Of the two folders of a twin.</summary>
public enum TwinSide
{
    First,
    Second,
}

/// <summary>Which way changes go.</summary>
public enum TwinWay
{
    /// <summary>The second becomes what the first is.</summary>
    OneWay,

    /// <summary>What was changed on either side goes to the other.</summary>
    BothWays,
}

/// <summary>Whose version goes on where both sides have changed one thing.</summary>
public enum TwinChoice
{
    First,
    Second,

    /// <summary>What was changed later; what was taken away counts as older than anything.</summary>
    Newer,
}

/// <summary>How two folders are kept in step.</summary>
/// <param name="Deletes">One way: what is not in the first is taken away from the second. Both ways that always is so.</param>
/// <param name="Leaves">Names that are left alone on both sides; with a slash, paths below the folders. * and ? stand for letters.</param>
public sealed record TwinRules(TwinWay Way, bool Deletes = false, IReadOnlyList<string>? Leaves = null)
{
    public const int MostLeaves = 50;
    public const int MostLetters = 256;

    /// <returns>What is wrong with them, or null.</returns>
    public string? Check() =>
        !Enum.IsDefined(Way) ? "Folders are kept in step one way or both ways."
        : Leaves?.Count > MostLeaves ? $"At most {MostLeaves} names are left alone."
        : Leaves?.Select(l => l ?? "").FirstOrDefault(l => l.Length is 0 or > MostLetters || l.StartsWith('/') || l.EndsWith('/')) is { } wrong ? $"'{wrong}' names nothing below the folders; write a name such as *.tmp, or a path such as cache/*, of up to {MostLetters} letters."
        : Leaves?.FirstOrDefault(l => l.Count(c => c == '*') > Wildcard.MaxStars) is { } starry ? $"'{starry}' has more than {Wildcard.MaxStars} stars." : null;

    /// <summary>Whether something is left alone, by itself or with the folder that it lies in.</summary>
    public bool IsLeft(FileName path)
    {
        if (Leaves is not { Count: > 0 })
        {
            return false;
        }
        var text = path.Text;
        for (var end = text.IndexOf('/', StringComparison.Ordinal); ; end = text.IndexOf('/', end + 1))
        {
            var part = end < 0 ? text : text[..end];
            if (Leaves.Any(l => Wildcard.Matches(l, l.Contains('/', StringComparison.Ordinal) ? part : part[(part.LastIndexOf('/') + 1)..])))
            {
                return true;
            }
            if (end < 0)
            {
                return false;
            }
        }
    }
}

/// <summary>How something stood on one side when both were in step.</summary>
public sealed record TwinState(FileKind Kind, long Bytes, DateTimeOffset? ChangedAt, int Mode, FileName? Target)
{
    private const int PlainMode = 0x1ff;

    public static TwinState? Of(FileEntry? entry) => entry?.Kind switch
    {
        null => null,
        FileKind.File => new TwinState(FileKind.File, entry.Bytes, entry.ChangedAt, entry.Mode & PlainMode, null),
        FileKind.Link => new TwinState(FileKind.Link, 0, null, 0, entry.Target),
        // A folder's time says what happened in it, and that is seen by itself.
        var kind => new TwinState(kind.Value, 0, null, entry.Mode & PlainMode, null),
    };
}

/// <summary>How something stood on both sides when they were in step.</summary>
public sealed record TwinBase(FileName Path, TwinState First, TwinState Second);

/// <summary>Who wins where both sides have changed.</summary>
/// <param name="Paths">What it is about; null for all.</param>
public sealed record TwinSettling(TwinChoice Choice, IReadOnlyList<FileName>? Paths = null);
