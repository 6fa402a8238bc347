using System.Security.Cryptography;
using System.Text;
using Umbrek.Core.Files;
using Umbrek.Tests;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Tests.Files;

/// <summary>Questions about real files of this machine, over a real channel.</summary>
public sealed class FileAnswersTests : IAsyncLifetime
{
    private FileLine line = null!;

    public async ValueTask InitializeAsync() => line = await FileLine.OpenAsync();

    public ValueTask DisposeAsync() => line.DisposeAsync();

    private TestDirectory Folder => line.Directory;

    private FileName At(string name) => line.At(name);

    private void Run(string text) => line.Run(text);

    private Task<(List<FileWord> Words, byte[] Data)> AskAsync(FileAsk ask) => line.AskAsync(ask);

    private Task<string> ProblemAsync(FileAsk ask) => line.ProblemAsync(ask);

    [Fact]
    public async Task Whatever_has_a_name_is_listed_as_what_it_is()
    {
        Run("touch $'caf\\xe9' $'two\\nlines' empty; mkdir -m 1777 shared; ln -s empty link; ln -s nowhere astray; mkfifo -m 600 pipe; printf abc >abc; chmod 4750 abc; touch -d 2024-02-03T04:05:06.789Z abc");
        var entries = (await AskAsync(new FileAsk(List: new FileName(Folder.Path)))).Words.SelectMany(w => w.Entries ?? []).ToDictionary(e => e.Name.Text);
        entries.Count.ShouldBe(8);
        entries["caf\ufffd"].Name.Bytes.ShouldBe([0x63, 0x61, 0x66, 0xe9]);
        entries["two\nlines"].Kind.ShouldBe(FileKind.File);
        (entries["shared"].Kind, entries["shared"].ModeText()).ShouldBe((FileKind.Folder, "drwxrwxrwt"));
        (entries["link"].Kind, entries["link"].Target, entries["link"].TargetKind).ShouldBe((FileKind.Link, new FileName("empty"), FileKind.File));
        (entries["astray"].Target!.Text, entries["astray"].TargetKind).ShouldBe(("nowhere", null));
        entries["pipe"].Kind.ShouldBe(FileKind.Pipe);
        var file = entries["abc"];
        (file.Bytes, file.ModeText(), file.ChangedAt).ShouldBe((3, "-rwsr-x---", new DateTimeOffset(2024, 2, 3, 4, 5, 6, 789, TimeSpan.Zero)));
        file.Owner.ShouldBe(Environment.UserName);
        (await AskAsync(new FileAsk(Look: At("link")))).Words.ShouldHaveSingleItem().Entry!.Kind.ShouldBe(FileKind.File);
    }

    [Fact]
    public async Task A_folder_is_walked_each_before_what_it_holds_and_no_link_is_followed()
    {
        Run("mkdir -p a/b/c; touch a/b/c/deep a/top; ln -s .. a/b/up; ln -s /etc a/etc; mkdir a/$'\\xff'; touch a/$'\\xff'/in");
        var names = (await AskAsync(new FileAsk(Walk: At("a")))).Words.SelectMany(w => w.Entries ?? []).Select(e => e.Name).ToList();
        names.Select(n => n.Text).ShouldBe(["b", "b/c", "b/c/deep", "b/up", "top", "etc", "\ufffd", "\ufffd/in"], ignoreOrder: true);
        names.FindIndex(n => n.Text == "b").ShouldBeLessThan(names.FindIndex(n => n.Text == "b/c"));
        names.Single(n => n.Text == "\ufffd/in").Bytes.ShouldBe([0xff, .. "/in"u8]);
    }

    [Fact]
    public async Task A_large_folder_comes_in_portions_that_a_message_holds()
    {
        Run("seq -f '" + new string('f', 200) + "%05g' 3000 | xargs touch");
        var (words, _) = await AskAsync(new FileAsk(List: new FileName(Folder.Path)));
        words.Count.ShouldBeGreaterThan(10);
        words.Sum(w => w.Entries!.Count).ShouldBe(3000);
    }

