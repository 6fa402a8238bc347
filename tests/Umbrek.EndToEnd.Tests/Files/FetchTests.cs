using System.Security.Cryptography;
using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Sessions;

namespace Umbrek.EndToEnd.Tests.Files;

public sealed class FetchTests : FileStory
{
    private Task<(int Status, string Stdout, string Stderr)> FetchAsync(params string[] more) => World.ClientAsync(null, ["fetch", Host, .. more, "--to", World.In("here")]);

    [Fact]
    public async Task A_folder_comes_as_it_is_with_times_modes_links_holes_and_odd_names()
    {
        await ShellAsync($$"""
            cd {{World.In("host")}}; mkdir -p tree/empty tree/deep/er; cd tree
            head -c 3000000 /dev/urandom >deep/er/noise; printf 'ripening\n' >note; : >nothing; chmod 640 note; chmod 700 deep
            touch -d 2023-04-05T06:07:08.123456Z note; touch -d 2022-01-02T03:04:05Z deep
            ln -s ../note deep/link; ln -s /nowhere astray; truncate -s 100M hole; printf x >>hole; mkfifo pipe; : >$'caf\xe9'; : >$'two\nlines'; : >"$(printf '%0255d' 0)"
            """);
        var (status, stdout, stderr) = await FetchAsync(On("tree"));
        stderr.ShouldBe($"{On("tree/pipe")} is a pipe, which has no content to be fetched.\n");
        status.ShouldBe(1);
        stdout.ShouldContain("Fetched 7 files (103 MiB) from creamery-files");
        await ShellAsync($"cd {World.In("here")}/tree; rm {On("tree/pipe")}; mv caf%E9 $'caf\\xe9'; diff -r --no-dereference . {On("tree")}; [ $(stat -c %b hole) -lt 1000 ]");
        string[] same = ["tree/note", "tree/deep", "tree/deep/er/noise", "tree/hole"];
        foreach (var name in same)
        {
            (File.GetUnixFileMode(Here(name)), File.GetLastWriteTimeUtc(Here(name))).ShouldBe((File.GetUnixFileMode(On(name)), File.GetLastWriteTimeUtc(On(name))), name);
        }
        new FileInfo(Here("tree/deep/link")).LinkTarget.ShouldBe("../note");
        Directory.GetFiles(World.In("here"), "*.part", SearchOption.AllDirectories).ShouldBeEmpty();

        // What is here already is not fetched again, and what is another one is not overwritten by itself.
        await File.WriteAllTextAsync(On("tree/note"), "ripened\n");
        (status, _, stderr) = await FetchAsync(On("tree/note"), "--as", "note");
        status.ShouldBe(0, stderr);
        await File.WriteAllTextAsync(On("tree/note"), "ripened twice\n");
        (status, _, stderr) = await FetchAsync(On("tree/note"));
        (status, stderr.Contains("is here already, and is another one", StringComparison.Ordinal)).ShouldBe((2, true));
        (await File.ReadAllTextAsync(Here("note"))).ShouldBe("ripened\n");
        (await FetchAsync(On("tree/note"), "--existing", "keep")).Stdout.ShouldBe("Nothing was fetched from creamery-files.\n1 that is another here was kept.\n");
        (await FetchAsync(On("tree/note"), "--existing", "rename")).Status.ShouldBe(0);
        (await File.ReadAllTextAsync(Here("note (2)"))).ShouldBe("ripened twice\n");
        (await FetchAsync(On("tree/note"), "--existing", "replace-older")).Status.ShouldBe(0);
        (await File.ReadAllTextAsync(Here("note"))).ShouldBe("ripened twice\n");
        (await FetchAsync(On("tree/note"))).Stdout.ShouldContain("1 was here as it is there.");
    }

