using System.Security.Cryptography;
using System.Text;
using Umbrek.Agent.Files;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Tests.Files;

/// <summary>Files of this machine are changed, and new ones come, over a real channel.</summary>
public sealed class FileChangesTests : IAsyncLifetime
{
    private FileLine line = null!;

    public async ValueTask InitializeAsync()
    {
        line = await FileLine.OpenAsync();
        line.Begin(changes: true);
    }

    public ValueTask DisposeAsync() => line.DisposeAsync();

    private FileName At(string name) => line.At(name);

    private string In(string name) => line.Directory.In(name);

    private string[] Names(string folder = ".") => [.. new DirectoryInfo(In(folder)).EnumerateFileSystemInfos().Select(f => f.Name).Order(StringComparer.Ordinal)];

    private static FileEnd End(byte[] content) => new(SHA256.HashData(content));

    private FileWrite Write(string name, byte[] content, string version = "1") => new(At(name), content.Length, version);

    [Fact]
    public async Task Folders_and_links_are_made_and_things_moved_and_nothing_is_overwritten()
    {
        await line.ChangeAsync(new FileChange(Folder: At("new")));
        await line.ChangeAsync(new FileChange(Folder: At("new")));
        await line.ChangeAsync(new FileChange(Link: new FileLink(At("new/link"), new FileName("../one"))));
        line.Run("printf one >one; printf two >two; mkdir -p deep/er");
        new FileInfo(In("new/link")).LinkTarget.ShouldBe("../one");
        await line.ChangeAsync(new FileChange(Move: new FileMove(At("two"), At("new/zwei"))));
        Names("new").ShouldBe(["link", "zwei"]);
        (await line.ChangeProblemAsync(new FileChange(Move: new FileMove(At("one"), At("new/zwei"))))).ShouldContain("already; it is left as it is");
        (await line.ChangeProblemAsync(new FileChange(Move: new FileMove(At("deep"), At("deep/er/down"))))).ShouldContain("into itself");
        (await line.ChangeProblemAsync(new FileChange(Folder: At("one")))).ShouldBe($"There is a {In("one")} already.");
        (await line.ChangeProblemAsync(new FileChange(Folder: At("no/where")))).ShouldContain("There is no");
        (await line.ChangeProblemAsync(new FileChange(Move: new FileMove(At("none"), At("some"))))).ShouldContain("There is no");
        (await line.ChangeProblemAsync(new FileChange(Move: new FileMove(At("one"), new FileName("/proc/one"))))).ShouldContain("another file system");
        (await line.ChangeProblemAsync(new FileChange(Folder: new FileName("/")))).ShouldContain("no name of something");
        (await line.ChangeProblemAsync(new FileChange(Folder: At(new string('n', 300))))).ShouldContain("at most 255 bytes");
        (await line.ChangeProblemAsync(new FileChange())).ShouldContain("one change at a time");
        await File.ReadAllTextAsync(In("one")).ContinueWith(t => t.Result.ShouldBe("one"));
        (await line.ToldAsync()).Select(r => (r.Deed, r.Path.Text[(line.Directory.Path.Length + 1)..], r.To?.Replace(line.Directory.Path, "", StringComparison.Ordinal))).ShouldBe(
            [(FileDeed.Folder, "new", null), (FileDeed.Folder, "new", null), (FileDeed.Link, "new/link", "../one"), (FileDeed.Move, "two", "/new/zwei")]);
    }

