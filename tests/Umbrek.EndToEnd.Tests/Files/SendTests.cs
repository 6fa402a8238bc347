using System.Security.Cryptography;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Files;

public sealed class SendTests : FileStory
{
    private Task<(int Status, string Stdout, string Stderr)> SendAsync(params string[] more) => World.ClientAsync(null, ["send", Host, .. more, "--to", World.In("host")]);

    [Fact]
    public async Task A_folder_comes_there_as_it_is_with_times_modes_links_and_holes()
    {
        await ShellAsync($$"""
            cd {{World.In("here")}}; mkdir -p tree/empty tree/deep/er; cd tree
            head -c 3000000 /dev/urandom >deep/er/noise; printf 'ripening\n' >note; : >nothing; chmod 640 note; chmod 700 deep
            touch -d 2023-04-05T06:07:08.123456Z note; touch -d 2022-01-02T03:04:05Z deep
            ln -s ../note deep/link; ln -s /nowhere astray; truncate -s 100M hole; printf x >>hole; mkfifo pipe; : >$'two\nlines'; : >"$(printf '%0255d' 0)"
            for i in $(seq 300); do echo $i >deep/small-$i; done
            """);
        var (status, stdout, stderr) = await SendAsync(Here("tree"));
        stderr.ShouldBe($"'{Here("tree/pipe")}' is a pipe, a socket or a device, which has no content to be sent.\n");
        (status, stdout.Contains("Sent 306 files (103 MiB) to creamery-files", StringComparison.Ordinal)).ShouldBe((1, true), stdout);
        await ShellAsync($"cd {World.In("host")}/tree; rm {Here("tree/pipe")}; diff -r --no-dereference . {Here("tree")}; [ $(stat -c %b hole) -lt 1000 ]");
        foreach (var name in (string[])["tree/note", "tree/deep", "tree/deep/er/noise", "tree/hole"])
        {
            (File.GetUnixFileMode(On(name)), File.GetLastWriteTimeUtc(On(name))).ShouldBe((File.GetUnixFileMode(Here(name)), File.GetLastWriteTimeUtc(Here(name))), name);
        }
        new FileInfo(On("tree/deep/link")).LinkTarget.ShouldBe("../note");
        Directory.GetFiles(World.In("host"), "*.part", SearchOption.AllDirectories).ShouldBeEmpty();
        await Wait.UntilAsync(async () => (await World.ClientAsync(null, "audit", "list", "--action", "file.write")).Stdout.Contains(On("tree"), StringComparison.Ordinal), "the host to say what came");
        (await World.ClientAsync(null, "audit", "list", "--action", "file.write", "--output", "csv")).Stdout.Split("file.write").Length.ShouldBe(2);

        // What is there already is not sent again, and what is another one is not overwritten by itself.
        (await SendAsync(Here("tree"))).Stdout.ShouldContain("306 were there as they are here.");
        await File.WriteAllTextAsync(Here("note"), "ripened\n");
        (await SendAsync(Here("note"))).Status.ShouldBe(0);
        await File.WriteAllTextAsync(Here("note"), "ripened twice\n");
        (status, _, stderr) = await SendAsync(Here("note"));
        (status, stderr.Contains("is on the host already, and is another one", StringComparison.Ordinal)).ShouldBe((2, true));
        (await File.ReadAllTextAsync(On("note"))).ShouldBe("ripened\n");
        (await SendAsync(Here("note"), "--existing", "keep")).Stdout.ShouldBe("Nothing was sent to creamery-files.\n1 that is another there was kept.\n");
        (await SendAsync(Here("note"), "--existing", "rename")).Status.ShouldBe(0);
        (await File.ReadAllTextAsync(On("note (2)"))).ShouldBe("ripened twice\n");
        (await SendAsync(Here("note"), "--existing", "replace-older", "--mode", "0600")).Status.ShouldBe(0);
        (await File.ReadAllTextAsync(On("note")), File.GetUnixFileMode(On("note"))).ShouldBe(("ripened twice\n", (UnixFileMode)0x180));
    }

