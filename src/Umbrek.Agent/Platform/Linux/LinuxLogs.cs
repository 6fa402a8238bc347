using System.Runtime.CompilerServices;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;
using Umbrek.Wire.Jobs;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Logs of a Linux host: the journal where there is one, and text files.</summary>
/// <param name="roots">Folders that technicians are let into; null for everywhere.</param>
public sealed class LinuxLogs(TimeProvider time, IReadOnlyList<string>? roots = null) : ILogReader
{
    private const string Directory = "/var/log";
    private const int MostFiles = 200;
    private const int Depth = 3;

    /// <summary>What is packed or no text.</summary>
    private static readonly HashSet<string> NoLogs = new([".gz", ".xz", ".zst", ".bz2", ".journal", ".db", ".sqlite"], StringComparer.OrdinalIgnoreCase);
    private static readonly HashSet<string> Binary = new(["wtmp", "btmp", "lastlog", "faillog"], StringComparer.Ordinal);

    public LogSources Sources()
    {
        var options = new EnumerationOptions { RecurseSubdirectories = true, MaxRecursionDepth = Depth, IgnoreInaccessible = true, AttributesToSkip = FileAttributes.ReparsePoint };
        var files = System.IO.Directory.Exists(Directory)
            ? new DirectoryInfo(Directory).EnumerateFiles("*", options).Where(f => !NoLogs.Contains(f.Extension) && !Binary.Contains(f.Name)).OrderByDescending(f => f.LastWriteTimeUtc).Take(MostFiles).Select(f => new LogFile(f.FullName, f.Length, f.LastWriteTimeUtc))
            : [];
        return new LogSources(Journal.IsThere, [.. files]);
    }

    public IAsyncEnumerable<IReadOnlyList<LogLine>> ReadAsync(LogWish wish, CancellationToken cancel) => wish.File is { } file ? new LogFileReader(file, new LinuxPlaces(roots), time).ReadAsync(wish, cancel) : Journal.ReadAsync(wish, cancel);

    /// <summary>Lines in portions that a message holds.</summary>
    internal static IEnumerable<IReadOnlyList<LogLine>> Portions(IEnumerable<LogLine> lines)
    {
        const int mostLines = 500;
        const int mostCharacters = 128 * 1024;
        var portion = new List<LogLine>();
        var characters = 0;
        foreach (var line in lines)
        {
            if (portion.Count == mostLines || (portion.Count > 0 && characters + line.Text.Length > mostCharacters))
            {
                yield return portion;
                (portion, characters) = ([], 0);
            }
            portion.Add(line);
            characters += line.Text.Length;
        }
        if (portion.Count > 0)
        {
            yield return portion;
        }
    }
}