    [Fact]
    public async Task What_is_deleted_lies_in_the_trash_and_comes_back_as_it_was()
    {
        line.Run("mkdir -p there/deep; printf one >there/deep/one; printf $'odd' >$'od\\nd\\xe9'; touch there/two; chmod 640 there/two");
        var first = (await line.AskAsync(new FileAsk(Change: new FileChange(Delete: At("there"))))).Words.ShouldHaveSingleItem().Trash!.ShouldHaveSingleItem();
        (first.Path, first.Entry.Kind).ShouldBe((At("there"), FileKind.Folder));
        await line.ChangeAsync(new FileChange(Delete: FileName.Of([.. Encoding.UTF8.GetBytes(In("od\nd")), 0xe9])));
        Names().ShouldBeEmpty();

        // The same name once more is another thing in the trash.
        line.Run("mkdir there");
        var second = (await line.AskAsync(new FileAsk(Change: new FileChange(Delete: At("there"))))).Words[0].Trash![0];
        second.Id.ShouldNotBe(first.Id);
        var trash = (await line.AskAsync(new FileAsk(Trash: true))).Words.SelectMany(w => w.Trash ?? []).Where(t => t.Path.Text.StartsWith(line.Directory.Path, StringComparison.Ordinal)).ToList();
        trash.Select(t => t.Id).ShouldBe([first.Id, second.Id, trash.Single(t => t.Path.Bytes is not null).Id], ignoreOrder: true);

        // As the specification wants it.
        var info = Directory.EnumerateFiles(Path.Combine(line.State.Trash, "info")).Concat(Directory.Exists(TopTrash()) ? Directory.EnumerateFiles(Path.Combine(TopTrash(), "info")) : []).Select(File.ReadAllText).ToList();
        info.ShouldContain(t => t.StartsWith($"[Trash Info]\nPath={line.Directory.Path}/there\nDeletionDate=20", StringComparison.Ordinal));
        info.ShouldContain(t => t.Contains("od%0Ad%E9\n", StringComparison.Ordinal));

        await line.ChangeAsync(new FileChange(Restore: second.Id));
        (await line.ChangeProblemAsync(new FileChange(Restore: first.Id))).ShouldContain("already");
        await line.ChangeAsync(new FileChange(Erase: At("there")));
        await line.ChangeAsync(new FileChange(Restore: first.Id));
        await File.ReadAllTextAsync(In("there/deep/one")).ContinueWith(t => t.Result.ShouldBe("one"));
        File.GetUnixFileMode(In("there/two")).ShouldBe((UnixFileMode)0x1a0);
        (await line.ChangeProblemAsync(new FileChange(Restore: first.Id))).ShouldContain("Nothing in the trash");

        await line.ChangeAsync(new FileChange(Empty: trash.Single(t => t.Path.Bytes is not null).Id));
        (await line.AskAsync(new FileAsk(Trash: true))).Words.SelectMany(w => w.Trash ?? []).ShouldNotContain(t => t.Path.Text.StartsWith(line.Directory.Path, StringComparison.Ordinal));
        (await line.ChangeProblemAsync(new FileChange(Restore: "../../etc"))).ShouldContain("Nothing in the trash");
        (await line.ChangeProblemAsync(new FileChange(Restore: "zz:none"))).ShouldContain("Nothing in the trash");
    }

    private string TopTrash()
    {
        var top = line.Directory.Path;
        while (top != "/" && !Directory.Exists(Path.Combine(top, ".Trash-0")))
        {
            top = Path.GetDirectoryName(top)!;
        }
        return Path.Combine(top, ".Trash-0");
    }

    [Fact]
    public async Task For_good_is_all_of_it_and_nothing_behind_a_link()
    {
        line.Run("mkdir -p kept gone/a/b; touch kept/file gone/a/{1..30} gone/a/b/x; ln -s ../kept gone/link; ln -s ../kept out");
        var words = (await line.AskAsync(new FileAsk(Change: new FileChange(Erase: At("gone"))))).Words;
        words[^1].Count.ShouldBe(35);
        await line.ChangeAsync(new FileChange(Erase: At("out")));
        Names().ShouldBe(["kept"]);
        Names("kept").ShouldBe(["file"]);
        (await line.ChangeProblemAsync(new FileChange(Erase: At("gone")))).ShouldContain("There is no");
        (await line.ToldAsync()).Select(r => (r.Deed, r.Files)).ShouldBe([(FileDeed.Erase, 35), (FileDeed.Erase, 1)]);
    }