    [Fact]
    public async Task A_file_comes_whole_or_from_where_it_is_wanted_and_is_hashed_whole()
    {
        var bytes = RandomNumberGenerator.GetBytes(300_000);
        await File.WriteAllBytesAsync(Folder.In("file"), bytes);
        var (words, data) = await AskAsync(new FileAsk(Read: new FileRead(At("file"))));
        data.ShouldBe(bytes);
        (words[0].Entry!.Bytes, words[0].From, words[^1].Changed).ShouldBe((300_000, 0, false));
        words[^1].Sha256.ShouldBe(SHA256.HashData(bytes));

        var version = words[0].Entry!.Version;
        (words, data) = await AskAsync(new FileAsk(Read: new FileRead(At("file"), 123_456, version)));
        data.ShouldBe(bytes[123_456..]);
        (words[0].From, words[^1].Sha256.AsSpan().SequenceEqual(SHA256.HashData(bytes))).ShouldBe((123_456, true));

        (_, data) = await AskAsync(new FileAsk(Read: new FileRead(At("file"), 10, Most: 20)));
        data.ShouldBe(bytes[10..30]);

        // Another version begins at its beginning, and so does one that is shorter than what was there.
        await File.WriteAllBytesAsync(Folder.In("file"), bytes[..200_000]);
        (words, data) = await AskAsync(new FileAsk(Read: new FileRead(At("file"), 123_456, version)));
        (words[0].From, data.Length).ShouldBe((0, 200_000));
        words[0].Entry!.Version.ShouldNotBe(version);
    }

    [Fact]
    public async Task Holes_are_told_and_not_sent()
    {
        Run("printf begin >sparse; truncate -s 40M sparse; printf end >>sparse; truncate -s 41M sparse");
        var (words, data) = await AskAsync(new FileAsk(Read: new FileRead(At("sparse"))));
        var content = await File.ReadAllBytesAsync(Folder.In("sparse"));
        data.AsSpan().SequenceEqual(content).ShouldBeTrue();
        words[^1].Sha256.ShouldBe(SHA256.HashData(content));
        words.Sum(w => w.Zeros ?? 0).ShouldBeGreaterThan(38L << 20);
        var from = words[0].Entry!.Version;
        (words, data) = await AskAsync(new FileAsk(Read: new FileRead(At("sparse"), 20 << 20, from)));
        data.Length.ShouldBe(21 << 20);
        words[^1].Sha256.ShouldBe(SHA256.HashData(content));
        (await line.ToldAsync()).Sum(r => r.Bytes).ShouldBeLessThan(1 << 20);
    }

    [Fact]
    public async Task A_file_that_says_it_is_empty_and_is_not_is_read_as_it_comes()
    {
        var (words, data) = await AskAsync(new FileAsk(Read: new FileRead(new FileName("/proc/self/status"))));
        Encoding.UTF8.GetString(data).ShouldContain("VmRSS");
        words[^1].Sha256.ShouldBe(SHA256.HashData(data));
    }

    [Fact]
    public async Task What_can_t_be_answered_is_said_and_the_next_is_answered()
    {
        Run("mkfifo pipe; mkdir folder; ln -s circle circle");
        (await ProblemAsync(new FileAsk(Read: new FileRead(At("none"))))).ShouldBe($"There is no {Folder.In("none")} on this host.");
        (await ProblemAsync(new FileAsk(Read: new FileRead(At("pipe"))))).ShouldContain("is a pipe");
        (await ProblemAsync(new FileAsk(Read: new FileRead(At("folder"))))).ShouldContain("is a folder");
        (await ProblemAsync(new FileAsk(Read: new FileRead(new FileName("/dev/zero"))))).ShouldContain("is a device");
        (await ProblemAsync(new FileAsk(Look: At("circle")))).ShouldContain("leads in a circle");
        (await ProblemAsync(new FileAsk(List: At("pipe")))).ShouldContain("no folder");
        (await ProblemAsync(new FileAsk(Look: new FileName("/" + new string('n', 300))))).ShouldContain("longer than");
        (await ProblemAsync(new FileAsk())).ShouldContain("one thing at a time");
        (await ProblemAsync(new FileAsk(Look: At("a"), List: At("b")))).ShouldContain("one thing at a time");
        (await ProblemAsync(new FileAsk(List: new FileName("folder")))).ShouldContain("no whole path");
        (await AskAsync(new FileAsk(Look: At("folder")))).Words.ShouldHaveSingleItem().Entry!.Kind.ShouldBe(FileKind.Folder);
    }

