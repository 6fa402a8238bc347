using System.IO.Enumeration;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Files;
using Umbrek.Core.Text;

namespace Umbrek.Cli.Files;

/// <param name="Path">On the host.</param>
/// <param name="Target">Here.</param>
internal sealed record FetchItem(FileName Path, FileEntry Entry, string Target)
{
    public bool Replaces { get; init; }

    public bool IsDone { get; set; }

    public bool WasTried { get; set; }

    public byte[]? Sha256 { get; set; }
}

/// <summary>Files of one path that was named.</summary>
internal sealed record FetchGroup(FileName Path, List<FetchItem> Items);

/// <summary>What there is to fetch, and where it comes to lie.</summary>
internal sealed class FetchPlan
{
    private readonly HashSet<string> targets = new(StringComparer.Ordinal);

    public List<FetchGroup> Groups { get; } = [];

    /// <summary>Folders to be made, each before what it holds.</summary>
    public List<(FileEntry Entry, string Target)> Folders { get; } = [];

    public List<(string Link, string Target)> Links { get; } = [];

    /// <summary>What can't be fetched, and why.</summary>
    public List<string> Problems { get; } = [];

    /// <summary>Files that are here as they are there.</summary>
    public int Same { get; private set; }

    /// <summary>Files that were kept as they are here.</summary>
    public int Kept { get; private set; }

    public long Bytes => Groups.Sum(g => g.Items.Sum(i => i.Entry.Bytes));

    /// <param name="paths">Whole paths on the host; * and ? stand for letters of a name.</param>
    /// <param name="folder">Where everything comes to lie.</param>
    /// <param name="name">Another name for the one file or folder.</param>
    /// <param name="existing">To ask means that a file that is here and is another one is complained of.</param>
    public static async Task<FetchPlan> MakeAsync(HostFiles files, IReadOnlyList<string> paths, string folder, string? name, Existing existing, CancellationToken cancel)
    {
        var plan = new FetchPlan();
        var found = new List<FileName>();
        foreach (var path in paths)
        {
            found.AddRange(await ExpandAsync(files, path, cancel).ConfigureAwait(false));
        }
        if (name is not null && found.Count > 1)
        {
            throw new ClientException($"{found.Count} files or folders are named; --as gives a name to one.", ExitCodes.WrongUse);
        }
        foreach (var path in found)
        {
            await plan.AddAsync(files, path, folder, name is null ? path.Last() : new FileName(name), existing, cancel).ConfigureAwait(false);
        }
        return plan;
    }

    /// <summary>The same with all that leads there: "/etc/kiosk/kiosk.conf" comes to lie in "etc/kiosk" below the folder.</summary>
    public static async Task<FetchPlan> MakeTreeAsync(HostFiles files, IReadOnlyList<string> paths, string folder, Existing existing, CancellationToken cancel)
    {
        var plan = new FetchPlan();
        foreach (var named in paths)
        {
            foreach (var path in await ExpandAsync(files, named, cancel).ConfigureAwait(false))
            {
                var above = path.Folder().ToBytes().AsSpan().Trim((byte)'/');
                var under = above.IsEmpty ? folder : LocalName.Under(folder, FileName.Of(above));
                Directory.CreateDirectory(under);
                await plan.AddAsync(files, path, under, path.Last(), existing, cancel).ConfigureAwait(false);
            }
        }
        return plan;
    }

    /// <summary>Files that were found somewhere, each below a folder here as it lies on the host.</summary>
    /// <param name="group">Below which they were found.</param>
    public static FetchPlan Of(FileName group, IEnumerable<FileEntry> found, string folder, Existing existing)
    {
        var plan = new FetchPlan();
        var items = new FetchGroup(group, []);
        plan.Groups.Add(items);
        foreach (var entry in found.Where(e => e.Kind == FileKind.File))
        {
            var path = group.In(entry.Name);
            var target = LocalName.Under(folder, FileName.Of(path.ToBytes().AsSpan().TrimStart((byte)'/')));
            Directory.CreateDirectory(Path.GetDirectoryName(target)!);
            plan.AddFile(items, new FetchItem(path, entry, target), existing);
        }
        return plan;
    }

