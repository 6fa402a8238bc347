using System.Text;

namespace Umbrek.Core.Files;

/// <summary>One thing of a parcel: a file, a folder or a link, by its path below where it is put.</summary>
/// <param name="Path">Relative: "labels/2026/plum.pdf".</param>
/// <param name="Bytes">Of a file: how long it is.</param>
/// <param name="Mode">Who may read, write and execute it; null for what is usual at its place.</param>
/// <param name="ChangedAt">When its content changed last.</param>
/// <param name="Target">Of a link: where it leads.</param>
/// <param name="Sha256">Of a file's content; null until it is known.</param>
public sealed record ParcelEntry(FileName Path, FileKind Kind, long Bytes = 0, int? Mode = null, DateTimeOffset? ChangedAt = null, FileName? Target = null, byte[]? Sha256 = null);

/// <summary>
/// Files, folders and links on their way to many hosts. Their contents lie one behind the other, in the order of the entries, in one body.
/// </summary>
public static class Parcel
{
    public const int MostEntries = 200_000;
    public const long MostBytes = 1L << 42;
    private const int MostMode = 0x1ff;

    /// <summary>Whether entries make a parcel: each is below what is named, each once, and each folder before what it holds.</summary>
    /// <returns>What is wrong with them, or null.</returns>
    public static string? Check(IReadOnlyList<ParcelEntry>? entries)
    {
        if (entries is not { Count: > 0 })
        {
            return "A parcel holds something; name a file or a folder.";
        }
        if (entries.Count > MostEntries)
        {
            return $"A parcel holds at most {MostEntries} files, folders and links, and these are {entries.Count}. Pack them into one archive, or send them in parts.";
        }
        var kinds = new Dictionary<string, FileKind>(entries.Count, StringComparer.Ordinal);
        var bytes = 0L;
        foreach (var entry in entries)
        {
            if (CheckOne(entry) is { } problem)
            {
                return problem;
            }
            bytes += entry.Bytes;
            if (entry.Bytes > MostBytes || bytes > MostBytes)
            {
                return $"A parcel holds at most {Text.Units.Bytes(MostBytes)}.";
            }
            var key = KeyOf(entry.Path.ToBytes());
            if (!kinds.TryAdd(key, entry.Kind))
            {
                return $"'{entry.Path}' is there twice.";
            }
            if (entry.Path.ToBytes().AsSpan().LastIndexOf((byte)'/') is > 0 and var slash && kinds.GetValueOrDefault(KeyOf(entry.Path.ToBytes().AsSpan(0, slash)), FileKind.Device) != FileKind.Folder)
            {
                return $"The folder of '{entry.Path}' has to come before it.";
            }
        }
        return null;
    }

    private static string? CheckOne(ParcelEntry? entry)
    {
        if (entry?.Path?.Text is null || entry.Path.ToBytes() is not { Length: > 0 and <= FileName.MostBytes })
        {
            return $"A path below the place has 1 to {FileName.MostBytes} bytes.";
        }
        return !entry.Path.IsPlainPath() ? $"'{entry.Path}' is no path below a place; no part of it may be empty, a dot, two dots or longer than {FileName.MostNameBytes} bytes."
            : entry.Mode is < 0 or > MostMode ? "A mode is a number up to 0777."
            : entry.Sha256 is not null and not { Length: 32 } ? "A SHA-256 has 32 bytes."
            : entry.Kind switch
            {
                FileKind.File => entry.Bytes < 0 ? "No file is shorter than nothing." : null,
                FileKind.Folder => entry.Bytes != 0 ? "A folder has no length." : null,
                FileKind.Link => entry.Bytes != 0 || entry.Target?.Text is null || entry.Target.ToBytes() is not { Length: > 0 and <= FileName.MostBytes } leads || leads.Contains((byte)0) ? $"The link '{entry.Path}' leads nowhere." : null,
                _ => $"'{entry.Path}' is neither file, folder nor link; nothing else is sent.",
            };
    }

    /// <summary>"kiosk.conf", or "recipes, labels and 3 more": what people call it.</summary>
    public static string Name(IReadOnlyList<ParcelEntry> entries)
    {
        var top = entries.Where(e => !e.Path.ToBytes().Contains((byte)'/')).Select(e => e.Path.Text).ToList();
        return top.Count <= 3 ? Words(top) : Words([.. top.Take(2), $"{top.Count - 2} more"]);
    }

    private static string Words(List<string> names) => names.Count == 1 ? names[0] : $"{string.Join(", ", names.SkipLast(1))} and {names[^1]}";

    /// <summary>Every byte as one letter: two names are equal where their bytes are.</summary>
    private static string KeyOf(ReadOnlySpan<byte> path) => Encoding.Latin1.GetString(path);
}
