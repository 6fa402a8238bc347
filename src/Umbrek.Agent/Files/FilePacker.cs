using System.Text;
using Umbrek.Agent.Files.Archives;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

/// <summary>Packs files and folders of this host into an archive on it.</summary>
public sealed class FilePacker(IHostFiles files, IFileChanges changes)
{
    /// <summary>One element for each that was packed, or could not be; the archive takes its place behind the last.</summary>
    public IEnumerable<FileFound> Pack(FilePack pack, CancellationToken cancel)
    {
        var format = ArchiveFormats.Of(pack.To) ?? throw new IOException(ArchiveFormats.Problem(pack.To));
        if (files.Find(pack.To) is not null)
        {
            throw new IOException($"There is a {pack.To} already; it is left as it is.");
        }
        var names = new HashSet<string>(StringComparer.Ordinal);
        var tops = new List<(FileName Path, FileEntry Entry)>();
        foreach (var path in pack.Paths)
        {
            if (IsBelow(files.PlaceOf(path), files.PlaceOf(pack.To)))
            {
                throw new IOException($"{pack.To} lies in {path}, and would be packed into itself. Put it elsewhere.");
            }
            if (!names.Add(path.Last().Text))
            {
                throw new IOException($"Two of what is to be packed are called {path.Last()}; pack them one by one, or the folder around them.");
            }
            tops.Add((path, files.Find(path) ?? throw new IOException($"There is no {path} on this host.")));
        }
        using var sink = changes.Open(new FileWrite(pack.To, 0, $"{Guid.NewGuid():N}"));
        var to = new SinkStream(sink, cancel);
        var isWhole = false;
        try
        {
            using (var archive = Archive.Write(format, to))
            {
                foreach (var (path, entry) in tops)
                {
                    yield return Add(archive, to, path, path.Last(), entry, cancel);
                    foreach (var found in entry.Kind == FileKind.Folder ? files.Walk(path) : [])
                    {
                        yield return found.Entry is { } below ? Add(archive, to, path.In(found.Name), path.Last().In(found.Name), below, cancel) : found with { Name = path.In(found.Name) };
                    }
                }
            }
            sink.End();
            isWhole = true;
        }
        finally
        {
            if (!isWhole)
            {
                sink.Drop();
            }
        }
    }

    /// <param name="name">As it is called in the archive.</param>
    private FileFound Add(IArchiveWriter archive, SinkStream to, FileName path, FileName name, FileEntry entry, CancellationToken cancel)
    {
        cancel.ThrowIfCancellationRequested();
        try
        {
            if (name.Bytes is not null || entry.Target?.Bytes is not null)
            {
                return new FileFound(path, null, $"{path} has a name that is no text, or leads to one; it was left out.");
            }
            switch (entry.Kind)
            {
                case FileKind.Folder:
                    archive.AddFolder(name.Text, entry);
                    break;
                case FileKind.Link:
                    archive.AddLink(name.Text, entry, entry.Target?.Text ?? "");
                    break;
                case FileKind.File:
                    using (var source = files.Open(path))
                    {
                        using var content = new SourceStream(source, cancel);
                        archive.AddFile(name.Text, source.Entry, content);
                        if (content.IsCut || source.Again().Version != source.Entry.Version)
                        {
                            return new FileFound(path, null, $"{path} changed while it was packed; what is in the archive may be neither.");
                        }
                    }
                    break;
                default:
                    return new FileFound(path, null, $"{path} is a {entry.Kind.ToString().ToLowerInvariant()}, which has no content to be packed.");
            }
            return new FileFound(path, entry, null);
        }
        catch (Exception e) when ((e is IOException or UnauthorizedAccessException) && to.Trouble is null)
        {
            return new FileFound(path, null, e.Message);
        }
    }

    private static bool IsBelow(FileName folder, FileName path) =>
        Encoding.Latin1.GetString(path.ToBytes()) is var text && Encoding.Latin1.GetString(folder.ToBytes()).TrimEnd('/') is var root && (text == root || text.StartsWith(root + "/", StringComparison.Ordinal));
}
