using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using System.Threading.Channels;
using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files.Twins;

/// <summary>One side of a turn.</summary>
/// <param name="Root">The folder there.</param>
/// <param name="Changes">The channel for changes; null where nothing is to be changed.</param>
public sealed record TurnSide(TwinSide Side, FileName Root, FileTalk Reads, FileTalk? Changes);

/// <summary>
/// Carries out what is to be done on one side of a turn: contents come from the other side as they are read, many files on their way at
/// once; of a large file that is there in another version only what differs.
/// </summary>
/// <param name="told">Told of each act once it is done, or why it is not, with what it is on the side it came from and on the side where it is now.</param>
public sealed class TwinCarrier(TurnSide from, TurnSide to, RateLimit rate, TurnProgress progress, Action<TwinAct, FileEntry?, FileEntry?, string?> told)
{
    /// <summary>So many files are asked for before the first has come.</summary>
    private const int Ahead = 64;

    /// <summary>So many things are on their way before the first is said to be done.</summary>
    private const int Unanswered = 256;

    /// <summary>Of longer files it is asked first how much is there already.</summary>
    private const long Long = 1 << 20;

    private const int Plain = 0x1ff;

    private readonly FileTalk changes = to.Changes!;
    private readonly Channel<Action<FileWord>> answers = Channel.CreateBounded<Action<FileWord>>(Unanswered);
    private readonly Dictionary<FileName, long> held = [];

    /// <summary>Asked for by what differs.</summary>
    private readonly ConcurrentDictionary<FileName, bool> deltas = [];

    /// <summary>What could not be read to its end, and why: better words than those of the side that was to get it.</summary>
    private readonly ConcurrentDictionary<FileName, string> unread = [];

    /// <exception cref="TalkBrokenException">A line is gone; what was told stays.</exception>
    public async Task CarryAsync(IReadOnlyList<TwinAct> acts, CancellationToken cancel)
    {
        await from.Reads.AskAsync(new FileAsk(Transfer: from.Root), null, cancel).ConfigureAwait(false);
        await to.Reads.AskAsync(new FileAsk(Transfer: to.Root), null, cancel).ConfigureAwait(false);
        await changes.AskAsync(new FileAsk(Transfer: to.Root), null, cancel).ConfigureAwait(false);
        await FindPartsAsync(acts, cancel).ConfigureAwait(false);
        using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        using var ahead = new SemaphoreSlim(Ahead);
        var asking = AskAsync(acts, ahead, over.Token);
        var hearing = HearAsync(over.Token);
        var carrying = CarryAllAsync(acts, ahead, over.Token);
        try
        {
            // Whichever breaks first ends all.
            var open = new List<Task> { asking, hearing, carrying };
            while (open.Count > 0)
            {
                var first = await Task.WhenAny(open).ConfigureAwait(false);
                await first.ConfigureAwait(false);
                open.Remove(first);
            }
        }
        finally
        {
            await over.CancelAsync().ConfigureAwait(false);
            await Task.WhenAll(asking, hearing, carrying).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    /// <summary>What is left of files whose line broke.</summary>
    private async Task FindPartsAsync(IReadOnlyList<TwinAct> acts, CancellationToken cancel)
    {
        var some = acts.Where(a => a.Deed == TwinDeed.File && a.From!.Bytes > Long && !TakesDelta(a)).ToList();
        foreach (var part in some.Chunk(Ahead))
        {
            foreach (var act in part)
            {
                await changes.FillAsync(new FileAsk(Part: new FilePart(to.Root.In(act.Path), VersionOf(act.From!))), cancel).ConfigureAwait(false);
            }
            await changes.FlushAsync(cancel).ConfigureAwait(false);
            foreach (var act in part)
            {
                held[act.Path] = Math.Min((await changes.AnswerAsync(null, cancel).ConfigureAwait(false)).From ?? 0, act.From!.Bytes);
            }
        }
    }

    private static bool TakesDelta(TwinAct act) => act is { There: { Kind: FileKind.File, Version: not null } there, From: { } from } && Math.Min(there.Bytes, from.Bytes) >= BlockSums.WorthFrom && there.Bytes <= BlockSums.WorthUpTo;

    /// <summary>Which one it is, in our own words: what broke off is gone on from with the same.</summary>
    private string VersionOf(FileEntry entry) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes($"{from.Reads.Host}\0{from.Root}\0{entry.Version}")));