    [Fact]
    public async Task Patterns_standard_input_and_what_is_wrong()
    {
        await ShellAsync($"cd {World.In("here")}; printf a >a.log; printf bb >b.log; mkdir x y; printf 1 >x/in; printf 2 >y/in");
        (await SendAsync(Here("*.log"))).Stdout.ShouldContain("Sent 2 files (3 B)");
        (await World.ClientAsync("of the cellar\n", "send", Host, "-", "--as", "input", "--to", World.In("host"))).Status.ShouldBe(0);
        (await File.ReadAllTextAsync(On("input"))).ShouldBe("of the cellar\n");
        var (status, _, stderr) = await SendAsync(Here("x/in"), Here("y/in"));
        (status, stderr.Contains("would come to lie where another file does", StringComparison.Ordinal)).ShouldBe((1, true));
        (await SendAsync(Here("*.none"))).ShouldBe((4, "", $"Nothing here is called {Here("*.none")}.\n"));
        (await SendAsync(Here("none"))).Stderr.ShouldBe($"There is no file or folder '{Here("none")}' here.\n");
        (await World.ClientAsync("", "send", Host, "-", "--to", World.In("host"))).Stderr.ShouldContain("say one with --as");
        (await SendAsync(Here("a.log"), Here("b.log"), "--as", "one")).Stderr.ShouldContain("gives a name to one");
        (await World.ClientAsync(null, "send", Host, Here("a.log"), "--to", On("none"))).Stderr.ShouldBe($"There is no {On("none")} on this host.\n");
        (await World.ClientAsync(null, "send", Host, Here("a.log"), "--to", On("a.log"))).Stderr.ShouldContain("is no folder on the host");
        (await World.ClientAsync(null, "send", Host, Here("a.log"), "--to", "host")).Stderr.ShouldContain("no whole path");
        (await SendAsync(Here("a.log"), "--rate", "quickly")).Stderr.ShouldContain("is no rate");
        (await SendAsync(Here("a.log"), "--mode", "rw")).Stderr.ShouldContain("is no mode");
        (await SendAsync(Here("b.log"), "--as", "c.log", "--owner", "nobody-here")).Stderr.ShouldContain("There is no user 'nobody-here' on this host.");
        File.Exists(On("c.log")).ShouldBeFalse();
    }

    [Fact]
    public Task A_line_that_is_cut_at_two_hundred_places_brings_the_file_there_whole() => ArrivesOverCutsAsync("send", Here("large"), World.In("host"), "there as it was read here");

    [Theory]
    [InlineData("service")]
    [InlineData("agent")]
    [InlineData("client")]
    public Task Whichever_is_killed_in_the_middle_the_file_arrives_whole(string which) => ArrivesThoughKilledAsync(which, "send", Here("large"), World.In("host"));

