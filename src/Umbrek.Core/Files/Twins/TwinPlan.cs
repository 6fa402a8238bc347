namespace Umbrek.Core.Files.Twins;

/// <summary>What a turn does with one thing.</summary>
public enum TwinDeed
{
    /// <summary>A folder is made.</summary>
    Folder,

    /// <summary>A file is put there, new or in place of another.</summary>
    File,

    /// <summary>A link is made.</summary>
    Link,

    /// <summary>Mode and time are set.</summary>
    Setting,

    /// <summary>Something goes to the trash, with all below it.</summary>
    Delete,

    /// <summary>Nothing: both sides have changed it.</summary>
    Conflict,

    /// <summary>Nothing: it can't be kept in step.</summary>
    Left,
}

/// <summary>One thing that a turn does.</summary>
/// <param name="Path">Below the two folders.</param>
/// <param name="To">On which side it is done.</param>
/// <param name="From">What it is to be like; null where it is taken away.</param>
/// <param name="There">What it is on that side now; null for nothing.</param>
/// <param name="Why">Of a conflict, and of what is left: the reason.</param>
/// <param name="KeepsOld">What makes room was changed by somebody on that side, and goes to the trash.</param>
public sealed record TwinAct(FileName Path, TwinDeed Deed, TwinSide To, FileEntry? From, FileEntry? There, string? Why = null, bool KeepsOld = false)
{
    /// <summary>It only completes a folder that was made before.</summary>
    public bool IsFinish => Deed == TwinDeed.Setting && There is null;

    /// <summary>Two files that differ in time, but may be the same by what is in them.</summary>
    public bool MayBeSame => Deed == TwinDeed.Conflict && From is { Kind: FileKind.File } && There is { Kind: FileKind.File } && From.Bytes == There.Bytes;
}

/// <summary>What there is to do so that two folders are in step.</summary>
/// <param name="Acts">In the order in which they are done.</param>
/// <param name="Same">What is in step already.</param>
public sealed record TwinPlan(IReadOnlyList<TwinAct> Acts, IReadOnlyList<FileName> Same)
{
    /// <param name="first">All below the first folder, by paths from there.</param>
    /// <param name="second">The same of the second.</param>
    /// <param name="before">How both stood when they were in step last.</param>
    /// <param name="settling">Who wins where both have changed; null for nobody.</param>
    /// <param name="unseen">What could not be looked into on one side: what is below it is not known to be gone, and is left alone.</param>
    public static TwinPlan Make(
        IReadOnlyDictionary<FileName, FileEntry> first, IReadOnlyDictionary<FileName, FileEntry> second, IReadOnlyDictionary<FileName, TwinBase> before, TwinRules rules, TwinSettling? settling = null, IReadOnlySet<FileName>? unseen = null) =>
        new TwinPlanner(first, second, before, rules, settling, unseen ?? new HashSet<FileName>()).Plan();
}

