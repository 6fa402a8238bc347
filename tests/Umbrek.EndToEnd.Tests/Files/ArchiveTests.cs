using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Files;

/// <summary>Archives are made and unpacked on a host, from the client and the console.</summary>
public sealed class ArchiveTests : FileStory
{
    [Fact]
    public async Task The_client_packs_and_unpacks_on_the_host()
    {
        await ShellAsync($"cd {World.In("host")}; mkdir -p tree/deep; printf 'ripening\n' >tree/note; head -c 200000 /dev/urandom >tree/deep/noise; ln -s ../note tree/deep/link; printf x >other");
        var (status, stdout, stderr) = await World.ClientAsync(null, "file", "pack", Host, On("tree"), On("other"), "--into", On("all.tar.gz"));
        (status, stdout).ShouldBe((0, $"6 files and folders were packed into {On("all.tar.gz")}.\n"), stderr);
        (status, stdout, stderr) = await World.ClientAsync(null, "file", "unpack", Host, On("all.tar.gz"), "--to", On("out/here"));
        (status, stdout).ShouldBe((0, $"6 files and folders were unpacked into {On("out/here")}.\n"), stderr);
        await ShellAsync($"cd {World.In("host")}; diff -r --no-dereference tree out/here/tree; diff other out/here/other; tar tzf all.tar.gz | grep -q '^tree/deep/noise$'");
        // What is there is kept until something else is said.
        await File.WriteAllTextAsync(On("out/here/tree/note"), "mine\n");
        (status, _, stderr) = await World.ClientAsync(null, "file", "unpack", Host, On("all.tar.gz"), "--to", On("out/here"));
        (status, stderr).ShouldBe((1, $"{On("out/here/tree/note")} is there already, and was kept.\n"));
        (await World.ClientAsync(null, "file", "unpack", Host, On("all.tar.gz"), "--to", On("out/here"), "--existing", "replace")).Status.ShouldBe(0);
        (await File.ReadAllTextAsync(On("out/here/tree/note"))).ShouldBe("ripening\n");
        (await World.ClientAsync(null, "file", "pack", Host, On("tree"), "--into", On("tree.7z"))).Stderr.ShouldContain("it ends with .zip, .tar, .tar.gz or .tgz");
        (await World.ClientAsync(null, "file", "unpack", Host, On("none.zip"))).Stderr.ShouldBe($"There is no {On("none.zip")} on this host.\n");
        await Wait.UntilAsync(async () => (await World.ClientAsync(null, "audit", "list", "--action", "file.unpack")).Stdout.Contains(On("all.tar.gz"), StringComparison.Ordinal), "the host to say what it unpacked");
        (await World.ClientAsync(null, "audit", "list", "--action", "file.pack")).Stdout.ShouldContain(On("tree"));
    }

    [Fact]
    public async Task The_console_packs_and_unpacks_on_the_host()
    {
        await ShellAsync($"cd {World.In("host")}; mkdir labels; printf plum >labels/plum");
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(World);
        var page = browser.Page;
        await page.GotoAsync($"{World.Address}hosts/{(await World.HostAsync(Host)).Id}");
        await page.GetByRole(AriaRole.Button, new() { Name = $"Look at the files of {Host}" }).ClickAsync();
        var panel = page.GetByRole(AriaRole.Region, new() { Name = "Files", Exact = true });
        await panel.GetByLabel("Folder", new() { Exact = true }).FillAsync(World.In("host"));
        await panel.GetByLabel("Folder", new() { Exact = true }).PressAsync("Enter");
        await panel.GetByRole(AriaRole.Button, new() { Name = "Change labels", Exact = true }).ClickAsync();
        await page.GetByRole(AriaRole.Menuitem, new() { Name = "Pack into an archive" }).ClickAsync();
        await page.GetByRole(AriaRole.Dialog).GetByLabel("The new archive").FillAsync(On("labels.tgz"));
        (await browser.ViolationsAsync()).ShouldBe("");
        await page.GetByRole(AriaRole.Button, new() { Name = $"Pack it on {Host}" }).ClickAsync();
        await panel.GetByText($"2 files and folders packed into {On("labels.tgz")}.").WaitForAsync();
        await panel.GetByRole(AriaRole.Button, new() { Name = "Change labels.tgz", Exact = true }).ClickAsync();
        await page.GetByRole(AriaRole.Menuitem, new() { Name = "Unpack" }).ClickAsync();
        await page.GetByRole(AriaRole.Dialog).GetByLabel("Into which folder").FillAsync(On("again"));
        await page.GetByRole(AriaRole.Button, new() { Name = $"Unpack it on {Host}" }).ClickAsync();
        await panel.GetByText($"2 files and folders unpacked into {On("again")}.").WaitForAsync();
        (await File.ReadAllTextAsync(On("again/labels/plum"))).ShouldBe("plum");
        browser.Complaints.ShouldBeEmpty();
    }
}