    [Fact]
    public async Task Where_there_is_no_space_left_it_goes_on_once_there_is_some()
    {
        await ShellAsync($"head -c 8000000 /dev/urandom >{On("noise")}");
        var disk = World.In("disk");
        var fetch = $"{TestPrograms.PathOf("umbrek")} fetch {Host} {On("noise")} --to {disk}";
        var script = $"mkdir {disk} && mount -t tmpfs -o size=4m none {disk}; {fetch}; echo ended with $?; ls -A {disk} >&2; mount -o remount,size=20m {disk}; {fetch} && cmp {disk}/noise {On("noise")} && ls -A {disk}";
        var (status, stdout, stderr) = await TestPrograms.RunAsync("/usr/bin/unshare", ["--mount", "sh", "-c", script], null, new Dictionary<string, string> { ["UMBREK_HOME"] = World.In("client") });
        status.ShouldBe(0, stderr);
        var lines = stderr.TrimEnd().Split('\n');
        lines[0].ShouldBe($"'{disk}/noise' can't be written: there is no space left there. Make some, or have it come to another place. What has come is kept; the same command goes on from there.");
        lines[1].ShouldStartWith(".noise.");
        stdout.ShouldStartWith("ended with 1\nFetched ");
        stdout.ShouldEndWith("\nnoise\n");
    }

    [Fact]
    public async Task Patterns_standard_output_lists_and_what_is_wrong()
    {
        await ShellAsync($"cd {World.In("host")}; printf a >a.log; printf bb >b.log; printf c >c.txt; mkdir x y; printf 1 >x/in.log; printf 2 >y/in.log");
        (await FetchAsync(On("*.log"))).Stdout.ShouldContain("Fetched 2 files (3 B)");
        var (status, stdout, stderr) = await FetchAsync(On("?/in.log"));
        (status, stderr.Contains("would come to lie where another file does", StringComparison.Ordinal)).ShouldBe((1, true));
        (status, _, stderr) = await FetchAsync(On("*.none"));
        (status, stderr).ShouldBe((4, $"Nothing on the host is called {On("*.none")}.\n"));
        (await World.ClientAsync(null, "fetch", Host, On("b.log"), "--to", "-")).ShouldBe((0, "bb", ""));
        (await World.ClientAsync(null, "fetch", Host, On("*.log"), "--to", "-")).Stderr.ShouldContain("takes one file");
        (await FetchAsync("a.log")).Stderr.ShouldContain("no whole path");
        (await FetchAsync(On("*.log"), "--as", "one")).Stderr.ShouldContain("gives a name to one");
        (await World.ClientAsync(null, "fetch", Host, On("a.log"), "--to", World.In("nowhere"))).Stderr.ShouldContain("make it first");
        (_, stdout, _) = await World.ClientAsync(null, "file", "list", Host, World.In("host"), "--output", "csv");
        stdout.ShouldStartWith("name,size,changed,mode,owner,group,kind\r\nx,,");
        stdout.ShouldContain("\r\nb.log,2,");
        (_, stdout, _) = await World.ClientAsync(null, "file", "list", Host, World.In("host"), "--deep");
        stdout.ShouldContain("x/in.log");
        (status, _, stderr) = await World.ClientAsync(null, "file", "list", Host, On("z"));
        (status, stderr).ShouldBe((1, $"There is no {On("z")} on this host.\n"));

        // A link that lies here is not written through, whatever the host calls a folder.
        Directory.CreateSymbolicLink(Here("x"), World.In("elsewhere"));
        Directory.CreateDirectory(World.In("elsewhere"));
        (await FetchAsync(On("x"))).Stderr.ShouldContain("is a link here");
        Directory.GetFiles(World.In("elsewhere")).ShouldBeEmpty();

        (_, stdout, _) = await World.ClientAsync(null, "audit", "list", "--action", "file.read");
        stdout.ShouldContain(On("b.log"));
    }

    [Fact]
    public Task A_line_that_is_cut_at_two_hundred_places_brings_the_file_whole() => ArrivesOverCutsAsync("fetch", On("large"), World.In("here"), "as the host has read it");

    [Theory]
    [InlineData("service")]
    [InlineData("agent")]
    [InlineData("client")]
    public Task Whichever_is_killed_in_the_middle_the_file_arrives_whole(string which) => ArrivesThoughKilledAsync(which, "fetch", On("large"), World.In("here"));

