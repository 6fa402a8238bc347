using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;

namespace Umbrek.Core.Tests.Files;

public sealed class TwinPlanTests
{
    private static readonly DateTimeOffset Morning = new(2026, 11, 2, 8, 0, 0, TimeSpan.Zero);
    private static readonly TwinRules OneWay = new(TwinWay.OneWay);
    private static readonly TwinRules Mirror = new(TwinWay.OneWay, Deletes: true);
    private static readonly TwinRules Both = new(TwinWay.BothWays);

    [Fact]
    public void One_way_what_is_new_or_changed_goes_to_the_second_and_folders_come_first()
    {
        var plan = Plan(OneWay, [Folder("labels"), File("labels/plum.pdf", 10), File("menu.txt", 5), Link("now", "menu.txt")], [File("menu.txt", 4), File("own.txt", 1)]);
        Assert.Equal(["folder labels", "file labels/plum.pdf", "file menu.txt", "link now", "setting labels"], Words(plan));
    }

    [Fact]
    public void One_way_what_is_not_in_the_first_stays_unless_it_is_to_be_taken_away()
    {
        List<FileEntry> second = [Folder("old"), File("old/a", 1), File("own.txt", 1)];
        Assert.Empty(Plan(OneWay, [], second).Acts);
        Assert.Equal(["delete old", "delete own.txt"], Words(Plan(Mirror, [], second)));
    }

    [Fact]
    public void One_way_a_file_that_was_changed_on_the_second_is_kept_in_the_trash()
    {
        var before = Base(File("menu.txt", 5));
        Assert.False(Plan(OneWay, [File("menu.txt", 6)], [File("menu.txt", 5)], before).Acts.Single().KeepsOld);
        Assert.True(Plan(OneWay, [File("menu.txt", 5)], [File("menu.txt", 7)], before).Acts.Single().KeepsOld);
    }

    [Theory]
    [InlineData(TwinWay.OneWay)]
    [InlineData(TwinWay.BothWays)]
    public void What_one_side_can_not_be_like_the_other_is_not_tried_again_and_again(TwinWay way)
    {
        // A file system that knows whole seconds alone.
        var (exact, coarse) = (File("a", 5) with { ChangedAt = Morning.AddMilliseconds(300) }, File("a", 5));
        var before = new Dictionary<FileName, TwinBase> { [exact.Name] = new(exact.Name, TwinState.Of(exact)!, TwinState.Of(coarse)!) };
        Assert.Empty(Plan(new TwinRules(way), [exact], [coarse], before).Acts);
        Assert.Equal(["file a"], Words(Plan(new TwinRules(way), [exact with { Bytes = 6 }], [coarse], before)));
    }

    [Fact]
    public void Names_that_are_no_text_are_told_apart()
    {
        var (one, two) = (File("x", 1) with { Name = FileName.Of([0xe9]) }, File("x", 1) with { Name = FileName.Of([0xe8]) });
        Assert.Equal(one.Name.Text, two.Name.Text);
        Assert.Equal([two.Name, one.Name], Plan(OneWay, [one, two], []).Acts.Select(a => a.Path));
    }

    [Fact]
    public void A_file_of_which_only_the_mode_differs_is_set_and_not_sent()
    {
        var act = Plan(OneWay, [File("run.sh", 5, mode: 0x1ed)], [File("run.sh", 5)]).Acts.Single();
        Assert.Equal((TwinDeed.Setting, 0x1ed), (act.Deed, act.From!.Mode));
    }

    [Fact]
    public void Where_a_file_lies_in_the_way_of_a_folder_it_makes_room_first()
    {
        var plan = Plan(Mirror, [Folder("a"), File("a/b", 1)], [File("a", 3)]);
        Assert.Equal(["delete a", "folder a", "file a/b", "setting a"], Words(plan));
        Assert.Null(plan.Acts[1].There);
    }

    [Fact]
    public void Where_a_folder_lies_in_the_way_of_a_file_it_goes_with_all_in_it()
    {
        Assert.Equal(["delete a", "file a"], Words(Plan(Mirror, [File("a", 3)], [Folder("a"), File("a/b", 1), Folder("a/c"), File("a/c/d", 1)])));
        // What is in it is not to be taken away, so it is in the way.
        Assert.Equal(["conflict a"], Words(Plan(OneWay, [File("a", 3)], [Folder("a"), File("a/b", 1)])));
    }

