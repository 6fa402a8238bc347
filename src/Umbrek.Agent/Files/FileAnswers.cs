using System.Security.Cryptography;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

using Frames = FileFrames<FileWord, FileAsk>;

/// <summary>Answers one technician's questions about files, one after the other.</summary>
public sealed class FileAnswers
{
    private const long HolePortion = 32 << 20;

    private readonly Frames frames;
    private readonly IHostFiles files;
    private readonly TransferCount count;
    private readonly FileChanger? changer;
    private readonly FileComparer comparer;
    private readonly byte[] buffer = new byte[FileFrames.MaxRecord];

    /// <param name="changer">On a channel for changes: it changes files, and no content is read; null on one for reading.</param>
    public FileAnswers(Frames frames, IHostFiles files, TransferCount count, FileChanger? changer = null)
    {
        (this.frames, this.files, this.count, this.changer) = (frames, files, count, changer);
        comparer = new FileComparer(frames, count, OpenAsync);
    }

    /// <exception cref="InvalidDataException">It can't come here.</exception>
    public async Task AnswerAsync(FileAsk ask, CancellationToken cancel)
    {
        if (comparer.IsAwaiting)
        {
            throw new InvalidDataException("a word came where sums of blocks were to follow");
        }
        try
        {
            if (ask.Check() is { } problem)
            {
                changer?.Refused(ask);
                throw new IOException(problem);
            }
            if (changer is null ? ask is { Part: not null } or { Write: not null } or { Zeros: not null } or { End: not null } or { Copy: not null } or { Change: not null } or { Trash: true }
                : ask is { Read: not null } or { Search.Text: not null } or { Hash: not null } or { Blocks: not null } or { Delta: not null })
            {
                throw new IOException(changer is null ? "This channel is for looking and reading; open one for changes." : "This channel is for changes; open another to read what is in files.");
            }
            switch (ask)
            {
                case { Look: { } path }:
                    await frames.WriteAsync(new FileWord(Entry: files.Look(path), Done: true), cancel).ConfigureAwait(false);
                    break;
                case { List: { } folder }:
                    await TellAsync(files.List(folder).Select(e => new FileFound(e.Name, e, null)), cancel).ConfigureAwait(false);
                    break;
                case { Walk: { } folder }:
                    await TellAsync(files.Walk(folder), cancel).ConfigureAwait(false);
                    break;
                case { Read: { } read }:
                    await ReadAsync(read, cancel).ConfigureAwait(false);
                    break;
                case { Hash: { } path }:
                    await comparer.HashAsync(path, cancel).ConfigureAwait(false);
                    break;
                case { Blocks: { } blocks }:
                    await comparer.BlocksAsync(blocks, cancel).ConfigureAwait(false);
                    break;
                case { Delta: { } delta }:
                    await comparer.BeginAsync(delta, cancel).ConfigureAwait(false);
                    break;
                case { Search: { } search }:
                    await new FileSearcher(frames, files, count).AnswerAsync(search, cancel).ConfigureAwait(false);
                    break;
                case { Transfer: { } of }:
                    await count.BeginAsync(of, files.PlaceOf(of), cancel).ConfigureAwait(false);
                    await frames.WriteAsync(new FileWord(Done: true), cancel).ConfigureAwait(false);
                    break;
                default:
                    await changer!.AnswerAsync(ask, cancel).ConfigureAwait(false);
                    break;
            }
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            if (ask is { Read: not null } or { Hash: not null } or { Blocks: not null })
            {
                await count.FailedAsync(cancel).ConfigureAwait(false);
            }
            await frames.WriteAsync(new FileWord(Problem: e.Message, Done: true), cancel).ConfigureAwait(false);
        }
    }

    /// <summary>Bytes of a file that is being written, or what is said of another version's blocks.</summary>
    /// <exception cref="InvalidDataException">None were to come.</exception>
    public ValueTask TakeAsync(ReadOnlyMemory<byte> data, CancellationToken cancel) => comparer.IsAwaiting ? new ValueTask(comparer.TakeAsync(data, cancel)) : changer?.TakeAsync(data, cancel) ?? throw new InvalidDataException("bytes came where none were asked for");

