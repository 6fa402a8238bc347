using System.IO.Compression;
using System.Security.Cryptography;
using Microsoft.Playwright;
using Umbrek.Core.Jobs;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Jobs;

namespace Umbrek.EndToEnd.Tests.Files;

/// <summary>Files go to the service once and from there to hosts, and the same files of many hosts come here.</summary>
public sealed class DeliverTests : FileStory
{
    private Task<(int Status, string Stdout, string Stderr)> DeliverAsync(params string[] more) => World.ClientAsync(null, ["deliver", .. more, "--on", Host, "--to", World.In("host")]);

    [Fact]
    public async Task A_folder_comes_to_a_host_and_what_is_in_the_way_is_told_and_then_replaced()
    {
        await ShellAsync($$"""
            cd {{World.In("here")}}; mkdir -p tree/empty tree/deep; cd tree
            head -c 3000000 /dev/urandom >deep/noise; printf 'ripening\n' >note; : >nothing; chmod 640 note; touch -d 2023-04-05T06:07:08Z note; ln -s ../note deep/link; truncate -s 20M hole; printf x >>hole
            for i in $(seq 300); do echo $i >deep/small-$i; done
            """);
        var (status, stdout, stderr) = await DeliverAsync(Here("tree"));
        status.ShouldBe(0, stdout + stderr);
        stdout.ShouldContain($"305 put into {World.In("host")} (22.9 MiB).");
        await ShellAsync($"cd {World.In("host")}/tree; diff -r --no-dereference . {Here("tree")}; [ $(stat -c %b hole) -lt 1000 ]");
        (File.GetUnixFileMode(On("tree/note")), File.GetLastWriteTimeUtc(On("tree/note"))).ShouldBe((File.GetUnixFileMode(Here("tree/note")), File.GetLastWriteTimeUtc(Here("tree/note"))));

        // The same again: neither the service nor the host is sent anything.
        (status, stdout, stderr) = await DeliverAsync(Here("tree"));
        (status, stdout.Contains("0 put into", StringComparison.Ordinal), stdout.Contains("305 there already", StringComparison.Ordinal)).ShouldBe((0, true, true), stdout + stderr);
        (await World.ClientAsync(null, "parcel", "list", "--output", "csv")).Stdout.Split("tree").Length.ShouldBe(2);

        await File.WriteAllTextAsync(Here("tree/note"), "ripened\n");
        (status, stdout, stderr) = await DeliverAsync(Here("tree"));
        (status, await File.ReadAllTextAsync(On("tree/note"))).ShouldBe((3, "ripening\n"), stdout + stderr);
        stdout.ShouldContain($"{On("tree/note")} is there already, and is another one.");
        stderr.ShouldContain($"On {Host} something is in the way; nothing was put there. Say what becomes of it: umbrek job again");
        var id = stderr[(stderr.IndexOf("umbrek job again ", StringComparison.Ordinal) + "umbrek job again ".Length)..][..8];
        (status, stdout, stderr) = await World.ClientAsync(null, "job", "again", id, "--existing", "replace");
        (status, await File.ReadAllTextAsync(On("tree/note"))).ShouldBe((0, "ripened\n"), stdout + stderr);
        stdout.ShouldContain($"{On("tree/note")} was replaced: 8 B, SHA-256");
        (await World.ClientAsync(null, "audit", "list", "--action", "parcel.send")).Stdout.ShouldContain("tree");
        Directory.GetFiles(World.In("host"), "*.part", SearchOption.AllDirectories).ShouldBeEmpty();
        Directory.GetFiles(World.StateOf(Host), "parts-*").ShouldBeEmpty();
    }

    [Fact]
    public async Task A_host_fetches_over_a_line_that_is_cut_at_two_hundred_places()
    {
        var bytes = RandomNumberGenerator.GetBytes(24_000_000);
        await File.WriteAllBytesAsync(Here("large"), bytes);
        var (seed, cuts) = (Environment.TickCount, 200);
        var random = new Random(seed);
        await using var proxy = new CuttingProxy(World.Address.Port, () => cuts-- > 0 ? random.Next(500, 200_000) : long.MaxValue);
        // The agent has its line; what fetches reads the service's address anew.
        var identity = Path.Combine(World.StateOf(Host), "identity.json");
        await File.WriteAllTextAsync(identity, (await File.ReadAllTextAsync(identity)).Replace($":{World.Address.Port}", $":{proxy.Port}", StringComparison.Ordinal));
        var (status, stdout, stderr) = await DeliverAsync(Here("large"));
        status.ShouldBe(0, $"{stdout}{stderr} (seed {seed})");
        proxy.Cuts.ShouldBeGreaterThanOrEqualTo(100, $"seed {seed}");
        await IsWholeAsync(bytes);
    }

