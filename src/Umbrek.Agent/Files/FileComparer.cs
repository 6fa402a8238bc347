using System.Security.Cryptography;
using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

using Frames = FileFrames<FileWord, FileAsk>;

/// <summary>Says what is in files without sending all of it: their hashes, the sums of their blocks, and what another version has not.</summary>
/// <param name="open">Opens a file, and counts it.</param>
public sealed class FileComparer(Frames frames, TransferCount count, Func<FileName, CancellationToken, ValueTask<IFileSource>> open)
{
    /// <summary>So much is kept in mind of another version's blocks, while they are looked for.</summary>
    private const long MostSums = BlockSums.WorthUpTo / BlockSums.MaxSize * BlockSums.EntryBytes;
    private const int Portion = 256 * 1024;

    /// <summary>Of what is the same so much is said at a time, so that the other side goes on beside this one.</summary>
    private const int SamePortion = 32 << 20;

    /// <summary>Shorter runs of zeros are sent as they are.</summary>
    private const int ShortestHole = 4096;

    private FileDelta? delta;
    private byte[]? sums;
    private long filled;

    /// <summary>Sums of blocks are on their way.</summary>
    public bool IsAwaiting => delta is not null;

    public async Task HashAsync(FileName path, CancellationToken cancel)
    {
        using var source = await open(path, cancel).ConfigureAwait(false);
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        var buffer = new byte[Portion];
        for (var at = 0L; source.Read(at, buffer) is > 0 and var got; at += got)
        {
            hash.AppendData(buffer, 0, got);
            cancel.ThrowIfCancellationRequested();
        }
        var changed = source.Again().Version != source.Entry.Version;
        var sha256 = hash.GetHashAndReset();
        await frames.WriteAsync(new FileWord(Entry: source.Entry, Sha256: sha256, Changed: changed, Done: true), cancel).ConfigureAwait(false);
        await count.EndedAsync(sha256, changed, cancel).ConfigureAwait(false);
    }

    /// <summary>The entry, what is said of each block as bytes, and whether the file changed meanwhile.</summary>
    public async Task BlocksAsync(FileBlocks blocks, CancellationToken cancel)
    {
        using var source = await open(blocks.Path, cancel).ConfigureAwait(false);
        var entry = source.Entry;
        if (BlockSums.LengthOf(entry.Bytes, blocks.Size) > MostSums)
        {
            throw new IOException($"{blocks.Path} has too many blocks of {blocks.Size} bytes; ask for longer ones.");
        }
        await frames.WriteAsync(new FileWord(Entry: entry), cancel).ConfigureAwait(false);
        var buffer = new byte[Math.Max(Portion, blocks.Size)];
        var said = new byte[buffer.Length / blocks.Size * BlockSums.EntryBytes];
        var at = 0L;
        while (at < entry.Bytes)
        {
            var got = Fill(source, at, buffer.AsSpan(0, (int)Math.Min(buffer.Length, entry.Bytes - at)));
            if (got == 0)
            {
                break;
            }
            var length = 0;
            for (var block = 0; block < got; block += blocks.Size, length += BlockSums.EntryBytes)
            {
                BlockSums.Write(buffer.AsSpan(block, Math.Min(blocks.Size, got - block)), blocks.Seed, said.AsSpan(length));
            }
            await frames.WriteAsync(said.AsMemory(0, length), cancel).ConfigureAwait(false);
            count.Moved(length);
            at += got;
            cancel.ThrowIfCancellationRequested();
        }
        var changed = at < entry.Bytes || source.Again().Version != entry.Version;
        await frames.WriteAsync(new FileWord(Changed: changed, Done: true), cancel).ConfigureAwait(false);
        await count.EndedAsync(null, changed, cancel).ConfigureAwait(false);
    }

    /// <summary>What is said of the other version's blocks comes next.</summary>
    public Task BeginAsync(FileDelta wanted, CancellationToken cancel)
    {
        var length = BlockSums.LengthOf(wanted.BaseBytes, wanted.Size);
        (delta, filled) = (wanted, 0);
        sums = length > MostSums ? null : new byte[length];
        return length == 0 ? AnswerAsync(cancel) : Task.CompletedTask;
    }

    /// <exception cref="InvalidDataException">More came than was said.</exception>
    public Task TakeAsync(ReadOnlyMemory<byte> data, CancellationToken cancel)
    {
        var length = BlockSums.LengthOf(delta!.BaseBytes, delta.Size);
        if (data.Length > length - filled)
        {
            throw new InvalidDataException("more came of a file's blocks than was said");
        }
        if (sums is not null)
        {
            data.CopyTo(sums.AsMemory((int)filled));
        }
        filled += data.Length;
        return filled == length ? AnswerAsync(cancel) : Task.CompletedTask;
    }

