using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files.Twins;

/// <summary>Opens channels to the files of the two sides of a twin.</summary>
public interface ITwinDoor : IAsyncDisposable
{
    /// <exception cref="TalkBrokenException">The host is away.</exception>
    /// <exception cref="TurnFailedException">It may not be opened.</exception>
    Task<FileTalk> OpenAsync(TwinSide side, bool changes, CancellationToken cancel);

    /// <summary>So long are the files that are to be put there.</summary>
    /// <exception cref="TurnFailedException">There is no room for so much.</exception>
    void CheckRoom(TwinSide side, long bytes);
}

/// <summary>One look at both folders of a twin, and what has to be done so that they are in step.</summary>
/// <param name="before">How both sides stood before; afterwards, how they stand.</param>
public sealed class TwinTurn(TwinPlace first, TwinPlace second, TwinRules rules, long? rate, NewTurn wish, Dictionary<FileName, TwinBase> before, TurnProgress progress, TimeProvider time)
{
    /// <summary>So many things that a turn did are kept in mind, the first ones; conflicts come before.</summary>
    public const int MostActs = 10_000;

    /// <summary>So many contents are compared at a time.</summary>
    private const int Compared = 64;

    private readonly Lock guard = new();
    private readonly Dictionary<FileName, TwinBase> known = [];
    private readonly List<TurnAct> acts = [];
    private bool hasLooked;

    /// <summary>Folders that were taken away, with all below them.</summary>
    private readonly HashSet<FileName> gone = [];

    /// <summary>How both sides stand, once it was looked.</summary>
    public List<TwinBase>? Known
    {
        get
        {
            lock (guard)
            {
                return hasLooked ? [.. known.Values.Where(k => TwinPaths.Above(k.Path) is not { } above || !TwinPaths.IsIn(gone, above))] : null;
            }
        }
    }

    /// <summary>What was done, or would be.</summary>
    public IReadOnlyList<TurnAct> Acts
    {
        get
        {
            lock (guard)
            {
                return [.. acts];
            }
        }
    }

    public async Task RunAsync(ITwinDoor door, CancellationToken cancel)
    {
        var talks = new List<FileTalk>();
        async Task<FileTalk> OpenAsync(TwinSide side, bool changes)
        {
            var talk = await door.OpenAsync(side, changes, cancel).ConfigureAwait(false);
            talks.Add(talk);
            return talk;
        }
        try
        {
            progress.Is(TurnState.Looking);
            var one = await OpenAsync(TwinSide.First, changes: false).ConfigureAwait(false);
            var two = await OpenAsync(TwinSide.Second, changes: false).ConfigureAwait(false);
            var trees = await Task.WhenAll(FileTree.LookAsync(one, first.Path, rules.IsLeft, cancel), FileTree.LookAsync(two, second.Path, rules.IsLeft, cancel)).ConfigureAwait(false);
            var (left, right) = (Check(trees[0], first.Path, one), Check(trees[1], second.Path, two));
            var unseen = left.Unseen.Keys.Concat(right.Unseen.Keys).ToHashSet();
            var plan = TwinPlan.Make(left.Entries, right.Entries, before, rules, wish.Settling, unseen);
            var same = await CompareAsync(plan, one, two, cancel).ConfigureAwait(false);
            var todo = plan.Acts.Where(a => !same.Contains(a.Path)).ToList();
            Remember(left, right, unseen, [.. plan.Same, .. same]);
            progress.Planned(todo, plan.Same.Count + same.Count);
            Say(todo, left, right);
            if (wish.DryRun)
            {
                return;
            }
            progress.Is(TurnState.Moving);
            foreach (var (side, to, from) in new[] { (TwinSide.Second, two, one), (TwinSide.First, one, two) })
            {
                var own = todo.Where(a => a.To == side && a.Deed is not (TwinDeed.Conflict or TwinDeed.Left)).ToList();
                if (own.Count == 0)
                {
                    continue;
                }
                door.CheckRoom(side, own.Where(a => a.Deed == TwinDeed.File).Sum(a => a.From!.Bytes));
                var changes = await OpenAsync(side, changes: true).ConfigureAwait(false);
                var (target, source) = (new TurnSide(side, to.Root, to, changes), new TurnSide(Other(side), from.Root, from, null));
                if ((side == TwinSide.First ? trees[0] : trees[1]) is null)
                {
                    var made = await changes.AskAsync(new FileAsk(Change: new FileChange(Folder: target.Root)), null, cancel).ConfigureAwait(false);
                    if (made.Problem is { } problem)
                    {
                        throw new TurnFailedException($"{to.Host}: {problem}");
                    }
                }
                await new TwinCarrier(source, target, new RateLimit(rate, time), progress, Told).CarryAsync(own, cancel).ConfigureAwait(false);
            }
        }
        finally
        {
            foreach (var talk in talks)
            {
                progress.Moved(talk.Moved);
                await talk.DisposeAsync().ConfigureAwait(false);
            }
        }
    }

    private static TwinSide Other(TwinSide side) => side == TwinSide.First ? TwinSide.Second : TwinSide.First;