    [Fact]
    public async Task Modes_owners_and_times_are_set_with_what_is_below_if_that_is_wanted()
    {
        line.Run("mkdir -p tree/in; touch tree/plain tree/in/script tree/in/other; chmod 755 tree/in/script; chmod 2755 tree/in; ln -s ../plain tree/in/link");
        await line.ChangeAsync(new FileChange(Set: new FileSetting(At("tree/plain"), Mode: 0x180, ChangedAt: new DateTimeOffset(2024, 2, 3, 4, 5, 6, 789, TimeSpan.Zero))));
        File.GetUnixFileMode(In("tree/plain")).ShouldBe((UnixFileMode)0x180);
        File.GetLastWriteTimeUtc(In("tree/plain")).ShouldBe(new DateTime(2024, 2, 3, 4, 5, 6, 789, DateTimeKind.Utc));
        var words = (await line.AskAsync(new FileAsk(Change: new FileChange(Set: new FileSetting(At("tree"), Mode: 0x1f8, Owner: "0", Deep: true))))).Words;
        words.ShouldAllBe(w => w.Problem == null);
        words[^1].Count.ShouldBe(5);
        File.GetUnixFileMode(In("tree")).ShouldBe((UnixFileMode)0x1f8);
        File.GetUnixFileMode(In("tree/in")).ShouldBe((UnixFileMode)(0x400 | 0x1f8));
        File.GetUnixFileMode(In("tree/in/script")).ShouldBe((UnixFileMode)0x1f8);
        File.GetUnixFileMode(In("tree/in/other")).ShouldBe((UnixFileMode)(0x1f8 & ~0x49));
        (await line.ChangeProblemAsync(new FileChange(Set: new FileSetting(At("tree"), Owner: "nobody-here")))).ShouldBe("There is no user 'nobody-here' on this host.");
        (await line.ChangeProblemAsync(new FileChange(Set: new FileSetting(At("tree"), Mode: 0xfff)))).ShouldContain("up to 0777");
        (await line.ChangeProblemAsync(new FileChange(Set: new FileSetting(At("tree"))))).ShouldContain("Say what to set");
        await line.ChangeAsync(new FileChange(Set: new FileSetting(At("tree/plain"), Group: "root")));
        (await line.ToldAsync()).Select(r => r.To).ShouldBe(["mode 0600, changed at 2024-02-03T04:05:06Z", "mode 0770, owner 0, with all below it", "group root"]);
    }

    [Fact]
    public async Task A_file_comes_whole_under_its_name_with_holes_mode_and_time()
    {
        var content = RandomNumberGenerator.GetBytes(100_000);
        var whole = (byte[])[.. content, .. new byte[200_000], .. content];
        var at = new DateTimeOffset(2025, 6, 7, 8, 9, 10, TimeSpan.Zero);
        var (words, _) = await line.SendAsync(new FileWrite(At("file"), whole.Length, "1", Mode: 0x1c0, ChangedAt: at), End(whole), content[..60_000], content[60_000..], 200_000, content);
        var word = words.ShouldHaveSingleItem();
        (word.Done, word.Problem, word.Entry!.Bytes).ShouldBe((true, null, 400_000));
        (await File.ReadAllBytesAsync(In("file"))).AsSpan().SequenceEqual(whole).ShouldBeTrue();
        (File.GetUnixFileMode(In("file")), File.GetLastWriteTimeUtc(In("file"))).ShouldBe(((UnixFileMode)0x1c0, at.UtcDateTime));
        // An empty one, and one whose end is a hole.
        (await line.SendAsync(Write("empty", []), End([]))).Words[^1].Problem.ShouldBeNull();
        (await line.SendAsync(new FileWrite(At("hole"), 5_000_000, "1"), End(new byte[5_000_000]), 5_000_000)).Words[^1].Problem.ShouldBeNull();
        new FileInfo(In("hole")).Length.ShouldBe(5_000_000);
        File.GetUnixFileMode(In("empty")).ShouldBe((UnixFileMode)0x1a4);
        Names().ShouldBe(["empty", "file", "hole"]);
        var told = await line.ToldAsync();
        told.Select(r => (r.Deed, r.Files, r.Bytes)).ShouldBe([(FileDeed.Write, 1, 200_000), (FileDeed.Write, 1, 0), (FileDeed.Write, 1, 0)]);
        told[0].Sha256.ShouldBe(SHA256.HashData(whole));
    }