    [Fact]
    public void A_link_that_leads_elsewhere_is_made_anew() => Assert.Equal(["delete now", "link now"], Words(Plan(OneWay, [Link("now", "b")], [Link("now", "a")])));

    [Fact]
    public void Both_ways_each_side_gets_what_the_other_has_new()
    {
        var plan = Plan(Both, [File("a", 1)], [File("b", 2)]);
        Assert.Equal([("a", TwinSide.Second), ("b", TwinSide.First)], plan.Acts.Select(a => (a.Path.Text, a.To)));
    }

    [Fact]
    public void Both_ways_the_side_that_has_changed_goes_on()
    {
        var before = Base(File("a", 1), File("b", 1), File("c", 1), File("d", 1));
        var plan = Plan(Both, [File("a", 2), File("b", 1), File("d", 1)], [File("a", 1), File("b", 3), File("c", 1)], before);
        Assert.Equal([("a", TwinDeed.File, TwinSide.Second), ("b", TwinDeed.File, TwinSide.First), ("c", TwinDeed.Delete, TwinSide.Second), ("d", TwinDeed.Delete, TwinSide.First)], plan.Acts.Select(a => (a.Path.Text, a.Deed, a.To)));
    }

    [Fact]
    public void A_folder_in_which_something_is_changed_stays_as_old_as_it_was()
    {
        var plan = Plan(Both, [Folder("a"), Folder("a/b"), File("a/b/c", 2)], [Folder("a"), Folder("a/b"), File("a/b/c", 1)], Base(Folder("a"), Folder("a/b"), File("a/b/c", 1)));
        Assert.Equal(["file a/b/c", "setting a/b"], Words(plan));
        Assert.True(plan.Acts[1].IsFinish);
    }

    [Fact]
    public void Both_ways_what_both_have_changed_is_a_conflict_and_nothing_is_done_about_it()
    {
        var before = Base(File("a", 1), File("b", 1));
        var plan = Plan(Both, [File("a", 2)], [File("a", 3), File("b", 2)], before);
        Assert.Equal([("a", TwinDeed.Conflict, "changed on both"), ("b", TwinDeed.Conflict, "taken away from the first, changed on the second")], plan.Acts.Select(a => (a.Path.Text, a.Deed, a.Why!)));
    }

    [Fact]
    public void Both_ways_files_that_differ_the_first_time_are_a_conflict_that_their_content_may_settle()
    {
        Assert.True(Plan(Both, [File("a", 1, minutes: 5)], [File("a", 1)]).Acts.Single().MayBeSame);
        Assert.False(Plan(Both, [File("a", 1)], [File("a", 2)]).Acts.Single().MayBeSame);
        Assert.False(Plan(OneWay, [File("a", 1, minutes: 5)], [File("a", 1)]).Acts.Single().MayBeSame);
    }

    [Theory]
    [InlineData(TwinChoice.First, TwinSide.Second)]
    [InlineData(TwinChoice.Second, TwinSide.First)]
    [InlineData(TwinChoice.Newer, TwinSide.First)]
    public void A_conflict_is_settled_by_who_is_to_win_and_the_loser_is_kept(TwinChoice choice, TwinSide to)
    {
        var act = Plan(Both, [File("a", 2)], [File("a", 3, minutes: 1)], settling: new TwinSettling(choice)).Acts.Single();
        Assert.Equal((TwinDeed.File, to, true), (act.Deed, act.To, act.KeepsOld));
    }

    [Fact]
    public void Only_the_conflicts_that_are_named_are_settled()
    {
        var plan = Plan(Both, [File("a", 2), File("b", 2)], [File("a", 3), File("b", 3)], settling: new TwinSettling(TwinChoice.First, [new FileName("b")]));
        Assert.Equal(["file b", "conflict a"], Words(plan));
    }