    /// <summary>A folder that is not there, or holds nothing where it held something, is more likely to be a disk that is missing than to be meant.</summary>
    private FileTree Check(FileTree? tree, FileName folder, FileTalk talk)
    {
        var isFirst = talk.Side == TwinSide.First;
        if (tree is null && (before.Count > 0 || (isFirst && rules.Way == TwinWay.OneWay)))
        {
            throw new TurnFailedException($"There is no folder {folder} on {talk.Host}. Nothing was done.");
        }
        tree ??= new FileTree([], []);
        var takesAway = rules.Way == TwinWay.BothWays || (rules.Deletes && isFirst);
        if (takesAway && !wish.ThoughEmpty && before.Count > 0 && tree.Entries.Count == 0)
        {
            throw new TurnFailedException($"{folder} on {talk.Host} holds nothing now, and held {before.Count:N0} things when both were in step last. If a disk is missing there, mount it; if all of it is to be taken away from the other side as well, say so with the turn. Nothing was done.");
        }
        return tree;
    }

    /// <summary>Files that differ in time alone are no conflict.</summary>
    private static async Task<HashSet<FileName>> CompareAsync(TwinPlan plan, FileTalk one, FileTalk two, CancellationToken cancel)
    {
        var same = new HashSet<FileName>();
        foreach (var part in plan.Acts.Where(a => a.MayBeSame).Chunk(Compared))
        {
            var hashes = await Task.WhenAll(HashesAsync(one, TwinSide.First), HashesAsync(two, TwinSide.Second)).ConfigureAwait(false);
            for (var at = 0; at < part.Length; at++)
            {
                if (hashes[0][at] is { } hash && hashes[1][at] is { } other && hash.AsSpan().SequenceEqual(other))
                {
                    same.Add(part[at].Path);
                }
            }

            async Task<List<byte[]?>> HashesAsync(FileTalk talk, TwinSide side)
            {
                var found = new List<byte[]?>();
                foreach (var act in part)
                {
                    await talk.FillAsync(new FileAsk(Hash: talk.Root.In(act.Path)), cancel).ConfigureAwait(false);
                }
                await talk.FlushAsync(cancel).ConfigureAwait(false);
                foreach (var act in part)
                {
                    var word = await talk.AnswerAsync(null, cancel).ConfigureAwait(false);
                    found.Add(word is { Problem: null, Changed: false } && word.Entry?.Version == (side == TwinSide.First ? act.From : act.There)!.Version ? word.Sha256 : null);
                }
                return found;
            }
        }
        return same;
    }

    /// <summary>What is in step is known so from here on, and what is gone on both sides is forgotten.</summary>
    private void Remember(FileTree left, FileTree right, HashSet<FileName> unseen, IReadOnlyList<FileName> same)
    {
        lock (guard)
        {
            foreach (var (path, was) in before)
            {
                if (left.Entries.ContainsKey(path) || right.Entries.ContainsKey(path) || TwinPaths.IsIn(unseen, path))
                {
                    known[path] = was;
                }
            }
            foreach (var path in same)
            {
                if (left.Entries.TryGetValue(path, out var one) && right.Entries.TryGetValue(path, out var two))
                {
                    known[path] = new TwinBase(path, TwinState.Of(one)!, TwinState.Of(two)!);
                }
            }
            hasLooked = true;
        }
    }

    private void Say(List<TwinAct> todo, FileTree left, FileTree right)
    {
        lock (guard)
        {
            foreach (var act in todo.Where(a => (wish.DryRun && !a.IsFinish) || a.Deed is TwinDeed.Conflict or TwinDeed.Left).OrderBy(a => a.Deed != TwinDeed.Conflict))
            {
                Add(ToInfo(act, isDone: false, act.Why));
            }
            foreach (var (tree, side) in new[] { (left, TwinSide.First), (right, TwinSide.Second) })
            {
                foreach (var (path, why) in tree.Unseen)
                {
                    progress.Did(isDone: false);
                    Add(new TurnAct(path, TwinDeed.Left, side, null, 0, false, false, why));
                }
            }
        }
    }

    private void Add(TurnAct act)
    {
        if (acts.Count < MostActs)
        {
            acts.Add(act);
        }
    }

    private static TurnAct ToInfo(TwinAct act, bool isDone, string? why)
    {
        var isConflict = act.Deed == TwinDeed.Conflict;
        var about = act.From ?? act.There;
        return new TurnAct(act.Path, act.Deed, act.To, about?.Kind, about is { Kind: FileKind.File } ? about.Bytes : 0, act.There is not null, isDone, why, isConflict ? act.From?.ChangedAt : null, isConflict ? act.There?.ChangedAt : null);
    }

    private void Told(TwinAct act, FileEntry? from, FileEntry? there, string? problem)
    {
        var isSaid = !act.IsFinish || problem is not null;
        if (isSaid)
        {
            progress.Did(problem is null);
        }
        lock (guard)
        {
            if (isSaid)
            {
                Add(ToInfo(act, problem is null, problem));
            }
            if (problem is not null)
            {
                return;
            }
            if (act.Deed == TwinDeed.Delete)
            {
                known.Remove(act.Path);
                if (act.There?.Kind == FileKind.Folder)
                {
                    gone.Add(act.Path);
                }
                return;
            }
            var (source, target) = (TwinState.Of(from)!, TwinState.Of(there)!);
            known[act.Path] = act.To == TwinSide.Second ? new TwinBase(act.Path, source, target) : new TwinBase(act.Path, target, source);
        }
    }
}