    [Theory]
    [InlineData("service")]
    [InlineData("agent")]
    [InlineData("client")]
    public async Task Whichever_is_killed_in_the_middle_the_files_arrive_whole(string which)
    {
        if (which == "service")
        {
            await World.TakeOwnProcessAsync();
        }
        var bytes = RandomNumberGenerator.GetBytes(12_000_000);
        await File.WriteAllBytesAsync(Here("large"), bytes);
        await using var delivering = TestPrograms.Start("umbrek", ["deliver", Here("large"), "--on", Host, "--to", World.In("host"), "--rate", "3MiB"], new Dictionary<string, string> { ["UMBREK_HOME"] = World.In("client") });
        await Wait.UntilAsync(() => Directory.GetFiles(World.In("host"), ".large.*.part") is [var part] && new FileInfo(part).Length > 2_000_000, "a part to be there", 60);
        switch (which)
        {
            case "service":
                await World.Service.KillAsync();
                await World.StartServiceAsync();
                break;
            case "agent":
                await Agent.KillAsync();
                World.StartAgent(Host);
                break;
            default:
                // Whoever ordered it is not needed any more.
                await delivering.KillAsync();
                break;
        }
        if (which != "client")
        {
            await Wait.UntilAsync(() => delivering.HasExited, "the delivery to end", 120);
            delivering.ExitCode.ShouldBe(0, string.Join('\n', delivering.Lines));
        }
        var job = (await World.Api.GetAsync("jobs", WireJson.Default.PageJobInfo, default)).Items[0];
        (await World.EndedAsync(job.Id)).Runs.ShouldHaveSingleItem().State.ShouldBe(RunState.Succeeded);
        await IsWholeAsync(bytes);
    }

    [Fact]
    public async Task A_client_that_is_killed_while_it_sends_goes_on_where_it_was()
    {
        var bytes = RandomNumberGenerator.GetBytes(12_000_000);
        await File.WriteAllBytesAsync(Here("large"), bytes);
        await using var proxy = new CuttingProxy(World.Address.Port, () => long.MaxValue, holdsAt: 6_000_000, countsThere: true);
        string[] command = ["deliver", Here("large"), "--on", Host, "--to", World.In("host")];
        await using (var first = TestPrograms.Start("umbrek", command, HomeOf(proxy)))
        {
            await proxy.Held.WaitAsync(TimeSpan.FromSeconds(60));
            await first.KillAsync();
        }
        proxy.Release();
        var before = proxy.Passed;
        var (status, stdout, stderr) = await TestPrograms.RunAsync("umbrek", command, null, HomeOf(proxy));
        status.ShouldBe(0, stdout + stderr);
        (proxy.Passed - before).ShouldBeLessThan(10_000_000);
        await IsWholeAsync(bytes);
    }

    [Fact]
    public async Task A_file_that_changes_while_it_is_sent_is_not_delivered()
    {
        await File.WriteAllBytesAsync(Here("large"), RandomNumberGenerator.GetBytes(12_000_000));
        await using var proxy = new CuttingProxy(World.Address.Port, () => long.MaxValue, holdsAt: 3_000_000, countsThere: true);
        await using var delivering = TestPrograms.Start("umbrek", ["deliver", Here("large"), "--on", Host, "--to", World.In("host")], HomeOf(proxy));
        await proxy.Held.WaitAsync(TimeSpan.FromSeconds(60));
        await File.AppendAllTextAsync(Here("large"), "more");
        proxy.Release();
        await Wait.UntilAsync(() => delivering.HasExited, "the delivery to end", 60);
        (delivering.ExitCode, string.Join('\n', delivering.Lines).Contains("changed while it was read; nothing is put anywhere", StringComparison.Ordinal)).ShouldBe((1, true), string.Join('\n', delivering.Lines));
        Directory.GetFileSystemEntries(World.In("host")).ShouldBeEmpty();
    }