    private async Task AddAsync(HostFiles files, FileName path, string folder, FileName name, Existing existing, CancellationToken cancel)
    {
        var entry = await files.LookAsync(path, cancel).ConfigureAwait(false);
        var group = new FetchGroup(path, []);
        Groups.Add(group);
        if (entry.Kind != FileKind.Folder)
        {
            AddEntry(group, path, entry, LocalName.Under(folder, name), existing);
            return;
        }
        // Of the root itself everything comes to lie in the folder.
        var target = name.Text == "/" ? folder : LocalName.Under(folder, name);
        Folders.Add((entry, target));
        await foreach (var below in files.WalkAsync(path, Problems.Add, cancel).ConfigureAwait(false))
        {
            AddEntry(group, path.In(below.Name), below, LocalName.Under(target, below.Name), existing);
        }
    }

    private void AddEntry(FetchGroup group, FileName path, FileEntry entry, string target, Existing existing)
    {
        if (!targets.Add(target))
        {
            Problems.Add($"{path} would come to lie where another file does: {target}. Fetch it by itself.");
            return;
        }
        switch (entry.Kind)
        {
            case FileKind.Folder:
                Folders.Add((entry, target));
                break;
            case FileKind.Link when entry.Target is { Bytes: null } to:
                Links.Add((target, to.Text));
                break;
            case FileKind.File:
                AddFile(group, new FetchItem(path, entry, target), existing);
                break;
            default:
                Problems.Add($"{path} is a {entry.Kind.ToString().ToLowerInvariant()}, which has no content to be fetched.");
                break;
        }
    }

    private void AddFile(FetchGroup group, FetchItem item, Existing existing)
    {
        var here = new FileInfo(item.Target);
        var isFolder = Directory.Exists(item.Target);
        var there = isFolder || here.Exists ? new FileEntry(new FileName(here.Name), isFolder ? FileKind.Folder : FileKind.File, isFolder ? 0 : here.Length, 0, "", "", here.LastWriteTimeUtc) : null;
        switch (Placings.Decide(existing, there, item.Entry.Bytes, item.Entry.ChangedAt))
        {
            case Placing.Put:
                group.Items.Add(item);
                break;
            case Placing.Same:
                Same++;
                break;
            case Placing.Replace:
                group.Items.Add(item with { Replaces = true });
                break;
            case Placing.Rename:
                group.Items.Add(item with { Target = Free(item.Target) });
                break;
            case Placing.Blocked:
                Problems.Add($"'{item.Target}' is a folder here; {item.Path} was not fetched.");
                break;
            case Placing.Ask:
                throw new ClientException($"'{item.Target}' is here already, and is another one ({Units.Bytes(here.Length)}, changed {here.LastWriteTimeUtc:yyyy-MM-dd HH:mm}). Say --existing keep, replace, replace-older or rename. Nothing was fetched.", ExitCodes.WrongUse);
            default:
                Kept++;
                break;
        }
    }

    private string Free(string target) => Placings.Free(new FileName(target), other => Path.Exists(other.Text) || !targets.Add(other.Text)).Text;

    /// <summary>The paths that a pattern means; one without signs means itself.</summary>
    private static async Task<List<FileName>> ExpandAsync(HostFiles files, string path, CancellationToken cancel)
    {
        if (new FileName(path).CheckPath() is { } problem)
        {
            throw new ClientException(problem, ExitCodes.WrongUse);
        }
        List<FileName> found = [new("/")];
        foreach (var part in path.Split('/', StringSplitOptions.RemoveEmptyEntries))
        {
            if (!part.AsSpan().ContainsAny('*', '?'))
            {
                found = found.ConvertAll(f => f.In(new FileName(part)));
                continue;
            }
            var next = new List<FileName>();
            foreach (var folder in found)
            {
                await foreach (var entry in files.ListAsync(folder, cancel).ConfigureAwait(false))
                {
                    if (FileSystemName.MatchesSimpleExpression(part, entry.Name.Text, ignoreCase: false))
                    {
                        next.Add(folder.In(entry.Name));
                    }
                }
            }
            found = [.. next.OrderBy(f => f.Text, StringComparer.Ordinal)];
        }
        return found.Count > 0 ? found : throw new ClientException($"Nothing on the host is called {path}.", ExitCodes.NothingMatched);
    }
}