    /// <summary>Asks for contents, ahead of what has come.</summary>
    private async Task AskAsync(IReadOnlyList<TwinAct> acts, SemaphoreSlim ahead, CancellationToken cancel)
    {
        foreach (var act in acts.Where(a => a.Deed == TwinDeed.File))
        {
            if (!await ahead.WaitAsync(0, cancel).ConfigureAwait(false))
            {
                await from.Reads.FlushAsync(cancel).ConfigureAwait(false);
                await ahead.WaitAsync(cancel).ConfigureAwait(false);
            }
            var path = from.Root.In(act.Path);
            if (TakesDelta(act))
            {
                await from.Reads.FlushAsync(cancel).ConfigureAwait(false);
                if (await AskDeltaAsync(act, path, cancel).ConfigureAwait(false))
                {
                    continue;
                }
            }
            await from.Reads.FillAsync(new FileAsk(Read: new FileRead(path, held.GetValueOrDefault(act.Path), act.From!.Version)), cancel).ConfigureAwait(false);
        }
        await from.Reads.FlushAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>Asks what differs from the version that is there.</summary>
    /// <returns>False where that can't be said.</returns>
    private async Task<bool> AskDeltaAsync(TwinAct act, FileName path, CancellationToken cancel)
    {
        var size = BlockSums.SizeFor(act.There!.Bytes);
        var seed = BitConverter.ToInt64(RandomNumberGenerator.GetBytes(8));
        await to.Reads.FillAsync(new FileAsk(Blocks: new FileBlocks(to.Root.In(act.Path), size, seed)), cancel).ConfigureAwait(false);
        await to.Reads.FlushAsync(cancel).ConfigureAwait(false);
        var expected = BlockSums.LengthOf(act.There.Bytes, size);
        using var sums = new MemoryStream((int)expected);
        var isGood = true;
        while (true)
        {
            var message = await to.Reads.NextAsync(cancel).ConfigureAwait(false);
            if (message.Word is not { } word)
            {
                isGood &= sums.Length + message.Data.Length <= expected;
                if (isGood)
                {
                    sums.Write(message.Data.Span);
                }
                continue;
            }
            isGood &= word is { Problem: null, Changed: false } && (word.Entry is null || word.Entry.Version == act.There.Version);
            if (word.Done)
            {
                break;
            }
        }
        if (!isGood || sums.Length != expected)
        {
            return false;
        }
        deltas[act.Path] = true;
        await from.Reads.FillAsync(new FileAsk(Delta: new FileDelta(path, size, seed, act.There.Bytes)), cancel).ConfigureAwait(false);
        await from.Reads.FillAsync(sums.GetBuffer().AsMemory(0, (int)sums.Length), cancel).ConfigureAwait(false);
        await from.Reads.FlushAsync(cancel).ConfigureAwait(false);
        return true;
    }

    private async Task CarryAllAsync(IReadOnlyList<TwinAct> acts, SemaphoreSlim ahead, CancellationToken cancel)
    {
        foreach (var act in acts)
        {
            switch (act.Deed)
            {
                case TwinDeed.File:
                    await CarryAsync(act, cancel).ConfigureAwait(false);
                    ahead.Release();
                    break;
                case TwinDeed.Folder:
                    await ChangeAsync(act, new FileChange(Folder: to.Root.In(act.Path)), cancel).ConfigureAwait(false);
                    break;
                case TwinDeed.Link:
                    await ChangeAsync(act, new FileChange(Link: new FileLink(to.Root.In(act.Path), act.From!.Target!)), cancel).ConfigureAwait(false);
                    break;
                case TwinDeed.Setting:
                    await ChangeAsync(act, new FileChange(Set: new FileSetting(to.Root.In(act.Path), act.From!.Mode & Plain, ChangedAt: act.From.ChangedAt)), cancel).ConfigureAwait(false);
                    break;
                case TwinDeed.Delete:
                    await ChangeAsync(act, new FileChange(Delete: to.Root.In(act.Path)), cancel).ConfigureAwait(false);
                    break;
            }
        }
        await changes.FlushAsync(cancel).ConfigureAwait(false);
        answers.Writer.Complete();
    }

    private Task ChangeAsync(TwinAct act, FileChange change, CancellationToken cancel) => SayAsync(new FileAsk(Change: change), word => told(act, act.From, act.From, word.Problem), cancel);

    /// <param name="answered">Told the last word of the answer.</param>
    private async Task SayAsync(FileAsk ask, Action<FileWord> answered, CancellationToken cancel)
    {
        if (!answers.Writer.TryWrite(answered))
        {
            // The host can only answer what it has.
            await changes.FlushAsync(cancel).ConfigureAwait(false);
            await answers.Writer.WriteAsync(answered, cancel).ConfigureAwait(false);
        }
        await changes.FillAsync(ask, cancel).ConfigureAwait(false);
    }

    private async Task CarryAsync(TwinAct act, CancellationToken cancel)
    {
        FileEntry? entry = null;
        while (true)
        {
            var message = await from.Reads.NextAsync(cancel).ConfigureAwait(false);
            if (message.Word is { Zeros: <= 0 } or { Same: { From: < 0 } or { Bytes: <= 0 } } || (entry is null && message.Word is null or { Zeros: not null } or { Same: not null }))
            {
                // Passed on, it would be answered as what it is not.
                throw new TurnFailedException($"{from.Reads.Host} sent something else than {act.Path}.");
            }
            if (message.Word is not { } word)
            {
                await changes.FillAsync(message.Data, cancel).ConfigureAwait(false);
                progress.Came(message.Data.Length);
                await rate.SpendAsync(message.Data.Length, cancel).ConfigureAwait(false);
                continue;
            }
            if (entry is null && word.Entry is { } began)
            {
                entry = began;
                await WriteAsync(act, began, word.From ?? 0, cancel).ConfigureAwait(false);
            }
            if (word.Zeros is { } zeros)
            {
                await changes.FillAsync(new FileAsk(Zeros: zeros), cancel).ConfigureAwait(false);
                progress.Came(zeros);
            }
            if (word.Same is { } same)
            {
                await changes.FillAsync(new FileAsk(Copy: same), cancel).ConfigureAwait(false);
                progress.Came(same.Bytes);
            }
            if (!word.Done)
            {
                continue;
            }
            if (entry is null)
            {
                told(act, null, null, word.Problem ?? $"{from.Reads.Host} says nothing of {act.Path}.");
                return;
            }
            var isGood = word is { Problem: null, Changed: false };
            if (!isGood)
            {
                unread[act.Path] = word.Problem ?? $"{act.Path} changed while it was read; the next turn tries again.";
            }
            await changes.FillAsync(new FileAsk(End: new FileEnd(isGood ? word.Sha256 : null)), cancel).ConfigureAwait(false);
            return;
        }
    }

    private Task WriteAsync(TwinAct act, FileEntry began, long at, CancellationToken cancel)
    {
        progress.Came(at);
        var write = new FileWrite(
            to.Root.In(act.Path), began.Bytes, VersionOf(began), at, Replaces: act.There is not null, Expects: act.There?.Version, KeepsOld: act.KeepsOld, Mode: began.Mode & Plain, ChangedAt: began.ChangedAt,
            Base: deltas.ContainsKey(act.Path) ? act.There!.Version : null);
        return SayAsync(new FileAsk(Write: write), word => told(act, began, word.Entry, word.Problem is null ? null : unread.GetValueOrDefault(act.Path, word.Problem)), cancel);
    }

    private async Task HearAsync(CancellationToken cancel)
    {
        await foreach (var answered in answers.Reader.ReadAllAsync(cancel).ConfigureAwait(false))
        {
            answered(await changes.AnswerAsync(null, cancel).ConfigureAwait(false));
        }
    }
}