    [Fact]
    public async Task Files_are_made_moved_deleted_put_back_set_and_edited()
    {
        Task<(int Status, string Stdout, string Stderr)> FileAsync(params string[] words) => World.ClientAsync(null, ["file", .. words]);
        (await FileAsync("make", Host, On("new"))).Stdout.ShouldBe($"{On("new")} is there.\n");
        await File.WriteAllTextAsync(On("plan"), "age = 90\r\n");
        (await FileAsync("move", Host, On("plan"), On("new/"))).Stdout.ShouldBe($"{On("plan")} is {On("new/plan")} now.\n");
        (await FileAsync("move", Host, On("plan"), On("new/"))).ShouldBe((1, "", $"There is no {On("plan")} on this host.\n"));
        (await FileAsync("set", Host, On("new"), "--mode", "0750", "--deep")).Stdout.ShouldBe("2 files and folders were set.\n");
        (await FileAsync("set", Host, On("new"))).Stderr.ShouldContain("Say what to set");

        var (_, stdout, _) = await FileAsync("delete", Host, On("new"));
        stdout.ShouldStartWith($"{On("new")} lies in the trash of {Host}; ");
        Directory.Exists(On("new")).ShouldBeFalse();
        var id = stdout.Split('\'')[1].Split(' ')[^1];
        (await FileAsync("trash", Host)).Stdout.ShouldContain(On("new"));
        (await FileAsync("restore", Host, id)).Status.ShouldBe(0);
        (await File.ReadAllTextAsync(On("new/plan"))).ShouldBe("age = 90\r\n");

        async Task<(int Status, string Stdout, string Stderr)> EditAsync(string editor) =>
            await TestPrograms.RunAsync("umbrek", ["file", "edit", Host, On("new/plan")], null, new Dictionary<string, string> { ["UMBREK_HOME"] = World.In("client"), ["EDITOR"] = editor, ["VISUAL"] = "" });
        (await EditAsync("sed -i s/90/120/")).Stdout.ShouldContain("is as you left it");
        (await File.ReadAllTextAsync(On("new/plan"))).ShouldBe("age = 120\r\n");
        (await EditAsync("true")).Stdout.ShouldContain("Nothing was changed");
        (await EditAsync("false")).Stderr.ShouldContain("ended with 1, so nothing was put back");
        // Somebody else is quicker.
        await File.WriteAllTextAsync(Here("editor"), $"echo hers >{On("new/plan")}; echo mine >\"$1\"\n");
        var (status, _, stderr) = await EditAsync($"sh {Here("editor")}");
        (status, stderr.Contains("was changed by somebody meanwhile", StringComparison.Ordinal)).ShouldBe((1, true), stderr);
        (await File.ReadAllTextAsync(On("new/plan"))).ShouldBe("hers\n");
        var kept = stderr.Split("What you wrote is ")[1].Trim().TrimEnd('.');
        (await File.ReadAllTextAsync(kept)).ShouldBe("mine\n");
        Directory.Delete(Path.GetDirectoryName(kept)!, recursive: true);
        (await FileAsync("trash", Host, "--output", "json")).Stdout.ShouldContain($"\"{On("new/plan")}\"");

        (await FileAsync("delete", Host, On("new"), "--for-good")).Stderr.ShouldContain("add --yes");
        (await FileAsync("delete", Host, On("new"), "--for-good", "--yes")).Stdout.ShouldBe("2 files and folders were deleted for good.\n");
        (await FileAsync("trash", Host, "--empty", "--yes")).Stdout.ShouldContain("deleted for good");
        (await FileAsync("trash", Host)).Stdout.ShouldBe($"The trash of {Host} is empty.\n");
        (await World.ClientAsync(null, "audit", "list", "--action", "file")).Stdout.ShouldContain("file.restore");
    }

    [Fact]
    public async Task Files_are_looked_for_on_many_hosts_and_brought_here()
    {
        await World.JoinAsync("creamery-office-01");
        await ShellAsync($"cd {World.In("host")}; mkdir -p a/b; printf 'rennet 3 g\n' >a/b/plan.TXT; head -c 200000 /dev/urandom >a/large.bin; printf none >a/other.txt; touch -d '3 days ago' a/other.txt");
        var (status, stdout, stderr) = await World.ClientAsync(null, "file", "search", "--on", "all", "--in", World.In("host"), "--name", "*.txt");
        (status, stderr).ShouldBe((0, "4 were found on 2 of 2 hosts.\n"));
        stdout.Split('\n', StringSplitOptions.RemoveEmptyEntries).Count(l => l.EndsWith(On("a/b/plan.TXT"), StringComparison.Ordinal)).ShouldBe(2);
        (await World.ClientAsync(null, "file", "search", "--on", Host, "--in", World.In("host"), "--larger", "100KiB", "--output", "csv")).Stdout.ShouldContain($"{Host},{On("a/large.bin")},file,200000,");
        (await World.ClientAsync(null, "file", "search", "--on", Host, "--in", World.In("host"), "--newer", "1d", "--kind", "file", "--output", "json")).Stdout.ShouldNotContain("other.txt");
        (_, _, stderr) = await World.ClientAsync(null, "file", "search", "--on", "all", "--in", World.In("host"), "--text", "Rennet", "--fetch-to", Here("found"));
        stderr.ShouldBe("2 were found on 2 of 2 hosts; 2 came here.\n");
        (await File.ReadAllTextAsync(Path.Combine(Here("found"), "creamery-office-01") + On("a/b/plan.TXT"))).ShouldBe("rennet 3 g\n");
        (await World.ClientAsync(null, "file", "search", "--on", Host, "--in", On("none"))).Stderr.ShouldContain($"{Host}: There is no {On("none")} on this host.");
        (await World.ClientAsync(null, "file", "search", "--on", Host, "--in", "srv")).Stderr.ShouldContain("no whole path");
        (await World.ClientAsync(null, "file", "search", "--on", Host, "--in", "/", "--larger", "much")).Stderr.ShouldContain("is no size");
        (await World.ClientAsync(null, "file", "search", "--on", "tagged none", "--in", "/")).ShouldBe((4, "", "No host is selected.\n"));
        await Wait.UntilAsync(async () => (await World.ClientAsync(null, "audit", "list", "--action", "file.search")).Stdout.Contains("with 'Rennet' in it", StringComparison.Ordinal), "the hosts to say what was looked for");
    }

