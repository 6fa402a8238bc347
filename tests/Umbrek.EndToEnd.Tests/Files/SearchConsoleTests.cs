using System.Security.Cryptography;
using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;

namespace Umbrek.EndToEnd.Tests.Files;

/// <summary>Files are looked for on many hosts from the console, and something is done with what is found.</summary>
public sealed class SearchConsoleTests : FileStory
{
    private const string Second = "creamery-office-03";

    private static ILocator ButtonOf(IPage page, string name) => page.GetByRole(AriaRole.Button, new() { Name = name, Exact = true });

    /// <summary>Begins to look for files on both hosts.</summary>
    private async Task<Browser> LookAsync(string folders, string name)
    {
        var browser = await Browser.OpenAsync();
        await browser.SignInAsync(World);
        var page = browser.Page;
        await page.GotoAsync($"{World.Address}work/files");
        await page.GetByText("Say on which hosts first").WaitForAsync();
        await page.GetByLabel("On which hosts").FillAsync("creamery-*");
        await page.GetByText("Name a folder to look in").WaitForAsync();
        await page.GetByLabel("In which folders").FillAsync(folders);
        await page.GetByLabel("Name", new() { Exact = true }).FillAsync(name);
        await ButtonOf(page, "Look for them").ClickAsync();
        return browser;
    }

    [Fact]
    public async Task Folders_and_files_of_many_hosts_come_in_one_archive()
    {
        await World.JoinAsync(Second);
        await ShellAsync($"cd {World.In("host")}; mkdir -p kiosk/empty; printf 'lamp = on\n' >kiosk/kiosk.conf; ln -s kiosk.conf kiosk/current; mkfifo kiosk/pipe; head -c 3000000 /dev/urandom >kiosk/data; chmod 640 kiosk/data; printf 'note\n' >kiosk.txt");
        await using (var browser = await LookAsync(World.In("host"), "kiosk*"))
        {
            var page = browser.Page;
            ILocator Button(string name) => ButtonOf(page, name);
            await page.GetByText("6 found on 2 hosts; 2 of 2 hosts looked at").WaitForAsync();
            await page.GetByLabel("Choose all").CheckAsync();
            var coming = page.WaitForDownloadAsync();
            await Button("Fetch as one ZIP").ClickAsync();
            var came = await coming;
            came.SuggestedFilename.ShouldBe("found.zip");
            await page.GetByText("6 files of 2 hosts").WaitForAsync();
            await page.GetByText("2 things did not come").ClickAsync();
            await page.GetByText($"{On("kiosk/pipe")}: A pipe has no content that could be fetched.").First.WaitForAsync();
            // The archive is read by a program that knows nothing of ours.
            var opened = World.In("opened");
            await ShellAsync($"mkdir {opened}; cd {opened}; unzip -q '{await came.PathAsync()}'");
            foreach (var host in new[] { Host, Second })
            {
                var kiosk = $"{opened}/{host}{On("kiosk")}";
                (await File.ReadAllTextAsync($"{kiosk}/kiosk.conf")).ShouldBe("lamp = on\n");
                (await File.ReadAllTextAsync($"{opened}/{host}{On("kiosk.txt")}")).ShouldBe("note\n");
                (await File.ReadAllBytesAsync($"{kiosk}/data")).ShouldBe(await File.ReadAllBytesAsync(On("kiosk/data")));
                File.GetUnixFileMode($"{kiosk}/data").ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.GroupRead);
                Directory.Exists($"{kiosk}/empty").ShouldBeTrue();
                new FileInfo($"{kiosk}/current").LinkTarget.ShouldBe("kiosk.conf");
                (File.GetLastWriteTimeUtc($"{kiosk}/data") - File.GetLastWriteTimeUtc(On("kiosk/data"))).Duration().ShouldBeLessThan(TimeSpan.FromSeconds(3));
            }
            (await browser.ViolationsAsync()).ShouldBe("");

            // A folder of one host comes alike from its own page.
            await page.GotoAsync($"{World.Address}hosts/{(await World.HostAsync(Host)).Id}");
            await page.GetByRole(AriaRole.Button, new() { Name = $"Look at the files of {Host}" }).ClickAsync();
            await page.GetByLabel("Folder", new() { Exact = true }).FillAsync(World.In("host"));
            await page.GetByLabel("Folder", new() { Exact = true }).PressAsync("Enter");
            coming = page.WaitForDownloadAsync();
            await Button("Fetch kiosk").ClickAsync();
            came = await coming;
            came.SuggestedFilename.ShouldBe("kiosk.zip");
            await ShellAsync($"mkdir {opened}/alone; cd {opened}/alone; unzip -q '{await came.PathAsync()}'; diff -r --no-dereference -x pipe kiosk {On("kiosk")}");
            browser.Complaints.ShouldBeEmpty();
        }
    }

    [Fact]
    public async Task What_many_hosts_find_is_hashed_fetched_and_put_into_the_trash()
    {
        await World.JoinAsync(Second);
        await ShellAsync($"cd {World.In("host")}; mkdir -p old; printf 'one\\n' >old/a.core; printf 'two\\n' >b.core; printf 'keep\\n' >keep.txt");
        await using (var browser = await LookAsync($"{World.In("host")}, {World.In("none")}", "*.core"))
        {
            var page = browser.Page;
            ILocator Button(string name) => ButtonOf(page, name);
            // Both agents are on this machine, and see the same.
            await page.GetByText("4 found on 2 hosts; 2 of 2 hosts looked at").WaitForAsync();
            await page.GetByText("2 things could not be looked at").ClickAsync();
            await page.GetByText($"There is no {World.In("none")} on this host.").First.WaitForAsync();
            (await page.GetByRole(AriaRole.Table, new() { Name = "What was found" }).GetByText("keep.txt").CountAsync()).ShouldBe(0);

            await page.GetByLabel($"Choose {On("b.core")} on {Host}").CheckAsync();
            await Button("Hash").ClickAsync();
            await page.GetByText($"SHA-256 {Convert.ToHexStringLower(SHA256.HashData("two\n"u8))}").WaitForAsync();
            var coming = page.WaitForDownloadAsync();
            await Button($"Fetch {On("old/a.core")} of {Second}").ClickAsync();
            var came = await coming;
            (came.SuggestedFilename, await File.ReadAllTextAsync(await came.PathAsync())).ShouldBe(("a.core", "one\n"));
            (await browser.ViolationsAsync()).ShouldBe("");

            await Button("To the trash").ClickAsync();
            await page.GetByRole(AriaRole.Dialog, new() { Name = "Put one thing into the trash?" }).GetByRole(AriaRole.Button, new() { Name = "Put them there" }).ClickAsync();
            await page.GetByText("in the trash", new() { Exact = true }).WaitForAsync();
            File.Exists(On("b.core")).ShouldBeFalse();
            File.Exists(On("old/a.core")).ShouldBeTrue();
            (await World.ClientAsync(null, "file", "trash", Host)).Stdout.ShouldContain(On("b.core"));
            browser.Complaints.ShouldBeEmpty();
        }
    }
}