internal sealed class TwinPlanner(
    IReadOnlyDictionary<FileName, FileEntry> first, IReadOnlyDictionary<FileName, FileEntry> second, IReadOnlyDictionary<FileName, TwinBase> before, TwinRules rules, TwinSettling? settling, IReadOnlySet<FileName> unseen)
{
    private enum Verdict
    {
        Same,
        ToFirst,
        ToSecond,

        /// <summary>Nothing is done, and nothing said.</summary>
        Stay,
        Conflict,
        Left,
    }

    private sealed class Thing(FileName path, FileEntry? first, FileEntry? second)
    {
        public FileName Path => path;
        public FileEntry? First => first;
        public FileEntry? Second => second;
        public Verdict Verdict { get; set; }
        public bool KeepsOld { get; set; }
        public string? Why { get; set; }

        public (FileEntry? From, FileEntry? There) Sides => Verdict == Verdict.ToFirst ? (second, first) : (first, second);

        public FileEntry? On(TwinSide side) => side == TwinSide.First ? first : second;
    }

    private readonly HashSet<FileName>? settled = settling?.Paths is { } paths ? [.. paths] : null;

    public TwinPlan Plan()
    {
        var things = first.Keys.Concat(second.Keys).Distinct().Where(p => !IsLeft(p)).Select(p => new Thing(p, first.GetValueOrDefault(p), second.GetValueOrDefault(p)))
            .OrderBy(t => t.Path, PathOrder.Instance).ToList();
        foreach (var thing in things)
        {
            Decide(thing);
        }
        KeepFolders(things);
        WaitForFolders(things);
        var gone = Gone(things);
        return new TwinPlan(Acts(things, gone), [.. things.Where(t => t.Verdict == Verdict.Same).Select(t => t.Path)]);
    }

    private void Decide(Thing thing)
    {
        if (IsOdd(thing.First) || IsOdd(thing.Second))
        {
            (thing.Verdict, thing.Why) = (Verdict.Left, "it is neither file, folder nor link, and stays where it is");
            return;
        }
        var (one, two) = (TwinState.Of(thing.First), TwinState.Of(thing.Second));
        if (one == two)
        {
            thing.Verdict = Verdict.Same;
            return;
        }
        var was = before.GetValueOrDefault(thing.Path);
        var (changedFirst, changedSecond) = (one != was?.First, two != was?.Second);
        if (!changedFirst && !changedSecond)
        {
            // They differ as they did when they were in step: one side can't be what the other is.
            thing.Verdict = Verdict.Same;
            return;
        }
        if (rules.Way == TwinWay.OneWay)
        {
            (thing.Verdict, thing.KeepsOld) = (one is null && !rules.Deletes ? Verdict.Stay : Verdict.ToSecond, changedSecond);
            return;
        }
        thing.Verdict = (changedFirst, changedSecond) switch
        {
            (true, false) => Verdict.ToSecond,
            (false, true) => Verdict.ToFirst,
            // Who may look into a folder is not worth anybody's time.
            (true, true) when thing is { First.Kind: FileKind.Folder, Second: null or { Kind: FileKind.Folder } } => thing.Second is null ? Verdict.ToFirst : Verdict.ToSecond,
            (true, true) when thing is { First: null, Second.Kind: FileKind.Folder } => Verdict.ToSecond,
            _ => Verdict.Conflict,
        };
        if (thing.Verdict == Verdict.Conflict)
        {
            thing.Why = Words(thing.First, thing.Second);
            Settle(thing);
        }
    }

    private bool IsLeft(FileName path) => rules.IsLeft(path) || (unseen.Count > 0 && TwinPaths.IsIn(unseen, path));

    private static bool IsOdd(FileEntry? entry) => entry is not (null or { Kind: FileKind.File or FileKind.Folder or FileKind.Link });

    private static string Words(FileEntry? first, FileEntry? second) => (first, second) switch
    {
        (null, _) => "taken away from the first, changed on the second",
        (_, null) => "changed on the first, taken away from the second",
        _ when first.Kind != second.Kind => $"a {first.Kind.ToString().ToLowerInvariant()} on the first, a {second.Kind.ToString().ToLowerInvariant()} on the second",
        _ => "changed on both",
    };

    private void Settle(Thing thing)
    {
        if (settling is null || settled?.Contains(thing.Path) == false)
        {
            return;
        }
        var isFirst = settling.Choice switch
        {
            TwinChoice.First => true,
            TwinChoice.Second => false,
            _ => thing.Second is null || thing.First?.ChangedAt >= thing.Second.ChangedAt,
        };
        (thing.Verdict, thing.KeepsOld) = (isFirst ? Verdict.ToSecond : Verdict.ToFirst, true);
    }

    /// <summary>A folder in which something stays is not taken away, whatever was decided about itself.</summary>
    private void KeepFolders(List<Thing> things)
    {
        var occupied = new Dictionary<TwinSide, HashSet<FileName>> { [TwinSide.First] = [], [TwinSide.Second] = [] };
        // What is left alone is nobody's to take away.
        foreach (var (side, tree) in new[] { (TwinSide.First, first), (TwinSide.Second, second) })
        {
            foreach (var path in tree.Keys.Where(IsLeft))
            {
                Occupy(occupied[side], path);
            }
        }
        // What lies deepest is looked at first.
        for (var at = things.Count - 1; at >= 0; at--)
        {
            var thing = things[at];
            foreach (var side in new[] { TwinSide.First, TwinSide.Second })
            {
                if (thing.On(side) is not { } there)
                {
                    continue;
                }
                var goes = thing.Verdict == Toward(side) && thing.Sides.From?.Kind != there.Kind;
                if (goes && there.Kind == FileKind.Folder && occupied[side].Contains(thing.Path))
                {
                    Stay(thing, side);
                    goes = false;
                }
                if (!goes)
                {
                    Occupy(occupied[side], thing.Path);
                }
            }
        }
    }

    private void Stay(Thing thing, TwinSide side)
    {
        if (thing.Sides.From is not null)
        {
            (thing.Verdict, thing.Why) = (Verdict.Conflict, $"a folder on the {side.ToString().ToLowerInvariant()} that holds what stays, a {thing.Sides.From.Kind.ToString().ToLowerInvariant()} on the other");
        }
        else if (rules.Way == TwinWay.OneWay)
        {
            thing.Verdict = Verdict.Stay;
        }
        else
        {
            // Somebody put something into it while it was taken away there.
            thing.Verdict = side == TwinSide.First ? Verdict.ToSecond : Verdict.ToFirst;
        }
    }

    /// <summary>Nothing is put where there is no folder for it, because of a conflict about that.</summary>
    private static void WaitForFolders(List<Thing> things)
    {
        var folders = new Dictionary<TwinSide, HashSet<FileName>> { [TwinSide.First] = [], [TwinSide.Second] = [] };
        foreach (var thing in things)
        {
            foreach (var side in new[] { TwinSide.First, TwinSide.Second })
            {
                var becomes = thing.Verdict == Toward(side) ? thing.Sides.From : thing.On(side);
                if (becomes is not null && thing.Verdict == Toward(side) && TwinPaths.Above(thing.Path) is { } above && !folders[side].Contains(above))
                {
                    thing.Verdict = Verdict.Stay;
                    becomes = thing.On(side);
                }
                if (becomes?.Kind == FileKind.Folder)
                {
                    folders[side].Add(thing.Path);
                }
            }
        }
    }

    private static Verdict Toward(TwinSide side) => side == TwinSide.First ? Verdict.ToFirst : Verdict.ToSecond;

    private static void Occupy(HashSet<FileName> folders, FileName path)
    {
        for (var folder = TwinPaths.Above(path); folder is not null && folders.Add(folder); folder = TwinPaths.Above(folder))
        {
        }
    }

    /// <summary>Folders that go with all below them, on either side: what is in them needs no act of its own.</summary>
    private static Dictionary<TwinSide, HashSet<FileName>> Gone(List<Thing> things)
    {
        var gone = new Dictionary<TwinSide, HashSet<FileName>> { [TwinSide.First] = [], [TwinSide.Second] = [] };
        foreach (var thing in things)
        {
            foreach (var side in new[] { TwinSide.First, TwinSide.Second })
            {
                if (thing.Verdict == Toward(side) && thing.On(side)?.Kind == FileKind.Folder && thing.Sides.From?.Kind != FileKind.Folder)
                {
                    gone[side].Add(thing.Path);
                }
            }
        }
        return gone;
    }

    private static List<TwinAct> Acts(List<Thing> things, Dictionary<TwinSide, HashSet<FileName>> gone)
    {
        List<TwinAct> room = [], folders = [], files = [], deletes = [], nothing = [];
        var settings = new Dictionary<FileName, TwinAct>();
        foreach (var thing in things)
        {
            if (thing.Verdict is Verdict.Conflict or Verdict.Left)
            {
                nothing.Add(new TwinAct(thing.Path, thing.Verdict == Verdict.Conflict ? TwinDeed.Conflict : TwinDeed.Left, TwinSide.Second, thing.First, thing.Second, thing.Why));
            }
            if (thing.Verdict is not (Verdict.ToFirst or Verdict.ToSecond))
            {
                continue;
            }
            var to = thing.Verdict == Verdict.ToFirst ? TwinSide.First : TwinSide.Second;
            var (from, there) = thing.Sides;
            var act = new TwinAct(thing.Path, TwinDeed.Delete, to, from, there, KeepsOld: thing.KeepsOld && there is not null);
            if (from is null)
            {
                if (TwinPaths.Above(thing.Path) is not { } above || !gone[to].Contains(above))
                {
                    deletes.Add(act);
                }
                continue;
            }
            var isOther = there is not null && (there.Kind != from.Kind || (from.Kind == FileKind.Link && from.Target != there.Target));
            if (isOther)
            {
                room.Add(act);
                act = act with { There = null, KeepsOld = false };
            }
            switch (from.Kind)
            {
                case FileKind.Folder:
                    if (act.There is null)
                    {
                        folders.Add(act with { Deed = TwinDeed.Folder });
                    }
                    settings[act.Path] = act with { Deed = TwinDeed.Setting };
                    break;
                case FileKind.Link:
                    files.Add(act with { Deed = TwinDeed.Link });
                    break;
                default:
                    var isSetting = act.There is { } old && old.Bytes == from.Bytes && old.ChangedAt == from.ChangedAt;
                    files.Add(act with { Deed = isSetting ? TwinDeed.Setting : TwinDeed.File });
                    break;
            }
        }
        List<TwinAct> done = [.. room, .. folders, .. files, .. deletes];
        var touched = done.Select(a => (a.To, Folder: TwinPaths.Above(a.Path))).ToHashSet();
        foreach (var thing in things)
        {
            // A folder is as old as it was, where only one side's is written in.
            var (first, second) = (touched.Contains((TwinSide.First, thing.Path)), touched.Contains((TwinSide.Second, thing.Path)));
            if (first != second && thing is { First.Kind: FileKind.Folder, Second.Kind: FileKind.Folder } && TwinState.Of(thing.First) == TwinState.Of(thing.Second))
            {
                settings.TryAdd(thing.Path, new TwinAct(thing.Path, TwinDeed.Setting, first ? TwinSide.First : TwinSide.Second, first ? thing.Second : thing.First, null));
            }
        }
        // What is written in a folder changes its time, so that comes last, from within outwards.
        return [.. done, .. things.Select(t => settings.GetValueOrDefault(t.Path)).OfType<TwinAct>().Reverse(), .. nothing];
    }
}

