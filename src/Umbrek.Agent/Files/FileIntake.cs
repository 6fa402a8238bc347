using System.Security.Cryptography;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

using Frames = FileFrames<FileWord, FileAsk>;

/// <summary>
/// Takes in one file after the other: what is to be written, its bytes and holes, and its end. Where nothing can come of one, that is
/// said at once, and the rest of it is passed over.
/// </summary>
public sealed class FileIntake(Frames frames, IHostFiles files, IFileChanges changes, TransferCount count) : IDisposable
{
    private static readonly byte[] Nothing = new byte[64 * 1024];

    private IFileSink? sink;
    private IFileSource? old;
    private FileWrite? write;
    private IncrementalHash? hash;
    private long at;

    /// <summary>Bytes are passed over until the end.</summary>
    private bool isFailed;

    public async Task BeginAsync(FileWrite wanted, CancellationToken cancel)
    {
        if (write is not null)
        {
            throw new IOException("A file is being written on this channel; end it first.");
        }
        (write, isFailed, at) = (wanted, false, wanted.From);
        Exception? refused = null;
        try
        {
            sink = changes.Open(wanted);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            refused = e;
        }
        // By what was opened, not by its name: that may lead elsewhere a moment later.
        await count.BeganAsync(sink?.Place ?? files.PlaceOf(wanted.Path), cancel).ConfigureAwait(false);
        await TryAsync(
            () =>
            {
                if (sink is null)
                {
                    throw refused!;
                }
                // What lies behind where the technician begins is not known to be right.
                if (sink.Length < wanted.From)
                {
                    throw new DifferentException($"Of {wanted.Path} {sink.Length} bytes are here, and not {wanted.From}; send it from there.");
                }
                sink.Cut(wanted.From);
                old = wanted.Base is { } version ? OpenBase(wanted.Path, version) : null;
                hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
                HashHeld(wanted.From, cancel);
            },
            cancel).ConfigureAwait(false);
    }

    /// <summary>What was asked can't be meant: its bytes are passed over to its end.</summary>
    public void PassOver(FileWrite refused) => (write, isFailed) = (refused, true);

    /// <exception cref="InvalidDataException">Nothing is being written.</exception>
    public ValueTask TakeAsync(ReadOnlyMemory<byte> data, CancellationToken cancel)
    {
        if (write is null)
        {
            throw new InvalidDataException("bytes came of no file");
        }
        if (isFailed)
        {
            return ValueTask.CompletedTask;
        }
        count.Moved(data.Length);
        return TryAsync(
            () =>
            {
                if (data.Length > write.Bytes - at)
                {
                    throw new IOException($"More of {write.Path} came than was said: it grew while it was read. Send it again.");
                }
                sink!.Write(at, data);
                hash!.AppendData(data.Span);
                at += data.Length;
            },
            cancel);
    }

    public ValueTask SkipAsync(long zeros, CancellationToken cancel)
    {
        if (write is null)
        {
            throw new InvalidDataException("a hole came of no file");
        }
        return isFailed ? ValueTask.CompletedTask : TryAsync(
            () =>
            {
                if (zeros > write.Bytes - at)
                {
                    throw new IOException($"More of {write.Path} came than was said: it grew while it was read. Send it again.");
                }
                sink!.Skip(at + zeros);
                for (var left = zeros; left > 0; left -= Math.Min(left, Nothing.Length))
                {
                    hash!.AppendData(Nothing, 0, (int)Math.Min(left, Nothing.Length));
                    cancel.ThrowIfCancellationRequested();
                }
                at += zeros;
            },
            cancel);
    }

