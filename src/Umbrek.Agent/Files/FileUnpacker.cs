using Umbrek.Agent.Files.Archives;
using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

/// <summary>
/// Unpacks an archive of this host into a folder on it, and nowhere else: no name in it leads out of the folder, nothing is written through a
/// link, and links are made last.
/// </summary>
/// <param name="files">Where the archive lies.</param>
/// <param name="within">Files below a folder alone.</param>
public sealed class FileUnpacker(IHostFiles files, IFileChanges changes, Func<FileName, (IHostFiles Files, IFileChanges Changes)> within)
{
    private const int BufferBytes = 256 * 1024;

    /// <summary>One element for each that was unpacked, or could not be.</summary>
    public IEnumerable<FileFound> Unpack(FileUnpack wish, CancellationToken cancel)
    {
        var format = ArchiveFormats.Of(wish.Archive) ?? throw new IOException(ArchiveFormats.Problem(wish.Archive));
        using var source = files.Open(wish.Archive);
        Folders.Make(files, changes, wish.To);
        var folder = files.PlaceOf(wish.To);
        if (folder.Bytes is not null || FileRoots.Check(folder.Text) is not null)
        {
            throw new IOException($"{wish.To} has a name that is no plain text; nothing is unpacked into it.");
        }
        var limit = new UnpackLimit(source.Entry.Bytes, files.Room(folder), wish.Large);
        using var archive = Try(wish.Archive, () => Archive.Read(format, new SourceStream(source, cancel)));
        var isSaid = archive.Said is not null;
        if (archive.Said is var (entries, bytes) && limit.Add(entries, bytes) is { } tooMuch)
        {
            throw new IOException($"{wish.Archive} was not unpacked. {tooMuch}");
        }
        var into = new Folder(within(folder), folder, wish, cancel);
        while (Try(wish.Archive, archive.Next) is { } item)
        {
            cancel.ThrowIfCancellationRequested();
            if (!isSaid && limit.Add(1, 0) is { } tooMany)
            {
                throw new IOException($"{wish.Archive} was unpacked up to there. {tooMany}");
            }
            if (into.Take(item, isSaid ? null : limit) is { } done)
            {
                yield return done;
            }
        }
        foreach (var last in into.Finish())
        {
            yield return last;
        }
    }

    private static T Try<T>(FileName archive, Func<T> read)
    {
        try
        {
            return read();
        }
        catch (Exception e) when (e is InvalidDataException or EndOfStreamException or FormatException or ArgumentException or OverflowException)
        {
            throw new IOException($"{archive} can't be unpacked{(e is InvalidDataException ? $": {TerminalText.Line(e.Message)}" : "; it is damaged.")}");
        }
    }

    /// <summary>Where it is unpacked.</summary>
    private sealed class Folder((IHostFiles Files, IFileChanges Changes) here, FileName folder, FileUnpack wish, CancellationToken cancel)
    {
        private readonly HashSet<string> made = new(StringComparer.Ordinal);
        private readonly List<(FileName Path, FileName Target)> links = [];
        private readonly List<(FileName Path, int? Mode, DateTimeOffset? ChangedAt)> folders = [];
        private readonly byte[] buffer = new byte[BufferBytes];

        /// <returns>Null for what is done at the end.</returns>
        public FileFound? Take(ArchiveItem item, UnpackLimit? limit)
        {
            if (ArchiveFormats.PathOf(item.Name) is not { } name)
            {
                return Problem(folder, $"'{TerminalText.Line(item.Name)}' in it leads out of the folder, or is no name here; it was left out.");
            }
            var path = folder.In(name);
            try
            {
                MakeFolder(item.Kind == FileKind.Folder ? name : new FileName(name.Text.Contains('/', StringComparison.Ordinal) ? name.Text[..name.Text.LastIndexOf('/')] : ""));
                switch (item)
                {
                    case { Kind: FileKind.Folder }:
                        folders.Add((path, item.Mode, item.ChangedAt));
                        return new FileFound(path, here.Files.Look(path), null);
                    case { Kind: FileKind.Link, Target: { Length: > 0 } target }:
                        links.Add((path, new FileName(target)));
                        return null;
                    case { Kind: FileKind.File, Twin: { } twin }:
                        return Put(path, item, limit, () => Twin(twin));
                    case { Kind: FileKind.File, Open: { } open }:
                        return Put(path, item, limit, open);
                    default:
                        return Problem(path, $"{path} is encrypted in it, or neither file, folder nor link; it was left out.");
                }
            }
            catch (Exception e) when (e is (IOException and not TooMuchException) or UnauthorizedAccessException or InvalidDataException)
            {
                return Problem(path, e is InvalidDataException ? $"{path} {TerminalText.Line(e.Message)}." : e.Message);
            }
        }