    [Fact]
    public async Task What_is_cancelled_leaves_nothing_behind()
    {
        await File.WriteAllBytesAsync(Here("large"), RandomNumberGenerator.GetBytes(12_000_000));
        (await DeliverAsync(Here("large"), "--rate", "1MiB", "--detach")).Status.ShouldBe(0);
        await Wait.UntilAsync(() => Directory.GetFiles(World.In("host"), ".large.*.part").Length == 1, "it to be under way");
        var job = (await World.Api.GetAsync("jobs", WireJson.Default.PageJobInfo, default)).Items[0];
        await Wait.UntilAsync(async () => (await World.JobAsync(job.Id)).Runs[0].FetchedBytes > 0, "it to be told how far it is");
        (await World.ClientAsync(null, "parcel", "remove", (await World.ClientAsync(null, "parcel", "list", "--output", "csv")).Stdout.Split('\n')[1].Split(',')[0])).Stderr.ShouldContain("cancel the job first");
        (await World.ClientAsync(null, "job", "cancel", $"{job.Id}")).Status.ShouldBe(0);
        (await World.EndedAsync(job.Id)).Runs[0].State.ShouldBe(RunState.Cancelled);
        Directory.GetFileSystemEntries(World.In("host")).ShouldBeEmpty();
    }

    [Fact]
    public async Task What_is_wrong_is_said_before_anything_is_sent()
    {
        await File.WriteAllTextAsync(Here("a"), "a");
        (await World.ClientAsync(null, "deliver", Here("a"), "--on", Host)).Stderr.ShouldBe("Say where they go: --to FOLDER, by its whole path, or --place PLACE.\n");
        (await World.ClientAsync(null, "deliver", Here("a"), "--on", "nobody", "--to", "/srv")).ShouldBe((4, "", "No host matches 'nobody'; nothing was sent. 'umbrek host list' shows the names.\n"));
        (await World.ClientAsync(null, "deliver", Here("none"), "--on", Host, "--to", "/srv")).Stderr.ShouldBe($"There is no file or folder '{Here("none")}' here.\n");
        (await World.ClientAsync(null, "deliver", Here("a"), "--on", Host, "--to", "srv")).Stderr.ShouldContain("no whole path");
        (await World.ClientAsync(null, "deliver", Here("a"), "--on", Host, "--place", "home", "--to", "../x")).Stderr.ShouldContain("without dots for folders");
        (await World.ClientAsync(null, "deliver", Here("a"), Here("a"), "--on", Host, "--to", "/srv")).Stderr.ShouldContain("'a' is there twice.");
        await ShellAsync($"mkfifo {Here("pipe")}");
        (await World.ClientAsync(null, "deliver", Here("pipe"), "--on", Host, "--to", "/srv")).Stderr.ShouldContain("has no content to be sent");
        (await World.ClientAsync(null, "parcel", "list")).Stdout.ShouldContain("keeps nothing of yours");
        var (status, stdout, _) = await World.ClientAsync("of the cellar\n", "deliver", "-", "--as", "input", "--on", Host, "--to", On("not/there"));
        (status, stdout.Contains($"There is no folder {On("not/there")} on this host; nothing was put anywhere.", StringComparison.Ordinal)).ShouldBe((3, true), stdout);
        (status, stdout, _) = await World.ClientAsync("of the cellar\n", "deliver", "-", "--as", "input", "--on", Host, "--to", On("not/there"), "--make-folder", "--mode", "0600");
        (status, await File.ReadAllTextAsync(On("not/there/input")), File.GetUnixFileMode(On("not/there/input"))).ShouldBe((0, "of the cellar\n", (UnixFileMode)0x180), stdout);
    }