    [Fact]
    public void Whoever_took_something_away_can_win_as_well()
    {
        var act = Plan(Both, [], [File("a", 3)], Base(File("a", 1)), settling: new TwinSettling(TwinChoice.First)).Acts.Single();
        Assert.Equal((TwinDeed.Delete, TwinSide.Second), (act.Deed, act.To));
        Assert.Equal(TwinSide.First, Plan(Both, [], [File("a", 3)], Base(File("a", 1)), settling: new TwinSettling(TwinChoice.Newer)).Acts.Single().To);
    }

    [Fact]
    public void A_folder_that_was_taken_away_comes_back_for_what_was_put_into_it_meanwhile()
    {
        var before = Base(Folder("a"), File("a/old", 1));
        var plan = Plan(Both, [], [Folder("a"), File("a/old", 1), File("a/new", 1)], before);
        Assert.Equal([("a", TwinDeed.Folder, TwinSide.First), ("a/new", TwinDeed.File, TwinSide.First), ("a/old", TwinDeed.Delete, TwinSide.Second), ("a", TwinDeed.Setting, TwinSide.First)], plan.Acts.Select(a => (a.Path.Text, a.Deed, a.To)));
    }

    [Fact]
    public void A_folder_is_taken_away_once_with_all_that_is_in_it()
    {
        var before = Base(Folder("a"), Folder("a/b"), File("a/b/c", 1), File("a b", 1));
        Assert.Equal(["delete a"], Words(Plan(Both, [File("a b", 1)], [Folder("a"), Folder("a/b"), File("a/b/c", 1), File("a b", 1)], before)));
    }

    [Fact]
    public void What_is_left_alone_keeps_its_folder()
    {
        var rules = Mirror with { Leaves = ["*.tmp", "cache/*"] };
        List<FileEntry> second = [Folder("a"), File("a/x.tmp", 1), File("a/y", 1), Folder("cache"), File("cache/z", 1), File("b.TMP", 1)];
        Assert.Equal(["delete a/y"], Words(Plan(rules, [File("c.tmp", 1)], second)));
    }

    [Fact]
    public void What_could_not_be_looked_into_is_not_taken_for_gone()
    {
        var before = Base(Folder("a"), File("a/b", 1), File("c", 1));
        var plan = TwinPlan.Make(Tree([Folder("a")]), Tree([Folder("a"), File("a/b", 1), File("c", 1)]), before, Both, null, new HashSet<FileName> { new("a") });
        Assert.Equal(["delete c"], Words(plan));
    }

    [Fact]
    public void What_is_neither_file_folder_nor_link_stays_and_is_told_of()
    {
        var pipe = new FileEntry(new FileName("p"), FileKind.Pipe, 0, 0x1a4, "root", "root", Morning);
        Assert.Equal(["left p"], Words(Plan(Mirror, [File("p", 1)], [pipe])));
        Assert.Equal(["left d/p"], Words(Plan(Mirror, [], [Folder("d"), pipe with { Name = new FileName("d/p") }])));
    }

    [Fact]
    public void Both_ways_turn_after_turn_brings_any_two_folders_in_step()
    {
        var random = new Random(11);
        for (var round = 0; round < 200; round++)
        {
            var (first, second) = (Tree([]), Tree([]));
            var before = new Dictionary<FileName, TwinBase>();
            for (var turn = 0; turn < 6; turn++)
            {
                Meddle(random, first, turn);
                Meddle(random, second, turn);
                Do(TwinPlan.Make(first, second, before, Both, new TwinSettling((TwinChoice)random.Next(3))), first, second);
                // What a folder and a file of one name keep from being settled is settled in a second turn at the latest.
                var rest = TwinPlan.Make(first, second, Known(first, second, before), Both, new TwinSettling(TwinChoice.First));
                Do(rest, first, second);
                before = Known(first, second, before);
                foreach (var tree in new[] { first, second })
                {
                    Assert.All(tree.Keys, path => Assert.True(TwinPaths.Above(path) is not { } above || tree[above].Kind == FileKind.Folder, $"{path} lies in no folder"));
                }
                if (!rest.Acts.Any(a => a.Deed == TwinDeed.Conflict))
                {
                    Assert.Equal(States(first), States(second));
                }
            }
        }
    }

