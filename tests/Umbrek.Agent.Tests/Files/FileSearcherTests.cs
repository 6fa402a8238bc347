using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Tests.Files;

/// <summary>Real files of this machine are looked for, over a real channel.</summary>
public sealed class FileSearcherTests : IAsyncLifetime
{
    private FileLine line = null!;

    public async ValueTask InitializeAsync() => line = await FileLine.OpenAsync();

    public ValueTask DisposeAsync() => line.DisposeAsync();

    private async Task<(List<string> Names, FileWord End)> SearchAsync(FileSearch search)
    {
        var (words, _) = await line.AskAsync(new FileAsk(Search: search));
        return ([.. words.SelectMany(w => w.Entries ?? []).Select(e => e.Name.Text).Order(StringComparer.Ordinal)], words[^1]);
    }

    private FileSearch Here => new(new FileName(line.Directory.Path));

    [Fact]
    public async Task Files_are_found_by_what_is_said_of_them()
    {
        line.Run("mkdir -p a/b; printf 'Paper is short\\n' >a/b/printer.LOG; head -c 5000 /dev/zero >a/zeros.log; printf x >a/x.txt; touch -d '10 days ago' a/x.txt; ln -s ../a a/loop; mkdir 'a/old.log'");
        (await SearchAsync(Here with { Name = "*.log" })).Names.ShouldBe(["a/b/printer.LOG", "a/old.log", "a/zeros.log"]);
        (await SearchAsync(Here with { Name = "*.log", Kind = FileKind.File, Least = 5000 })).Names.ShouldBe(["a/zeros.log"]);
        (await SearchAsync(Here with { Until = DateTimeOffset.UtcNow.AddDays(-9) })).Names.ShouldBe(["a/x.txt"]);
        (await SearchAsync(Here with { Text = "PAPER IS" })).Names.ShouldBe(["a/b/printer.LOG"]);
        var (names, end) = await SearchAsync(Here with { Owner = "nobody-here" });
        (names.Count, end.Count).ShouldBe((0, 7));
        (await line.ProblemAsync(new FileAsk(Search: new FileSearch(line.At("none"))))).ShouldContain("There is no");
        (await line.ProblemAsync(new FileAsk(Search: new FileSearch(line.At("a/x.txt"))))).ShouldContain("is no folder; search in one");
        (await line.ProblemAsync(new FileAsk(Search: Here with { Name = "a/b" }))).ShouldContain("no slash");
        (await line.ToldAsync()).Select(r => (r.Deed, r.Path.Text, r.Files, r.To))
            .ShouldContain((FileDeed.Search, line.Directory.Path, 3, "*.log"));
    }

    [Fact]
    public async Task A_text_is_found_wherever_it_lies_in_a_file()
    {
        // Across the windows in which a file is read, at its very end, and not in what is no text.
        foreach (var at in (int[])[0, 262_140, 262_144 - 3, 524_288 - 5, 700_000])
        {
            await File.WriteAllTextAsync(line.Directory.In($"at-{at}"), new string('.', at) + "needle");
        }
        await File.WriteAllBytesAsync(line.Directory.In("binary"), [0, .. "needle"u8]);
        await File.WriteAllTextAsync(line.Directory.In("almost"), "needl" + new string('.', 300_000) + "eedle");
        (await SearchAsync(Here with { Text = "Needle" })).Names.ShouldBe(["at-0", "at-262140", "at-262141", "at-524283", "at-700000"]);
    }

    [Fact]
    public async Task What_the_system_says_of_itself_is_passed_over_unless_it_is_named()
    {
        (await SearchAsync(new FileSearch(new FileName("/proc/self"), "status"))).Names.ShouldContain("status");
        if (!Environment.IsPrivilegedProcess)
        {
            Assert.Skip("A file system is mounted by root alone.");
        }
        line.Run("mkdir said; mount -t proc proc said; touch meminfo");
        try
        {
            var (words, _) = await line.AskAsync(new FileAsk(Search: Here with { Name = "meminfo" }));
            words.ShouldContain(w => w.Problem == "said is what the system says of itself, and is passed over; name it, or a folder in it, to see it.");
            words.SelectMany(w => w.Entries ?? []).Select(e => e.Name.Text).ShouldBe(["meminfo"]);
        }
        finally
        {
            line.Run("umount said");
        }
    }

    [Fact]
    public async Task On_a_line_for_changes_names_are_searched_and_no_text()
    {
        line.Run("printf secret >file");
        line.Begin(changes: true);
        (await SearchAsync(Here with { Name = "file" })).Names.ShouldBe(["file"]);
        (await line.ProblemAsync(new FileAsk(Search: Here with { Text = "secret" }))).ShouldContain("This channel is for changes");
        line.Begin(changes: false, [line.Directory.In("none")]);
        (await line.ProblemAsync(new FileAsk(Search: Here))).ShouldContain("does not lie in");
    }
}
