using System.Security.Cryptography;
using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Files;

public sealed class FileConsoleTests : FileStory
{
    private async Task<(Browser Browser, ILocator Panel)> OpenAsync()
    {
        var browser = await Browser.OpenAsync();
        await browser.SignInAsync(World);
        await browser.Page.GotoAsync($"{World.Address}hosts/{(await World.HostAsync(Host)).Id}");
        await browser.Page.GetByRole(AriaRole.Button, new() { Name = $"Look at the files of {Host}" }).ClickAsync();
        var panel = browser.Page.GetByRole(AriaRole.Region, new() { Name = "Files", Exact = true });
        await panel.GetByLabel("Folder", new() { Exact = true }).FillAsync(World.In("host"));
        await panel.GetByLabel("Folder", new() { Exact = true }).PressAsync("Enter");
        await panel.GetByText($"{World.In("host")} is empty.").Or(panel.GetByText("entries.")).Or(panel.GetByText("1 entry.")).First.WaitForAsync();
        return (browser, panel);
    }

    [Fact]
    public async Task Files_and_folders_that_are_dropped_come_there_and_what_is_there_is_asked_about()
    {
        var large = RandomNumberGenerator.GetBytes(3_000_000);
        await File.WriteAllTextAsync(On("plan"), "old");
        var (browser, panel) = await OpenAsync();
        await using (browser)
        {
            var page = browser.Page;
            // What a person drags from a file manager, as the browser hands it to a page.
            await page.EvaluateAsync(
                """
                ([large, size]) => {
                  const bytes = Uint8Array.from(atob(large), (c) => c.charCodeAt(0));
                  if (bytes.length !== size) throw new Error("the test's own bytes are wrong");
                  const transfer = new DataTransfer();
                  transfer.items.add(new File([bytes], "curve.bin", { lastModified: 1700000000000 }));
                  transfer.items.add(new File(["new"], "plan"));
                  transfer.items.add(new File([], "nothing"));
                  window.dropped = transfer;
                }
                """,
                new object[] { Convert.ToBase64String(large), large.Length });
            await panel.Locator(".file-drop").EvaluateAsync("(e) => e.dispatchEvent(new DragEvent('dragover', { bubbles: true, cancelable: true, dataTransfer: window.dropped }))");
            await panel.Locator(".file-drop.over").WaitForAsync();
            await panel.Locator(".file-drop").EvaluateAsync("(e) => e.dispatchEvent(new DragEvent('drop', { bubbles: true, cancelable: true, dataTransfer: window.dropped }))");
            var asked = page.GetByRole(AriaRole.Dialog, new() { Name = "There is a plan already" });
            await asked.GetByRole(AriaRole.Button, new() { Name = "Replace it" }).ClickAsync();
            await panel.GetByText("3 of 3 sent").WaitForAsync();
            (await browser.ViolationsAsync()).ShouldBe("");
            Enumerable.SequenceEqual(await File.ReadAllBytesAsync(On("curve.bin")), large).ShouldBeTrue();
            (await File.ReadAllTextAsync(On("plan")), new FileInfo(On("nothing")).Length).ShouldBe(("new", 0));
            File.GetLastWriteTimeUtc(On("curve.bin")).ShouldBe(DateTimeOffset.FromUnixTimeMilliseconds(1700000000000).UtcDateTime);
            // The table shows them without being asked again; what was replaced is in the trash.
            await panel.GetByRole(AriaRole.Button, new() { Name = "curve.bin", Exact = true }).WaitForAsync();
            await panel.GetByRole(AriaRole.Button, new() { Name = "Trash", Exact = true }).ClickAsync();
            await panel.GetByRole(AriaRole.Button, new() { Name = $"Put {On("plan")} back" }).WaitForAsync();
            await panel.GetByRole(AriaRole.Button, new() { Name = "Clear those that have ended" }).ClickAsync();

            // A folder that is chosen, with what is below it.
            Directory.CreateDirectory(Here("recipes/deep"));
            await File.WriteAllTextAsync(Here("recipes/deep/one"), "1");
            await File.WriteAllTextAsync(Here("recipes/two"), "2");
            await panel.Locator("input[webkitdirectory]").SetInputFilesAsync(Here("recipes"));
            await panel.GetByText("2 of 2 sent").WaitForAsync();
            (await File.ReadAllTextAsync(On("recipes/deep/one")), await File.ReadAllTextAsync(On("recipes/two"))).ShouldBe(("1", "2"));
            Directory.GetFiles(World.In("host"), "*.part", SearchOption.AllDirectories).ShouldBeEmpty();
            browser.Complaints.ShouldBeEmpty();
        }
    }