    private static Dictionary<FileName, TwinBase> Known(Dictionary<FileName, FileEntry> first, Dictionary<FileName, FileEntry> second, Dictionary<FileName, TwinBase> before)
    {
        var known = before.Where(b => first.ContainsKey(b.Key) || second.ContainsKey(b.Key)).ToDictionary();
        foreach (var (path, entry) in first)
        {
            if (second.TryGetValue(path, out var other) && TwinState.Of(entry) == TwinState.Of(other))
            {
                known[path] = new TwinBase(path, TwinState.Of(entry)!, TwinState.Of(other)!);
            }
        }
        return known;
    }

    private static IEnumerable<string> States(Dictionary<FileName, FileEntry> tree) => tree.OrderBy(t => t.Key.Text, StringComparer.Ordinal).Select(t => $"{t.Key} {TwinState.Of(t.Value)}");

    /// <summary>Changes a tree as somebody at a host would.</summary>
    private static void Meddle(Random random, Dictionary<FileName, FileEntry> tree, int turn)
    {
        for (var change = 0; change < 4; change++)
        {
            var name = $"{"abc"[random.Next(3)]}";
            var path = random.Next(3) == 0 ? name : $"{name}/{"xyz"[random.Next(3)]}";
            Remove(tree, new FileName(path));
            if (random.Next(4) == 0)
            {
                continue;
            }
            if (TwinPaths.Above(new FileName(path)) is { } above && tree.GetValueOrDefault(above)?.Kind != FileKind.Folder)
            {
                Remove(tree, above);
                tree[above] = Folder(above.Text);
            }
            tree[new FileName(path)] = random.Next(4) switch { 0 => Folder(path), 1 => Link(path, $"{turn}"), _ => File(path, random.Next(1, 9), minutes: random.Next(100)) };
        }
    }

    private static void Do(TwinPlan plan, Dictionary<FileName, FileEntry> first, Dictionary<FileName, FileEntry> second)
    {
        foreach (var act in plan.Acts)
        {
            var tree = act.To == TwinSide.First ? first : second;
            switch (act.Deed)
            {
                case TwinDeed.Delete:
                    Assert.True(tree.ContainsKey(act.Path), $"{act.Path} is deleted twice");
                    Remove(tree, act.Path);
                    break;
                case TwinDeed.File or TwinDeed.Link or TwinDeed.Folder or TwinDeed.Setting:
                    tree[act.Path] = act.From!;
                    break;
            }
        }
    }

    private static void Remove(Dictionary<FileName, FileEntry> tree, FileName path)
    {
        foreach (var gone in tree.Keys.Where(k => k == path || k.Text.StartsWith(path.Text + "/", StringComparison.Ordinal)).ToList())
        {
            tree.Remove(gone);
        }
    }

    private static TwinPlan Plan(TwinRules rules, List<FileEntry> first, List<FileEntry> second, Dictionary<FileName, TwinBase>? before = null, TwinSettling? settling = null) => TwinPlan.Make(Tree(first), Tree(second), before ?? [], rules, settling);

    private static Dictionary<FileName, FileEntry> Tree(List<FileEntry> entries) => entries.ToDictionary(e => e.Name);

    private static Dictionary<FileName, TwinBase> Base(params List<FileEntry> entries) => entries.ToDictionary(e => e.Name, e => new TwinBase(e.Name, TwinState.Of(e)!, TwinState.Of(e)!));

    private static IEnumerable<string> Words(TwinPlan plan) => plan.Acts.Select(a => $"{a.Deed.ToString().ToLowerInvariant()} {a.Path}");

    private static FileEntry File(string path, long bytes, int mode = 0x1a4, int minutes = 0) => new(new FileName(path), FileKind.File, bytes, mode, "root", "root", Morning.AddMinutes(minutes), $"{bytes}-{minutes}");

    private static FileEntry Folder(string path) => new(new FileName(path), FileKind.Folder, 0, 0x1ed, "root", "root", Morning);

    private static FileEntry Link(string path, string target) => new(new FileName(path), FileKind.Link, 0, 0x1ff, "root", "root", Morning, null, new FileName(target));
}