/// <summary>Paths below the folders of a twin.</summary>
public static class TwinPaths
{
    /// <summary>The folder that something lies in; null for the twin's own.</summary>
    public static FileName? Above(FileName path)
    {
        var bytes = path.ToBytes();
        var slash = bytes.AsSpan().LastIndexOf((byte)'/');
        return slash <= 0 ? null : FileName.Of(bytes.AsSpan(0, slash));
    }

    /// <summary>Whether something is one of these, or lies below one.</summary>
    public static bool IsIn(IReadOnlySet<FileName> some, FileName path)
    {
        for (var at = path; at is not null; at = Above(at))
        {
            if (some.Contains(at))
            {
                return true;
            }
        }
        return false;
    }
}

/// <summary>Folders before what they hold, and what they hold together: "a", "a/b", "a b".</summary>
internal sealed class PathOrder : IComparer<FileName>
{
    public static readonly PathOrder Instance = new();

    public int Compare(FileName? x, FileName? y)
    {
        var a = x!.Text.AsSpan();
        var b = y!.Text.AsSpan();
        var same = a.CommonPrefixLength(b);
        return same == a.Length && same == b.Length ? x.Bytes.AsSpan().SequenceCompareTo(y.Bytes)
            : same == a.Length || same == b.Length ? a.Length - b.Length
            : a[same] == '/' ? -1
            : b[same] == '/' ? 1
            : a[same].CompareTo(b[same]);
    }
}