    [Fact]
    public async Task What_broke_off_is_gone_on_from_and_another_version_is_begun_anew()
    {
        var content = RandomNumberGenerator.GetBytes(300_000);
        await line.SendAsync(Write("file", content), null, content[..123_456]);
        line.Begin(changes: true);
        Names().ShouldHaveSingleItem().ShouldMatch(@"^\.file\.[0-9a-f]{16}\.part$");
        (await line.AskAsync(new FileAsk(Part: new FilePart(At("file"), "1")))).Words[0].From.ShouldBe(123_456);
        (await line.AskAsync(new FileAsk(Part: new FilePart(At("file"), "2")))).Words[0].From.ShouldBe(0);
        (await line.SendAsync(Write("file", content) with { From = 123_456 }, End(content), content[123_456..])).Words[^1].Problem.ShouldBeNull();
        (await File.ReadAllBytesAsync(In("file"))).AsSpan().SequenceEqual(content).ShouldBeTrue();
        Names().ShouldBe(["file"]);
        line.Ledger.Left().ShouldBeEmpty();
    }

    [Fact]
    public async Task What_arrives_otherwise_than_it_was_sent_is_not_kept()
    {
        var content = RandomNumberGenerator.GetBytes(1000);
        (await line.SendAsync(Write("file", content), End([1]), content)).Words[^1].ShouldSatisfyAllConditions(w => w.Differs.ShouldBeTrue(), w => w.Problem.ShouldNotBeNull().ShouldContain("not what was sent"));
        (await line.SendAsync(Write("file", content), End(content), content[..500])).Words[^1].Differs.ShouldBeTrue();
        (await line.SendAsync(Write("file", content) with { Bytes = 500 }, End(content), content)).Words[^1].Problem.ShouldNotBeNull().ShouldContain("grew");
        (await line.SendAsync(Write("file", content), new FileEnd(null), content)).Words[^1].Problem.ShouldNotBeNull().ShouldContain("could not be read to its end");
        (await line.SendAsync(Write("file", content) with { From = 77 }, End(content), content)).Words[^1].Differs.ShouldBeTrue();
        Names().ShouldBeEmpty();
        // The next one is taken as if nothing had been.
        (await line.SendAsync(Write("file", content), End(content), content)).Words[^1].Problem.ShouldBeNull();
        (await line.ToldAsync()).Select(r => r.Problems).ShouldBe([1, 1, 1, 1, 1, 0]);
    }

    [Fact]
    public async Task What_is_there_makes_room_only_if_that_is_meant_and_is_kept_if_that_is_meant()
    {
        var (old, next) = ("old\n"u8.ToArray(), "new\n"u8.ToArray());
        await File.WriteAllBytesAsync(In("file"), old);
        line.Run("chmod 640 file; mkdir folder; mkfifo pipe; ln -s file link");
        (await line.SendAsync(Write("file", next), End(next), next)).Words[^1].Problem.ShouldNotBeNull().ShouldContain("already; it is left as it is");
        (await line.SendAsync(Write("folder", next) with { Replaces = true }, End(next), next)).Words[^1].Problem.ShouldNotBeNull().ShouldContain("is a folder");
        (await line.SendAsync(Write("pipe", next) with { Replaces = true }, End(next), next)).Words[^1].Problem.ShouldNotBeNull().ShouldContain("is a pipe");
        File.ReadAllBytes(In("file")).ShouldBe(old);

        var version = (await line.AskAsync(new FileAsk(Look: At("file")))).Words[0].Entry!.Version;
        (await line.SendAsync(Write("link", next) with { Replaces = true, Expects = version, KeepsOld = true }, End(next), next)).Words[^1].Problem.ShouldBeNull();
        // A link is written through; mode stays; what was there is in the trash.
        (File.ReadAllText(In("file")), new FileInfo(In("link")).LinkTarget, File.GetUnixFileMode(In("file"))).ShouldBe(("new\n", "file", (UnixFileMode)0x1a0));
        (await line.AskAsync(new FileAsk(Trash: true))).Words.SelectMany(w => w.Trash ?? []).ShouldContain(t => t.Path == At("file") && t.Entry.Bytes == 4);
        (await line.SendAsync(Write("file", old) with { Replaces = true, Expects = version }, End(old), old)).Words[^1].Problem.ShouldNotBeNull().ShouldContain("changed by somebody meanwhile");
        File.ReadAllText(In("file")).ShouldBe("new\n");
        Names().ShouldBe(["file", "folder", "link", "pipe"]);
    }

