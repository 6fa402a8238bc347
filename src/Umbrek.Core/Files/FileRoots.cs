using System.Text;

namespace Umbrek.Core.Files;

/// <summary>
/// Folders that technicians are let into, with all below them; null is everywhere, none is nowhere. Paths here are as they are
/// written: where they lead, the host sees to.
/// </summary>
public static class FileRoots
{
    /// <summary>More make no rule that anybody understands.</summary>
    public const int Most = 32;

    private static readonly string[] Dots = [".", ".."];

    /// <returns>What is wrong with a root, or null.</returns>
    public static string? Check(string? root) =>
        root is null || new FileName(root).CheckPath() is not null ? $"'{root}' is no whole path; write a folder from the root, such as /srv."
        : root.Split('/').Any(Dots.Contains) ? $"'{root}' has dots for folders in it; write where it lies."
        : root.Any(char.IsControl) ? "A folder's name has a control character in it." : null;

    /// <summary>Each once, without what lies below another, in one order; null where one is no root.</summary>
    public static IReadOnlyList<string>? Normalise(IReadOnlyList<string> roots)
    {
        if (roots.Count > Most || roots.Any(r => Check(r) is not null))
        {
            return null;
        }
        var tidy = roots.Select(r => "/" + string.Join('/', r.Split('/', StringSplitOptions.RemoveEmptyEntries))).Distinct().Order(StringComparer.Ordinal).ToList();
        return [.. tidy.Where(r => !tidy.Exists(other => other != r && IsBelow(other, r)))];
    }

    /// <summary>What lies in both; nowhere, where one of them says what is no root.</summary>
    public static IReadOnlyList<string>? Intersect(IReadOnlyList<string>? one, IReadOnlyList<string>? other) =>
        one is null ? other : other is null ? one
        : Normalise([.. one.Where(a => other.Any(b => IsBelow(b, a))), .. other.Where(b => one.Any(a => IsBelow(a, b)))]) ?? [];

    public static bool Same(IReadOnlyList<string>? one, IReadOnlyList<string>? other) => one is null ? other is null : other is not null && one.SequenceEqual(other);

    /// <summary>The root of all among them is everywhere.</summary>
    public static IReadOnlyList<string>? Plain(IReadOnlyList<string>? roots) => roots?.Contains("/") == true ? null : roots;

    /// <summary>The root that a path is written below, and what of the path is left there: nothing of the root itself.</summary>
    public static (string Root, byte[] Below)? Find(IReadOnlyList<string> roots, FileName path)
    {
        var bytes = path.ToBytes();
        foreach (var root in roots)
        {
            var start = Encoding.UTF8.GetBytes(root.TrimEnd('/'));
            if (bytes.AsSpan().StartsWith(start) && (bytes.Length == start.Length || bytes[start.Length] == (byte)'/'))
            {
                return (root, bytes.AsSpan(start.Length).TrimStart((byte)'/').ToArray());
            }
        }
        return null;
    }

    /// <summary>"/srv and /home".</summary>
    public static string Words(IReadOnlyList<string> roots) => roots.Count switch
    {
        0 => "no folder",
        1 => roots[0] == "/" ? "everywhere" : roots[0],
        _ => string.Join(", ", roots.SkipLast(1)) + " and " + roots[^1],
    };

    private static bool IsBelow(string root, string path) => root == "/" || path == root || path.StartsWith(root + "/", StringComparison.Ordinal);
}