    [Fact]
    public async Task What_is_found_is_hashed_where_it_lies_and_put_into_the_trash_when_somebody_says_so()
    {
        await ShellAsync($"cd {World.In("host")}; mkdir -p old/deep; printf 'one\\n' >old/a.core; printf 'two\\n' >old/deep/b.core; printf 'keep\\n' >keep.txt; mkdir dump.core; printf 'in\\n' >dump.core/c.core");
        string[] search = ["file", "search", "--on", "all", "--in", World.In("host"), "--name", "*.core"];
        var (status, stdout, stderr) = await World.ClientAsync(null, [.. search, "--hash"]);
        status.ShouldBe(0, stderr);
        stdout.ShouldContain($"{Convert.ToHexStringLower(SHA256.HashData("two\n"u8))}  {On("old/deep/b.core")}");
        (await World.ClientAsync(null, [.. search, "--hash", "--output", "csv"])).Stdout.ShouldContain(Convert.ToHexStringLower(SHA256.HashData("one\n"u8)));

        (status, _, stderr) = await World.ClientAsync(null, [.. search, "--delete"]);
        (status, stderr.Contains("Put all 3 into the trash of its host: add --yes", StringComparison.Ordinal)).ShouldBe((2, true), stderr);
        File.Exists(On("old/a.core")).ShouldBeTrue();
        (status, _, stderr) = await World.ClientAsync(null, [.. search, "--delete", "--yes"]);
        (status, stderr.Contains("3 lie in the trash now", StringComparison.Ordinal)).ShouldBe((0, true), stderr);
        Directory.GetFileSystemEntries(World.In("host"), "*", SearchOption.AllDirectories).Select(Path.GetFileName).Order().ShouldBe(["deep", "keep.txt", "old"]);
        (await World.ClientAsync(null, "file", "trash", Host)).Stdout.ShouldContain(On("dump.core"));
    }

    [Fact]
    public async Task The_host_keeps_technicians_to_the_folders_that_its_policy_names()
    {
        await ShellAsync($"cd {World.In("host")}; mkdir in out; printf secret >out/secret; printf open >in/open; ln -s ../out in/away");
        (await World.ClientAsync(null, "policy", "set", Host, "--files-in", "srv")).Stderr.ShouldContain("'srv' is no whole path");
        (await World.ClientAsync(null, "policy", "set", Host, "--files-in", On("in"))).Stdout.ShouldContain($"Files in        {On("in")}   (said here)");
        await Wait.UntilAsync(async () => (await World.ClientAsync(null, "file", "list", Host, On("out"))).Stderr.Contains("does not lie in what this host lets technicians into", StringComparison.Ordinal), "the host to keep to it");
        (await World.ClientAsync(null, "fetch", Host, On("in/away/secret"), "--to", "-")).Stderr.ShouldContain("does not lie in");
        (await World.ClientAsync(null, "fetch", Host, On("in/open"), "--to", "-")).Stdout.ShouldBe("open");
        await File.WriteAllTextAsync(Here("new"), "new");
        (await World.ClientAsync(null, "send", Host, Here("new"), "--to", On("in/away"))).Stderr.ShouldContain("does not lie in");
        (await World.ClientAsync(null, "send", Host, Here("new"), "--to", On("in"))).Status.ShouldBe(0);
        (await World.ClientAsync(null, "file", "list", Host, "/")).Stdout.ShouldContain(On("in")[1..]);
        (await World.ClientAsync(null, "policy", "inherit", Host, "files-in")).Stdout.ShouldContain("Files in        everywhere");
        await Wait.UntilAsync(async () => (await World.ClientAsync(null, "file", "list", Host, On("out"))).Status == 0, "the host to let in again");
    }
}