    /// <summary>What follows is what the base has there.</summary>
    public ValueTask CopyAsync(FileSpan span, CancellationToken cancel)
    {
        if (write is null)
        {
            throw new InvalidDataException("parts of no file came");
        }
        return isFailed ? ValueTask.CompletedTask : TryAsync(
            () =>
            {
                if (old is null)
                {
                    throw new IOException($"{write.Path} is not written on the base of another version.");
                }
                if (span.Bytes > write.Bytes - at)
                {
                    throw new IOException($"More of {write.Path} came than was said: it grew while it was read. Send it again.");
                }
                var buffer = new byte[256 * 1024];
                for (var (from, left) = (span.From, span.Bytes); left > 0;)
                {
                    var bytes = buffer.AsMemory(0, (int)Math.Min(buffer.Length, left));
                    var got = old.Read(from, bytes.Span);
                    if (got == 0)
                    {
                        throw new DifferentException($"{write.Path} became shorter while it was read again.");
                    }
                    bytes = bytes[..got];
                    hash!.AppendData(bytes.Span);
                    if (bytes.Span.ContainsAnyExcept((byte)0))
                    {
                        sink!.Write(at, bytes);
                    }
                    else
                    {
                        sink!.Skip(at + got);
                    }
                    (at, from, left) = (at + got, from + got, left - got);
                    cancel.ThrowIfCancellationRequested();
                }
            },
            cancel);
    }

    public async Task EndAsync(FileEnd end, CancellationToken cancel)
    {
        if (write is null)
        {
            throw new IOException("No file is being written on this channel.");
        }
        FileEntry? entry = null;
        byte[]? sha256 = null;
        if (!isFailed)
        {
            await TryAsync(
                () =>
                {
                    sha256 = hash!.GetHashAndReset();
                    if (end.Sha256 is null)
                    {
                        throw new IOException($"{write.Path} could not be read to its end where it comes from; nothing of it is kept here.");
                    }
                    if (at != write.Bytes || !sha256.AsSpan().SequenceEqual(end.Sha256))
                    {
                        throw new DifferentException($"What arrived of {write.Path} is not what was sent; nothing of it is kept.");
                    }
                    entry = sink!.End();
                },
                cancel).ConfigureAwait(false);
        }
        Close();
        write = null;
        if (entry is not null)
        {
            await count.EndedAsync(sha256, changed: false, cancel).ConfigureAwait(false);
            await frames.WriteAsync(new FileWord(Entry: entry, Sha256: sha256, Done: true), cancel).ConfigureAwait(false);
        }
    }

    public void Dispose() => Close();

    private IFileSource OpenBase(FileName path, string version)
    {
        var source = files.Open(path);
        if (source.Entry.Version == version)
        {
            return source;
        }
        source.Dispose();
        throw new DifferentException($"{path} was changed by somebody meanwhile; look at it again.");
    }

    private void HashHeld(long length, CancellationToken cancel)
    {
        if (length == 0)
        {
            return;
        }
        var buffer = new byte[256 * 1024];
        for (var from = 0L; from < length;)
        {
            var got = sink!.Read(from, buffer.AsSpan(0, (int)Math.Min(buffer.Length, length - from)));
            if (got == 0)
            {
                throw new IOException($"What is here of {write!.Path} can't be read again.");
            }
            hash!.AppendData(buffer, 0, got);
            from += got;
            cancel.ThrowIfCancellationRequested();
        }
    }

    /// <summary>Where it goes wrong nothing of the file stays, and that is the answer.</summary>
    private async ValueTask TryAsync(Action act, CancellationToken cancel)
    {
        try
        {
            act();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            isFailed = true;
            sink?.Drop();
            Close();
            await count.FailedAsync(cancel).ConfigureAwait(false);
            await frames.WriteAsync(new FileWord(Problem: e.Message, Differs: e is DifferentException, Done: true), cancel).ConfigureAwait(false);
            await frames.FlushAsync(cancel).ConfigureAwait(false);
        }
    }

    private void Close()
    {
        sink?.Dispose();
        old?.Dispose();
        hash?.Dispose();
        (sink, old, hash) = (null, null, null);
    }

    /// <summary>It is worth another try, from the beginning.</summary>
    private sealed class DifferentException(string message) : IOException(message);
}