    [Fact]
    public async Task Somebody_who_changes_it_while_it_is_written_is_not_overwritten()
    {
        await File.WriteAllTextAsync(In("file"), "old");
        var version = (await line.AskAsync(new FileAsk(Look: At("file")))).Words[0].Entry!.Version;
        var next = "new"u8.ToArray();
        var write = Write("file", next) with { Replaces = true, Expects = version };
        await line.SendAsync(write, null, next);
        line.Run("printf hers >other; mv other file");
        var answer = (await line.AskAsync(new FileAsk(End: End(next)))).Words[^1];
        answer.Problem.ShouldNotBeNull().ShouldContain("meanwhile");
        File.ReadAllText(In("file")).ShouldBe("hers");
        // And one that has gone is not made again.
        await line.SendAsync(write with { Expects = (await line.AskAsync(new FileAsk(Look: At("file")))).Words[0].Entry!.Version }, null, next);
        File.Delete(In("file"));
        (await line.AskAsync(new FileAsk(End: End(next)))).Words[^1].Problem.ShouldNotBeNull().ShouldContain("taken away");
        Names().ShouldBeEmpty();
    }

    [Fact]
    public async Task Two_transfers_to_one_target_do_not_mix()
    {
        var (one, other) = (RandomNumberGenerator.GetBytes(5000), RandomNumberGenerator.GetBytes(5000));
        await line.SendAsync(Write("file", one), null, one[..1000]);
        // Another version comes beside it, and the first to end has the name.
        var files = new Agent.Platform.Linux.LinuxFileChanges(line.State, line.Ledger, TimeProvider.System);
        using (var sink = files.Open(Write("file", other, "2")))
        {
            sink.Write(0, other);
            sink.End();
        }
        (await line.AskAsync(new FileAsk(End: End(one)))).Words[^1].Differs.ShouldBeTrue();
        File.ReadAllBytes(In("file")).ShouldBe(other);
        Names().ShouldBe(["file"]);
    }

    [Fact]
    public async Task Of_two_who_write_the_same_the_later_goes_on_and_the_earlier_spoils_nothing()
    {
        var content = RandomNumberGenerator.GetBytes(500_000);
        var write = Write("file", content);
        await line.SendAsync(write, null, content[..200_000]);
        // His line broke and he is back before that was seen here: what is there is his to go on from.
        var files = new Agent.Platform.Linux.LinuxFileChanges(line.State, line.Ledger, TimeProvider.System);
        files.PartOf(new FilePart(write.Path, write.Version)).ShouldBe(200_000);
        using (var later = files.Open(write with { From = 200_000 }))
        {
            (await line.AskAsync(new FileAsk(End: End(content[..200_000])))).Words[^1].Problem.ShouldNotBeNull();
            later.Length.ShouldBe(200_000);
            later.Write(200_000, content.AsMemory(200_000));
            later.End();
        }
        File.ReadAllBytes(In("file")).ShouldBe(content);
        Names().ShouldBe(["file"]);
    }

