using Umbrek.Cli.Hosting;
using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <param name="File">Here.</param>
/// <param name="Target">On the host.</param>
/// <param name="Version">Which one it is.</param>
internal sealed record SendItem(string File, FileName Target, long Bytes, DateTimeOffset ChangedAt, int? Mode, string Version)
{
    public bool Replaces { get; init; }

    /// <summary>Of what makes room: the host's word for which one it is.</summary>
    public string? OldVersion { get; init; }

    public bool IsDone { get; set; }

    /// <summary>It is there, and is what was sent.</summary>
    public bool IsThere { get; set; }

    public bool WasTried { get; set; }

    /// <summary>So much of it was there when a line was opened.</summary>
    public long Held { get; set; }

    /// <summary>Of what was read here, once its end was sent.</summary>
    public byte[]? Sha256 { get; set; }
}

/// <summary>Files of one thing that was named.</summary>
internal sealed record SendGroup(FileName Target, List<SendItem> Items);

/// <summary>What there is to send, and where it comes to lie on the host.</summary>
internal sealed class SendPlan
{
    private readonly Dictionary<string, FileEntry> there = new(StringComparer.Ordinal);
    private readonly HashSet<string> targets = new(StringComparer.Ordinal);

    public List<SendGroup> Groups { get; } = [];

    /// <summary>Folders to be made, each before what it holds.</summary>
    public List<(string Folder, FileName Target)> Folders { get; } = [];

    public List<(FileName Link, FileName Target)> Links { get; } = [];

    /// <summary>What can't be sent, and why.</summary>
    public List<string> Problems { get; } = [];

    /// <summary>Files that are there as they are here.</summary>
    public int Same { get; private set; }

    /// <summary>Files that were kept as they are there.</summary>
    public int Kept { get; private set; }

    public long Bytes => Groups.Sum(g => g.Items.Sum(i => i.Bytes));

    /// <param name="named">Files and folders here.</param>
    /// <param name="folder">Where everything comes to lie.</param>
    /// <param name="name">Another name for the one file or folder.</param>
    /// <param name="existing">To ask means that a file that is there and is another one is complained of.</param>
    public static async Task<SendPlan> MakeAsync(HostFiles files, IReadOnlyList<string> named, FileName folder, string? name, Existing existing, CancellationToken cancel)
    {
        if ((await files.LookAsync(folder, cancel).ConfigureAwait(false)).Kind != FileKind.Folder)
        {
            throw new ClientException($"{folder} is no folder on the host; name a folder with --to, and another name with --as.", ExitCodes.WrongUse);
        }
        var plan = new SendPlan();
        foreach (var path in named)
        {
            var last = new FileName(name ?? Path.GetFileName(Path.TrimEndingDirectorySeparator(Path.GetFullPath(path))));
            if (!last.IsPlainName())
            {
                throw new ClientException($"'{path}' has no name of its own; say one with --as.", ExitCodes.WrongUse);
            }
            await plan.AddAsync(files, Path.GetFullPath(path), folder.In(last), existing, cancel).ConfigureAwait(false);
        }
        return plan;
    }

    private async Task AddAsync(HostFiles files, string path, FileName target, Existing existing, CancellationToken cancel)
    {
        var group = new SendGroup(target, []);
        Groups.Add(group);
        await LookAsync(files, target, cancel).ConfigureAwait(false);
        if (!Directory.Exists(path))
        {
            AddFile(group, path, target, existing);
            return;
        }
        AddTree(group, new DirectoryInfo(path), target, existing);
    }

    /// <summary>A folder with all below it; what can't be looked at is said.</summary>
    private void AddTree(SendGroup group, DirectoryInfo folder, FileName target, Existing existing)
    {
        AddFolder(folder.FullName, target);
        try
        {
            foreach (var below in folder.EnumerateFileSystemInfos("*", new EnumerationOptions { AttributesToSkip = 0, IgnoreInaccessible = false }))
            {
                AddBelow(group, below, target, existing);
            }
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            Problems.Add(e.Message);
        }
    }

    /// <summary>What the host has there already, with all below it.</summary>
    private async Task LookAsync(HostFiles files, FileName target, CancellationToken cancel)
    {
        var word = await files.AskAnyAsync(new FileAsk(Look: target), null, cancel).ConfigureAwait(false);
        if (word.Entry is not { } entry)
        {
            return;
        }
        there[target.Text] = entry;
        if (entry.Kind == FileKind.Folder)
        {
            await foreach (var below in files.WalkAsync(target, Problems.Add, cancel).ConfigureAwait(false))
            {
                there[target.In(below.Name).Text] = below;
            }
        }
    }

    private void AddBelow(SendGroup group, FileSystemInfo found, FileName folder, Existing existing)
    {
        var target = folder.In(new FileName(found.Name));
        if (found.LinkTarget is { } to)
        {
            AddLink(target, LocalFile.NameOf(to));
        }
        else if (found is DirectoryInfo inner)
        {
            AddTree(group, inner, target, existing);
        }
        else
        {
            AddFile(group, found.FullName, target, existing);
        }
    }

    private void AddFolder(string path, FileName target)
    {
        if (there.GetValueOrDefault(target.Text) is { Kind: not FileKind.Folder, TargetKind: not FileKind.Folder })
        {
            throw new ClientException($"{target} is no folder on the host; '{path}' is one here. Nothing was sent.");
        }
        if (!there.ContainsKey(target.Text))
        {
            Folders.Add((path, target));
        }
    }

    private void AddLink(FileName target, FileName to)
    {
        switch (there.GetValueOrDefault(target.Text))
        {
            case null:
                Links.Add((target, to));
                break;
            case { Target: { } leads } when leads == to:
                break;
            default:
                Problems.Add($"{target} is on the host already, and is not the link to {to} that is here.");
                break;
        }
    }

    private void AddFile(SendGroup group, string path, FileName target, Existing existing)
    {
        SendItem item;
        try
        {
            using var handle = LocalFile.Open(path);
            item = new SendItem(path, target, RandomAccess.GetLength(handle), File.GetLastWriteTimeUtc(handle), LocalFile.ModeOf(handle), LocalFile.VersionOf(handle));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            Problems.Add(e.Message);
            return;
        }
        if (!targets.Add(target.Text))
        {
            Problems.Add($"'{path}' would come to lie where another file does: {target}. Send it by itself.");
            return;
        }
        var old = there.GetValueOrDefault(target.Text);
        switch (Placings.Decide(existing, old, item.Bytes, item.ChangedAt))
        {
            case Placing.Put:
                group.Items.Add(item);
                break;
            case Placing.Same:
                Same++;
                break;
            case Placing.Replace:
                group.Items.Add(item with { Replaces = true, OldVersion = old!.Version });
                break;
            case Placing.Rename:
                group.Items.Add(item with { Target = Placings.Free(item.Target, other => there.ContainsKey(other.Text) || !targets.Add(other.Text)) });
                break;
            case Placing.Blocked:
                Problems.Add(old is { Kind: FileKind.Folder } or { TargetKind: FileKind.Folder } ? $"{target} is a folder on the host; '{path}' was not sent." : $"{target} is no file on the host; '{path}' was not sent.");
                break;
            case Placing.Ask:
                throw new ClientException($"{item.Target} is on the host already, and is another one ({Units.Bytes(old!.Bytes)}, changed {old.ChangedAt.UtcDateTime:yyyy-MM-dd HH:mm}). Say --existing keep, replace, replace-older or rename. Nothing was sent.", ExitCodes.WrongUse);
            default:
                Kept++;
                break;
        }
    }
}