    [Fact]
    public async Task Names_of_any_length_fit_into_what_is_sent()
    {
        // Bytes that are no text, as many as a name holds, folder in folder, and links that lead as far as a link may.
        Run("n=$(printf '\\xe9%.0s' {1..255}); p=.; for i in {1..12}; do p=$p/$(printf \"$n\"); done; mkdir -p \"$p\"; t=$(printf \"$n/%.0s\" {1..15}); for i in {1..40}; do ln -s \"$(printf \"$t\")\" \"$p/link-$i\"; done");
        var entries = (await AskAsync(new FileAsk(Walk: new FileName(Folder.Path)))).Words.SelectMany(w => w.Entries ?? []).ToList();
        entries.Count.ShouldBe(12 + 40);
        entries[^1].Target!.ToBytes().Length.ShouldBeGreaterThan(3800);
        entries[^1].Name.ToBytes().Length.ShouldBeGreaterThan(3000);
    }

    [Fact]
    public async Task What_does_not_lie_below_what_was_said_is_told_by_itself()
    {
        Run("mkdir said other; printf in >said/in; printf out >other/out; ln -s ../other/out said/link; ln -s ../other said/way; ln -s said name");
        await AskAsync(new FileAsk(Transfer: At("name")));
        foreach (var path in (string[])["name/in", "name/link", "name/way/out", "said/../other/out", "said/in", "said/none"])
        {
            await AskAsync(new FileAsk(Read: new FileRead(At(path))));
        }
        var told = await line.ToldAsync();
        // Without having said anything, each is one.
        line.Begin(changes: false);
        await AskAsync(new FileAsk(Read: new FileRead(At("said/in"))));
        await AskAsync(new FileAsk(Read: new FileRead(At("other/out"), Most: 1)));
        await AskAsync(new FileAsk(Read: new FileRead(At("other/none"))));
        told.AddRange(await line.ToldAsync());
        told.Select(r => (r.Path.Text[(Folder.Path.Length + 1)..], r.Files, r.Bytes, r.Problems)).ShouldBe(
        [
            ("name", 1, 2, 0), ("other/out", 1, 3, 0), ("other/out", 1, 3, 0), ("other/out", 1, 3, 0), ("name", 1, 2, 1),
            ("said/in", 1, 2, 0), ("other/out", 1, 1, 0), ("other/none", 0, 0, 1),
        ], ignoreOrder: false);
    }

    [Fact]
    public async Task Each_transfer_is_told_once()
    {
        Run("printf one >one; printf two >two");
        (await AskAsync(new FileAsk(Transfer: new FileName(Folder.Path)))).Words.ShouldHaveSingleItem().Done.ShouldBeTrue();
        await AskAsync(new FileAsk(Read: new FileRead(At("one"))));
        await AskAsync(new FileAsk(Read: new FileRead(At("two"))));
        await AskAsync(new FileAsk(Read: new FileRead(At("three"))));
        await AskAsync(new FileAsk(Transfer: At("one")));
        await AskAsync(new FileAsk(Read: new FileRead(At("one"))));
        var told = await line.ToldAsync();
        (await line.ToldAsync()).ShouldBeEmpty();
        told.Select(r => (r.Path.Text, r.Files, r.Bytes, r.Problems)).ShouldBe([(Folder.Path, 2, 6, 1), (Folder.In("one"), 1, 3, 0)]);
        told[0].Sha256.ShouldBeNull();
        told[1].Sha256.ShouldBe(SHA256.HashData("one"u8));
    }
}