    /// <summary>Entries, as many to a word as one holds.</summary>
    private async Task TellAsync(IEnumerable<FileFound> all, CancellationToken cancel)
    {
        // JSON writes a letter as six bytes where it must.
        const int mostBytes = 32 * 1024;
        const int entryBytes = 240;
        const int letterBytes = 6;
        var entries = new List<FileEntry>();
        var bytes = 0;
        foreach (var found in all)
        {
            if (found.Entry is not { } entry)
            {
                await frames.WriteAsync(new FileWord(Problem: found.Problem, At: found.Name), cancel).ConfigureAwait(false);
                continue;
            }
            var more = entryBytes + BytesOf(entry.Name) + BytesOf(entry.Target);
            if (bytes + more > mostBytes && entries.Count > 0)
            {
                await frames.WriteAsync(new FileWord(Entries: entries), cancel).ConfigureAwait(false);
                (entries, bytes) = ([], 0);
            }
            entries.Add(entry);
            bytes += more;
        }
        await frames.WriteAsync(new FileWord(Entries: entries, Done: true), cancel).ConfigureAwait(false);

        static int BytesOf(FileName? name) => name is null ? 0 : letterBytes * name.Text.Length + 2 * (name.Bytes?.Length ?? 0);
    }

    /// <summary>Reads a file from where it is wanted, and hashes all of it: what was there already is read again, but not sent.</summary>
    private async Task ReadAsync(FileRead read, CancellationToken cancel)
    {
        using var source = await OpenAsync(read.Path, cancel).ConfigureAwait(false);
        var entry = source.Entry;
        var from = read.Most is not null || (read.Version == entry.Version && read.From <= entry.Bytes) ? read.From : 0;
        await frames.WriteAsync(new FileWord(Entry: entry, From: from), cancel).ConfigureAwait(false);
        using var hash = read.Most is null ? IncrementalHash.CreateHash(HashAlgorithmName.SHA256) : null;
        // Files of /proc say that they are empty, and are not; they are read as they come.
        var saysNothing = entry.Bytes == 0;
        var end = saysNothing ? long.MaxValue : entry.Bytes;
        var last = read.Most is { } most && most < end - from ? from + most : end;
        var at = hash is null ? from : 0;
        var dataEnd = saysNothing ? long.MaxValue : 0;
        while (at < last)
        {
            if (at >= dataEnd)
            {
                var data = Math.Min(source.NextData(at), last);
                await SkipAsync(at, data, from, hash, cancel).ConfigureAwait(false);
                (at, dataEnd) = (data, source.NextHole(data));
                continue;
            }
            var bytes = buffer.AsMemory(0, (int)Math.Min(buffer.Length, Math.Min(dataEnd, at < from ? from : last) - at));
            var got = source.Read(at, bytes.Span);
            if (got == 0)
            {
                break;
            }
            hash?.AppendData(bytes.Span[..got]);
            if (at >= from)
            {
                await frames.WriteAsync(bytes[..got], cancel).ConfigureAwait(false);
                count.Moved(got);
            }
            at += got;
            cancel.ThrowIfCancellationRequested();
        }
        var changed = (at < last && !saysNothing) || source.Again().Version != entry.Version;
        var sha256 = hash?.GetHashAndReset();
        await frames.WriteAsync(new FileWord(Sha256: sha256, Changed: changed, Done: true), cancel).ConfigureAwait(false);
        await count.EndedAsync(sha256, changed, cancel).ConfigureAwait(false);
    }

    private async ValueTask<IFileSource> OpenAsync(FileName path, CancellationToken cancel)
    {
        IFileSource source;
        try
        {
            source = files.Open(path);
        }
        catch (IOException)
        {
            await count.BeganAsync(files.PlaceOf(path), cancel).ConfigureAwait(false);
            throw;
        }
        // By what was opened, not by its name: that may lead elsewhere a moment later.
        await count.BeganAsync(source.Place, cancel).ConfigureAwait(false);
        return source;
    }

    /// <summary>Tells of a hole in portions, so that the other side hashes one while this side hashes the next.</summary>
    private async Task SkipAsync(long hole, long to, long from, IncrementalHash? hash, CancellationToken cancel)
    {
        while (hole < to)
        {
            var end = Math.Min(to, hole + HolePortion);
            if (hash is not null)
            {
                // What a hole reads as.
                buffer.AsSpan().Clear();
                for (var left = end - hole; left > 0; left -= Math.Min(left, buffer.Length))
                {
                    hash.AppendData(buffer.AsSpan(0, (int)Math.Min(left, buffer.Length)));
                }
            }
            if (end > Math.Max(hole, from))
            {
                await frames.WriteAsync(new FileWord(Zeros: end - Math.Max(hole, from)), cancel).ConfigureAwait(false);
                await frames.FlushAsync(cancel).ConfigureAwait(false);
            }
            cancel.ThrowIfCancellationRequested();
            hole = end;
        }
    }
}
