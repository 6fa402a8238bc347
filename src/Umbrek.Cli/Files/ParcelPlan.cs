using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Files;

namespace Umbrek.Cli.Files;

/// <summary>Files, folders and links here that go into one parcel.</summary>
internal sealed class ParcelPlan
{
    private readonly List<ParcelEntry> entries = [];
    private readonly List<(string Path, string Version)> files = [];

    public IReadOnlyList<ParcelEntry> Entries => entries;

    /// <summary>Where each file is here, by its place among the entries that are files.</summary>
    public IReadOnlyList<(string Path, string Version)> Files => files;

    public long Bytes => entries.Sum(e => e.Bytes);

    /// <summary>The same word for the same files as they are now: what was broken off is gone on with.</summary>
    public string Key
    {
        get
        {
            using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
            foreach (var (path, version) in files)
            {
                hash.AppendData(Encoding.UTF8.GetBytes($"{path}\0{version}\0"));
            }
            foreach (var entry in entries)
            {
                hash.AppendData(Encoding.UTF8.GetBytes(string.Create(CultureInfo.InvariantCulture, $"{entry.Path}\0{entry.Kind}\0{entry.Mode}\0{entry.Target}\0")));
            }
            return Convert.ToHexStringLower(hash.GetHashAndReset());
        }
    }

    /// <param name="named">Files and folders here.</param>
    /// <param name="name">Another name for the one file or folder.</param>
    public static ParcelPlan Make(IReadOnlyList<string> named, string? name)
    {
        var plan = new ParcelPlan();
        foreach (var path in named.Select(Path.GetFullPath))
        {
            var last = new FileName(name ?? Path.GetFileName(Path.TrimEndingDirectorySeparator(path)));
            if (!last.IsPlainName())
            {
                throw new ClientException($"'{path}' has no name of its own; say one with --as.", ExitCodes.WrongUse);
            }
            try
            {
                plan.Add(Directory.Exists(path) ? new DirectoryInfo(path) : new FileInfo(path), last, isNamed: true);
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                throw new ClientException($"{e.Message} Nothing was sent.");
            }
        }
        return Parcel.Check(plan.entries) is { } problem ? throw new ClientException(problem, ExitCodes.WrongUse) : plan;
    }

    /// <param name="isNamed">It was named itself: a link is followed.</param>
    private void Add(FileSystemInfo found, FileName path, bool isNamed = false)
    {
        if (!isNamed && found.LinkTarget is { } to)
        {
            entries.Add(new ParcelEntry(path, FileKind.Link, Target: LocalFile.NameOf(to)));
        }
        else if (found is DirectoryInfo folder)
        {
            var mode = OperatingSystem.IsWindows() ? null : (int?)(File.GetUnixFileMode(folder.FullName) & FileArrival.Plain);
            entries.Add(new ParcelEntry(path, FileKind.Folder, Mode: mode));
            foreach (var below in folder.EnumerateFileSystemInfos("*", new EnumerationOptions { AttributesToSkip = 0, IgnoreInaccessible = false }).OrderBy(f => f.Name, StringComparer.Ordinal))
            {
                Add(below, path.In(new FileName(below.Name)));
            }
        }
        else
        {
            using var handle = LocalFile.Open(found.FullName);
            entries.Add(new ParcelEntry(path, FileKind.File, RandomAccess.GetLength(handle), LocalFile.ModeOf(handle), File.GetLastWriteTimeUtc(handle)));
            files.Add((found.FullName, LocalFile.VersionOf(handle)));
        }
    }
}