    [Theory]
    [InlineData("session")]
    [InlineData("interrupt")]
    public async Task Whoever_ends_it_leaves_what_has_come_for_the_next(string how)
    {
        // More than lies between the service and the client: what has left the service before the end still arrives.
        var bytes = RandomNumberGenerator.GetBytes(64_000_000);
        await File.WriteAllBytesAsync(On("large"), bytes);
        await using var proxy = new CuttingProxy(World.Address.Port, () => long.MaxValue, holdsAt: 2_000_000);
        await using var fetching = TestPrograms.Start("/usr/bin/env", ["--default-signal=INT", TestPrograms.PathOf("umbrek"), "fetch", Host, On("large"), "--to", World.In("here")], HomeOf(proxy));
        await proxy.Held.WaitAsync(TimeSpan.FromSeconds(60));
        if (how == "session")
        {
            var session = (await World.Api.GetAsync("sessions?live=true", WireJson.Default.PageSessionInfo, default)).Items.ShouldHaveSingleItem();
            await World.Api.PostAsync($"sessions/{session.Id}/end", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);
            proxy.Release();
        }
        else
        {
            await ShellAsync($"kill -INT {fetching.Pid}");
            // It says goodbye to its session first.
            proxy.Release();
        }
        await Wait.UntilAsync(() => fetching.HasExited, "the fetch to end");
        var said = string.Join('\n', fetching.Lines);
        (fetching.ExitCode, said.Contains(how == "session" ? $"The session has ended: ended by {Hosting.World.Name}." : "Stopped. What has come is kept", StringComparison.Ordinal)).ShouldBe((how == "session" ? 1 : 130, true), said);
        Directory.GetFiles(World.In("here"), ".large.*.part").ShouldHaveSingleItem();

        var (status, _, stderr) = await FetchAsync(On("large"));
        status.ShouldBe(0, stderr);
        Enumerable.SequenceEqual(await File.ReadAllBytesAsync(Here("large")), bytes).ShouldBeTrue();
        Directory.GetFileSystemEntries(World.In("here")).ShouldBe([Here("large")]);
    }

    [Fact]
    public async Task In_the_console_folders_are_gone_through_files_looked_at_and_fetched()
    {
        await ShellAsync($"cd {World.In("host")}; mkdir 'cheese room'; cd 'cheese room'; printf 'age = 90\n' >plan.conf; head -c 5000000 /dev/urandom >curve.bin; touch $(seq -f tub-%04g 1500)");
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(World);
        var page = browser.Page;
        await page.GotoAsync($"{World.Address}hosts/{(await World.HostAsync(Host)).Id}");
        await page.GetByRole(AriaRole.Button, new() { Name = $"Look at the files of {Host}" }).ClickAsync();
        var panel = page.GetByRole(AriaRole.Region, new() { Name = "Files", Exact = true });
        await panel.GetByLabel("Folder").FillAsync(World.In("host"));
        await panel.GetByLabel("Folder").PressAsync("Enter");
        await panel.GetByRole(AriaRole.Button, new() { Name = "cheese room/" }).ClickAsync();
        await panel.GetByText("1502 entries.").WaitForAsync();
        (await panel.GetByRole(AriaRole.Row).CountAsync()).ShouldBeLessThan(60);
        await panel.GetByLabel("Names that hold").FillAsync("plan");
        await panel.GetByText("1 of 1502 shown.").WaitForAsync();
        await panel.GetByRole(AriaRole.Button, new() { Name = "plan.conf", Exact = true }).ClickAsync();
        await panel.GetByText("age = 90").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");
        await panel.GetByLabel("Names that hold").FillAsync("curve");
        var saving = page.WaitForDownloadAsync();
        await panel.GetByRole(AriaRole.Button, new() { Name = "Fetch curve.bin" }).ClickAsync();
        var saved = await saving;
        saved.SuggestedFilename.ShouldBe("curve.bin");
        Enumerable.SequenceEqual(await File.ReadAllBytesAsync((await saved.PathAsync())!), await File.ReadAllBytesAsync(On("cheese room/curve.bin"))).ShouldBeTrue();
        await panel.GetByText("as the host has read it").WaitForAsync();
        await panel.GetByLabel("Folder").FillAsync(On("none"));
        await panel.GetByLabel("Folder").PressAsync("Enter");
        await panel.GetByText($"There is no {On("none")} on this host.").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }
}