    [Fact]
    public async Task Files_are_made_renamed_set_deleted_put_back_and_edited_in_place()
    {
        await File.WriteAllBytesAsync(On("plan.conf"), [.. "# K"u8, 0xe4, .. "se\r\nage = 90\r\n"u8]);
        var (browser, panel) = await OpenAsync();
        await using (browser)
        {
            var page = browser.Page;
            await panel.GetByRole(AriaRole.Button, new() { Name = "New folder …" }).ClickAsync();
            var asked = page.GetByRole(AriaRole.Dialog);
            await asked.GetByLabel("Name").FillAsync("a/b");
            await asked.GetByText("A name has no slash in it").WaitForAsync();
            await asked.GetByLabel("Name").FillAsync("cellar");
            await asked.GetByRole(AriaRole.Button, new() { Name = $"Make it on {Host}" }).ClickAsync();
            await panel.GetByText("cellar is there.").WaitForAsync();

            async Task ActAsync(string name, string act)
            {
                await panel.GetByRole(AriaRole.Button, new() { Name = $"Change {name}", Exact = true }).ClickAsync();
                await page.GetByRole(AriaRole.Menuitem, new() { Name = act }).ClickAsync();
            }
            await ActAsync("cellar", "Rename or move …");
            await asked.GetByLabel("Its new whole path").FillAsync(On("plan.conf"));
            await asked.GetByRole(AriaRole.Button, new() { Name = $"Move it on {Host}" }).ClickAsync();
            await asked.GetByText("already; it is left as it is").WaitForAsync();
            await asked.GetByLabel("Its new whole path").FillAsync(On("store"));
            await asked.GetByRole(AriaRole.Button, new() { Name = $"Move it on {Host}" }).ClickAsync();
            await panel.GetByText($"{On("cellar")} is {On("store")} now.").WaitForAsync();
            Directory.Exists(On("store")).ShouldBeTrue();

            await ActAsync("plan.conf", "Mode and owner …");
            await asked.GetByLabel("Mode").FillAsync("0600");
            await asked.GetByRole(AriaRole.Button, new() { Name = $"Set them on {Host}" }).ClickAsync();
            await panel.GetByText("is set.").WaitForAsync();
            File.GetUnixFileMode(On("plan.conf")).ShouldBe((UnixFileMode)0x180);

            // A text of another encoding, with other line ends, is changed in one line and comes back as it was but for that.
            await panel.GetByRole(AriaRole.Button, new() { Name = "plan.conf", Exact = true }).ClickAsync();
            await panel.GetByRole(AriaRole.Button, new() { Name = "Edit", Exact = true }).ClickAsync();
            var text = panel.GetByLabel($"Text of {On("plan.conf")}");
            (await text.InputValueAsync()).ShouldBe("# Käse\nage = 90\n");
            await text.FillAsync("# Käse\nage = 120\nturn = daily\n");
            (await browser.ViolationsAsync()).ShouldBe("");
            await panel.GetByRole(AriaRole.Button, new() { Name = "Save plan.conf" }).ClickAsync();
            await panel.GetByText("is as you left it").WaitForAsync();
            (await File.ReadAllBytesAsync(On("plan.conf"))).ShouldBe([.. "# K"u8, 0xe4, .. "se\r\nage = 120\r\nturn = daily\r\n"u8]);
            File.GetUnixFileMode(On("plan.conf")).ShouldBe((UnixFileMode)0x180);

            // Somebody else changes it: what was typed stays to be seen, and nothing is lost on either side.
            await panel.GetByRole(AriaRole.Button, new() { Name = "Edit", Exact = true }).ClickAsync();
            await text.FillAsync("mine\n");
            await File.WriteAllTextAsync(On("plan.conf"), "hers\n");
            await panel.GetByRole(AriaRole.Button, new() { Name = "Save plan.conf" }).ClickAsync();
            await panel.GetByText("was changed by somebody meanwhile").WaitForAsync();
            (await text.InputValueAsync()).ShouldBe("mine\n");
            (await File.ReadAllTextAsync(On("plan.conf"))).ShouldBe("hers\n");
            await panel.GetByRole(AriaRole.Button, new() { Name = "Leave it as it was" }).ClickAsync();

            await ActAsync("plan.conf", "Delete, to the trash");
            await panel.GetByText("lies in the trash.").WaitForAsync();
            await Wait.UntilAsync(() => !File.Exists(On("plan.conf")), "the file to be gone");
            await panel.GetByRole(AriaRole.Button, new() { Name = "Put it back" }).ClickAsync();
            await panel.GetByText("It is back where it lay.").WaitForAsync();
            (await File.ReadAllTextAsync(On("plan.conf"))).ShouldBe("hers\n");
            await ActAsync("store", "Delete for good …");
            await asked.GetByRole(AriaRole.Button, new() { Name = $"Delete it from {Host} of" }).ClickAsync();
            await panel.GetByText($"{On("store")} is gone.").WaitForAsync();
            Directory.Exists(On("store")).ShouldBeFalse();
            browser.Complaints.ShouldBeEmpty();
        }
    }

    [Fact]
    public async Task A_transfer_goes_on_after_the_service_was_started_again()
    {
        await World.TakeOwnProcessAsync();
        var bytes = RandomNumberGenerator.GetBytes(20_000_000);
        await File.WriteAllBytesAsync(Here("large"), bytes);
        var (browser, panel) = await OpenAsync();
        await using (browser)
        {
            await panel.Locator("input[type=file]:not([webkitdirectory])").SetInputFilesAsync(Here("large"));
            await Wait.UntilAsync(() => Directory.GetFiles(World.In("host"), ".large.*.part") is [var part] && new FileInfo(part).Length > 1_000_000 || File.Exists(On("large")), "some of it to be there");
            await World.Service.KillAsync();
            await World.StartServiceAsync();
            await panel.GetByText("1 of 1 sent").WaitForAsync(new() { Timeout = 90_000 });
            Enumerable.SequenceEqual(await File.ReadAllBytesAsync(On("large")), bytes).ShouldBeTrue();
            Directory.GetFileSystemEntries(World.In("host")).ShouldBe([On("large")]);
        }
    }
}