    [Fact]
    public async Task What_somebody_else_has_put_in_its_way_is_not_written_into()
    {
        var content = RandomNumberGenerator.GetBytes(500_000);
        await line.SendAsync(Write("file", content), null, content[..1000]);
        var part = Names().ShouldHaveSingleItem();
        line.Begin(changes: true);
        // A second name of a file that is not the agent's to write into.
        line.Run($"rm {part}; printf precious >precious; ln precious {part}");
        (await line.SendAsync(Write("file", content), End(content), content)).Words[^1].Problem.ShouldBeNull();
        File.ReadAllText(In("precious")).ShouldBe("precious");
        File.ReadAllBytes(In("file")).AsSpan().SequenceEqual(content).ShouldBeTrue();
        line.Run("rm file");
        line.Run($"ln -s precious {part}");
        (await line.SendAsync(Write("file", content), End(content), content)).Words[^1].Problem.ShouldNotBeNull();
        File.ReadAllText(In("precious")).ShouldBe("precious");
    }

    [Fact]
    public async Task A_small_file_has_no_name_until_it_is_whole_and_two_who_write_it_spoil_nothing()
    {
        var (one, two) = ("the one"u8.ToArray(), "the other"u8.ToArray());
        await line.SendAsync(Write("file", one), null, one[..3]);
        Names().ShouldBeEmpty();
        var files = new Agent.Platform.Linux.LinuxFileChanges(line.State, line.Ledger, TimeProvider.System);
        var write = Write("file", two);
        files.PartOf(new FilePart(write.Path, write.Version)).ShouldBe(0);
        using (var later = files.Open(write))
        {
            later.Write(0, two);
            Names().ShouldBeEmpty();
            later.End();
        }
        File.ReadAllText(In("file")).ShouldBe("the other");
        // The first is told that something has come to be there meanwhile.
        (await line.SendAsync(null, End(one), one[3..])).Words[^1].Problem!.ShouldContain("already");
        (File.ReadAllText(In("file")), Names().Single()).ShouldBe(("the other", "file"));
        (await line.SendAsync(Write("file", one) with { Replaces = true, KeepsOld = true }, End(one), one)).Words[^1].Problem.ShouldBeNull();
        (File.ReadAllText(In("file")), Names().Single()).ShouldBe(("the one", "file"));
        line.Ledger.IsEmpty.ShouldBeTrue();
    }

    [Fact]
    public async Task What_lies_where_a_small_file_changes_places_makes_room_and_is_not_written_into()
    {
        var content = "new"u8.ToArray();
        await File.WriteAllTextAsync(In("file"), "old");
        await File.WriteAllTextAsync(In("precious"), "precious");
        var write = Write("file", content) with { Replaces = true };
        var part = $".file.{Convert.ToHexStringLower(SHA256.HashData(System.Text.Encoding.UTF8.GetBytes($"{In("file")}\0{write.Version}")).AsSpan(0, 8))}.part";
        line.Run($"ln precious {part}");
        (await line.SendAsync(write, End(content), content)).Words[^1].Problem.ShouldBeNull();
        (File.ReadAllText(In("precious")), File.ReadAllText(In("file"))).ShouldBe(("precious", "new"));
        Names().ShouldBe(["file", "precious"], ignoreOrder: true);
    }