    [Fact]
    public async Task The_same_files_of_many_hosts_come_here_each_below_its_host_s_name()
    {
        await World.JoinAsync("creamery-office");
        await ShellAsync($"cd {World.In("host")}; mkdir -p logs/deep; echo one >logs/one.log; echo two >logs/deep/two.log; ln -s /etc/hostname logs/link; echo x >other");
        var (status, stdout, stderr) = await World.ClientAsync(null, "gather", On("logs"), On("oth*"), "--on", "creamery-*", "--to", Here("all"));
        (status, stderr.Contains("6 files", StringComparison.Ordinal)).ShouldBe((0, true), stdout + stderr);
        foreach (var host in (string[])[Host, "creamery-office"])
        {
            await ShellAsync($"diff -r --no-dereference {World.In("host")} {Here("all")}/{host}{World.In("host")}");
        }
        // All in one archive; a link stays one, for where it leads here is no file of the host.
        (status, stdout, stderr) = await World.ClientAsync(null, "gather", On("logs"), "--on", "creamery-*", "--zip", Here("all.zip"));
        status.ShouldBe(0, stdout + stderr);
        await using (var zip = await ZipFile.OpenReadAsync(Here("all.zip")))
        {
            zip.Entries.Where(e => !e.FullName.EndsWith('/')).Select(e => e.FullName.Replace(World.In("host"), "", StringComparison.Ordinal)).ShouldBe(
                [.. new[] { "creamery-files", "creamery-office" }.SelectMany(h => new[] { $"{h}/logs/deep/two.log", $"{h}/logs/link", $"{h}/logs/one.log" })], ignoreOrder: true);
            var link = zip.Entries.First(e => e.Name == "link");
            using var text = new StreamReader(await link.OpenAsync());
            (await text.ReadToEndAsync(), link.ExternalAttributes >> 28 & 0xf).ShouldBe(("/etc/hostname", 0xa));
        }
        Directory.GetFileSystemEntries(World.In("here")).Select(Path.GetFileName).ShouldBe(["all", "all.zip"], ignoreOrder: true);
        (await World.ClientAsync(null, "gather", On("logs"), "--on", "creamery-*", "--zip", Here("all.zip"))).Stderr.ShouldContain("already; name another");
        (await World.ClientAsync(null, "gather", On("logs"), "--on", "creamery-*")).Stderr.ShouldContain("--to FOLDER, or --zip FILE");
        (status, stdout, _) = await World.ClientAsync(null, "gather", On("none"), "--on", Host, "--to", Here("nothing"));
        (status, stdout.Contains($"There is no {On("none")} on this host.", StringComparison.Ordinal)).ShouldBe((1, true), stdout);
    }

    [Fact]
    public async Task The_console_sends_files_to_hosts_and_asks_what_becomes_of_those_in_the_way()
    {
        await File.WriteAllTextAsync(On("plan"), "old");
        await File.WriteAllTextAsync(Here("plan"), "new");
        var large = RandomNumberGenerator.GetBytes(20_000_000);
        await File.WriteAllBytesAsync(Here("curve.bin"), large);
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(World);
        var page = browser.Page;
        await page.GotoAsync($"{World.Address}work/new?files&on={Host}");
        await page.GetByText("Choose files first").WaitForAsync();
        await page.GetByLabel("Files to deliver", new() { Exact = true }).SetInputFilesAsync([Here("plan"), Here("curve.bin")]);
        await page.GetByText("Say where they go first").WaitForAsync();
        await page.GetByLabel("Folder", new() { Exact = true }).FillAsync(World.In("host"));
        (await browser.ViolationsAsync()).ShouldBe("");
        await page.GetByRole(AriaRole.Button, new() { Name = "Put them on 1 host" }).ClickAsync();
        var asked = page.GetByRole(AriaRole.Region, new() { Name = "Files in the way" });
        await asked.GetByText($"On {Host} files are in the way, and nothing was put there.").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");
        (await File.ReadAllTextAsync(On("plan")), File.Exists(On("curve.bin"))).ShouldBe(("old", false));
        await asked.GetByRole(AriaRole.Button, new() { Name = "Replace them" }).ClickAsync();
        await page.GetByText($"2 put into {World.In("host")}").WaitForAsync();
        (await File.ReadAllTextAsync(On("plan"))).ShouldBe("new");
        Enumerable.SequenceEqual(await File.ReadAllBytesAsync(On("curve.bin")), large).ShouldBeTrue();
        browser.Complaints.ShouldBeEmpty();
    }

    private async Task IsWholeAsync(byte[] bytes)
    {
        Enumerable.SequenceEqual(await File.ReadAllBytesAsync(On("large")), bytes).ShouldBeTrue();
        Directory.GetFileSystemEntries(World.In("host")).ShouldBe([On("large")]);
    }
}