        /// <summary>Links, for what is written through one leads elsewhere, and then the times of folders, for what is written in one changes its time.</summary>
        public IEnumerable<FileFound> Finish()
        {
            foreach (var (path, target) in links)
            {
                yield return Link(path, target);
            }
            foreach (var (path, mode, at) in Enumerable.Reverse(folders))
            {
                foreach (var set in here.Changes.Set(new FileSetting(path, mode, ChangedAt: at)))
                {
                    if (set.Problem is not null)
                    {
                        yield return set;
                    }
                }
            }
        }

        private FileFound Link(FileName path, FileName target)
        {
            try
            {
                here.Changes.MakeLink(path, target);
                return new FileFound(path, here.Files.Find(path), null);
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                return Problem(path, e.Message);
            }
        }

        /// <summary>Each of the folders on the way is one itself, and no link to one.</summary>
        private void MakeFolder(FileName name)
        {
            var at = folder;
            foreach (var part in name.Text.Split('/', StringSplitOptions.RemoveEmptyEntries))
            {
                at = at.In(new FileName(part));
                if (!made.Contains(at.Text))
                {
                    switch (here.Files.Find(at))
                    {
                        case null:
                            here.Changes.MakeFolder(at);
                            break;
                        case { Kind: FileKind.Folder }:
                            break;
                        case { Kind: FileKind.Link }:
                            throw new IOException($"{at} is a link here; nothing is unpacked through it.");
                        default:
                            throw new IOException($"{at} is no folder here, and is one in the archive.");
                    }
                    made.Add(at.Text);
                }
            }
        }

        private SourceStream Twin(string twin)
        {
            var first = ArchiveFormats.PathOf(twin) ?? throw new InvalidDataException("is another name of something outside of the archive");
            var path = folder.In(first);
            return here.Files.Find(path) is { Kind: FileKind.File } ? new SourceStream(here.Files.Open(path), cancel, owns: true) : throw new IOException($"{path} is not there, of which another name is in the archive.");
        }

        private FileFound Put(FileName path, ArchiveItem item, UnpackLimit? limit, Func<Stream> open)
        {
            var there = here.Files.Find(path);
            if (there is { Kind: FileKind.Link })
            {
                return Problem(path, $"{path} is a link here; nothing is unpacked through it.");
            }
            var placing = Placings.Decide(wish.Existing, there, item.Bytes, item.ChangedAt);
            switch (placing)
            {
                case Placing.Same:
                    return new FileFound(path, there, null);
                case Placing.Keep or Placing.Ask:
                    return Problem(path, $"{path} is there already, and was kept.");
                case Placing.Blocked:
                    return Problem(path, $"{path} is no file here; nothing was put in its place.");
                case Placing.Rename:
                    path = Placings.Free(path, other => here.Files.Find(other) is not null);
                    break;
            }
            using var from = open();
            using var sink = here.Changes.Open(new FileWrite(path, item.Bytes, $"{Guid.NewGuid():N}", Replaces: placing == Placing.Replace, KeepsOld: placing == Placing.Replace, Mode: item.Mode, ChangedAt: item.ChangedAt));
            var at = 0L;
            try
            {
                while (from.Read(buffer) is > 0 and var got)
                {
                    cancel.ThrowIfCancellationRequested();
                    if (limit?.Add(0, got) is { } tooMuch)
                    {
                        throw new TooMuchException($"{wish.Archive} was unpacked up to {path}. {tooMuch}");
                    }
                    // What is said of its length was counted; more does not come out.
                    if (item.Twin is null && got > item.Bytes - at)
                    {
                        throw new InvalidDataException("is longer than the archive says");
                    }
                    sink.Write(at, buffer.AsMemory(0, got));
                    at += got;
                }
                if (item.Twin is null && at != item.Bytes)
                {
                    throw new InvalidDataException("is not as long as the archive says");
                }
                return new FileFound(path, sink.End(), null);
            }
            catch
            {
                sink.Drop();
                throw;
            }
        }

        private static FileFound Problem(FileName path, string why) => new(path, null, why);
    }

    private sealed class TooMuchException(string message) : IOException(message);
}