    private async Task AnswerAsync(CancellationToken cancel)
    {
        var (wanted, said) = (delta!, sums);
        (delta, sums) = (null, null);
        try
        {
            await AnswerAsync(wanted, said ?? throw new IOException($"{wanted.Path} was asked for by too many blocks; take longer ones."), cancel).ConfigureAwait(false);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            await count.FailedAsync(cancel).ConfigureAwait(false);
            await frames.WriteAsync(new FileWord(Problem: e.Message, Done: true), cancel).ConfigureAwait(false);
        }
    }

    private async Task AnswerAsync(FileDelta wanted, byte[] said, CancellationToken cancel)
    {
        using var source = await open(wanted.Path, cancel).ConfigureAwait(false);
        var entry = source.Entry;
        await frames.WriteAsync(new FileWord(Entry: entry, From: 0), cancel).ConfigureAwait(false);
        var scan = new DeltaScan(said, wanted.Size, wanted.BaseBytes, wanted.Seed);
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        var buffer = new byte[Math.Max(Portion, 4 * wanted.Size)];
        var (start, end, at) = (0, 0, 0L);
        FileSpan? same = null;
        while (true)
        {
            if (end - start < scan.Size && at < entry.Bytes)
            {
                buffer.AsSpan(start, end - start).CopyTo(buffer);
                (start, end) = (0, end - start);
                var got = Fill(source, at, buffer.AsSpan(end, (int)Math.Min(buffer.Length - end, entry.Bytes - at)));
                if (got == 0)
                {
                    break;
                }
                hash.AppendData(buffer, end, got);
                (end, at) = (end + got, at + got);
                continue;
            }
            if (start == end)
            {
                break;
            }
            var step = scan.Next(buffer.AsSpan(start, end - start), at == entry.Bytes);
            if (step.Literal > 0)
            {
                same = await SayAsync(same, cancel).ConfigureAwait(false);
                await SendAsync(buffer.AsMemory(start, step.Literal), cancel).ConfigureAwait(false);
            }
            if (step.Same > 0)
            {
                if (same is not null && (same.From + same.Bytes != step.From || same.Bytes >= SamePortion))
                {
                    same = await SayAsync(same, cancel).ConfigureAwait(false);
                }
                same = same is null ? new FileSpan(step.From, step.Same) : same with { Bytes = same.Bytes + step.Same };
            }
            start += step.Literal + step.Same;
            cancel.ThrowIfCancellationRequested();
        }
        await SayAsync(same, cancel).ConfigureAwait(false);
        var changed = at < entry.Bytes || source.Again().Version != entry.Version;
        var sha256 = hash.GetHashAndReset();
        await frames.WriteAsync(new FileWord(Sha256: sha256, Changed: changed, Done: true), cancel).ConfigureAwait(false);
        await count.EndedAsync(sha256, changed, cancel).ConfigureAwait(false);
    }

    private async ValueTask<FileSpan?> SayAsync(FileSpan? same, CancellationToken cancel)
    {
        if (same is not null)
        {
            await frames.SayAsync(new FileWord(Same: same), cancel).ConfigureAwait(false);
        }
        return null;
    }

    private async ValueTask SendAsync(ReadOnlyMemory<byte> bytes, CancellationToken cancel)
    {
        while (!bytes.IsEmpty)
        {
            var zeros = RunOf(bytes.Span, areZeros: true);
            if (zeros > 0)
            {
                await frames.WriteAsync(new FileWord(Zeros: zeros), cancel).ConfigureAwait(false);
            }
            bytes = bytes[zeros..];
            var others = RunOf(bytes.Span, areZeros: false);
            await frames.WriteAsync(bytes[..others], cancel).ConfigureAwait(false);
            count.Moved(others);
            bytes = bytes[others..];
        }
    }

    /// <summary>How many bytes from the start are holes that are worth a word, or are none.</summary>
    private static int RunOf(ReadOnlySpan<byte> bytes, bool areZeros)
    {
        var length = 0;
        while (length < bytes.Length)
        {
            var part = bytes[length..Math.Min(bytes.Length, length + ShortestHole)];
            if ((part.Length == ShortestHole && !part.ContainsAnyExcept((byte)0)) != areZeros)
            {
                break;
            }
            length += part.Length;
        }
        return length;
    }

    /// <summary>Reads until it is full, or there is no more.</summary>
    private static int Fill(IFileSource source, long at, Span<byte> into)
    {
        var filled = 0;
        while (filled < into.Length && source.Read(at + filled, into[filled..]) is > 0 and var got)
        {
            filled += got;
        }
        return filled;
    }
}