    [Fact]
    public async Task A_full_disk_is_said_and_leaves_nothing_behind()
    {
        if (!Environment.IsPrivilegedProcess)
        {
            Assert.Skip("A small file system can be made by root alone.");
        }
        line.Run("mkdir small; mount -t tmpfs -o size=128k tmpfs small");
        try
        {
            var content = RandomNumberGenerator.GetBytes(400_000);
            (await line.SendAsync(Write("small/file", content), End(content), content)).Words[^1].Problem.ShouldBe($"{In("small/file")} can't be written: there is no space left there.");
            Names("small").ShouldBeEmpty();
            // A trash of its own lies at the top of another file system.
            await File.WriteAllTextAsync(In("small/gone"), "gone");
            var item = (await line.AskAsync(new FileAsk(Change: new FileChange(Delete: At("small/gone"))))).Words[0].Trash!.ShouldHaveSingleItem();
            Names("small").ShouldBe([".Trash-0"]);
            (await line.AskAsync(new FileAsk(Trash: true))).Words.SelectMany(w => w.Trash ?? []).ShouldContain(t => t.Id == item.Id);
            await line.ChangeAsync(new FileChange(Restore: item.Id));
            File.ReadAllText(In("small/gone")).ShouldBe("gone");
            // What is mounted within is left alone.
            line.Run("mkdir outer; mkdir outer/in; mount --bind small outer/in");
            (await line.AskAsync(new FileAsk(Change: new FileChange(Erase: At("outer"))))).Words.ShouldContain(w => w.Problem != null && w.Problem.Contains("another file system", StringComparison.Ordinal));
            Names("small").ShouldContain("gone");
            line.Run("umount outer/in; mount -o remount,ro small");
            (await line.SendAsync(Write("small/two", [1]), End([1]), (byte[])[1])).Words[^1].Problem.ShouldNotBeNull().ShouldContain("nothing can be written");
        }
        finally
        {
            line.Run("umount outer/in 2>/dev/null; umount small");
        }
    }

    [Fact]
    public async Task A_channel_for_changes_reads_nothing_and_one_for_reading_changes_nothing()
    {
        await File.WriteAllTextAsync(In("file"), "secret");
        (await line.ProblemAsync(new FileAsk(Read: new FileRead(At("file"))))).ShouldContain("This channel is for changes");
        (await line.AskAsync(new FileAsk(List: new FileName(line.Directory.Path)))).Words[0].Entries!.ShouldHaveSingleItem();
        line.Begin(changes: false);
        foreach (var ask in (FileAsk[])[new(Change: new FileChange(Erase: At("file"))), new(Trash: true), new(Part: new FilePart(At("file"), "1")), new(End: new FileEnd(null)), new(Write: new FileWrite(At("new"), 0, "1"))])
        {
            (await line.ProblemAsync(ask)).ShouldContain("for looking and reading");
        }
        Names().ShouldBe(["file"]);
    }

    [Fact]
    public async Task A_whole_transfer_is_told_once_whatever_links_lead_there()
    {
        line.Run("mkdir real; ln -s real name");
        (await line.AskAsync(new FileAsk(Transfer: At("name/tree")))).Words[0].Done.ShouldBeTrue();
        await line.ChangeAsync(new FileChange(Folder: At("name/tree")));
        await line.SendAsync(Write("name/tree/a", [1]), End([1]), (byte[])[1]);
        await line.SendAsync(Write("name/tree/b", [2]), End([2]), (byte[])[2]);
        await line.SendAsync(Write("name/tree/none/c", [2]), End([2]), (byte[])[2]);
        await line.ChangeAsync(new FileChange(Set: new FileSetting(At("name/tree"), Mode: 0x1c0)));
        (await line.ToldAsync()).Select(r => (r.Deed, r.Path, r.Files, r.Bytes, r.Problems)).ShouldBe([(FileDeed.Write, At("name/tree"), 2, 2, 1)]);
    }

    [Fact]
    public async Task What_is_left_half_written_is_known_and_removed_after_a_week()
    {
        var time = new Microsoft.Extensions.Time.Testing.FakeTimeProvider(new DateTimeOffset(2026, 11, 1, 12, 0, 0, TimeSpan.Zero));
        var ledger = new PartLedger(line.State.PartsFile, time);
        ledger.Take("/srv/.one%\n.part").Dispose();
        using var held = ledger.Take("/srv/.held.part");
        ledger.Take("/srv/.two.part").Dispose();
        ledger.Ended("/srv/.two.part");
        await File.AppendAllTextAsync(line.State.PartsFile, "+17");
        time.Advance(PartLedger.Kept + TimeSpan.FromMinutes(1));
        ledger.Left().ShouldBe(["/srv/.one%\n.part"]);
        // Another agent reads the same out of its file.
        new PartLedger(line.State.PartsFile, time).Left().ShouldBe(["/srv/.one%\n.part", "/srv/.held.part"], ignoreOrder: true);
    }
}
