using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;

namespace Umbrek.EndToEnd.Tests.Files;

/// <summary>Folders of two hosts are kept in step from the console.</summary>
public sealed class TwinConsoleTests : FileStory
{
    private const string Second = "creamery-office-03";

    [Fact]
    public async Task Two_folders_are_named_looked_at_brought_in_step_and_a_conflict_is_settled()
    {
        await World.JoinAsync(Second);
        Directory.CreateDirectory(World.In("other"));
        await File.WriteAllTextAsync(On("curds.txt"), "drain for an hour\n");
        await File.WriteAllTextAsync(On("whey.txt"), "keep\n");
        var browser = await Browser.OpenAsync();
        await using (browser)
        {
            await browser.SignInAsync(World);
            var page = browser.Page;
            ILocator Button(string name) => page.GetByRole(AriaRole.Button, new() { Name = name, Exact = true });
            await page.GotoAsync($"{World.Address}work/twins");
            await page.GetByText("No folders are kept in step yet").WaitForAsync();
            await page.GetByRole(AriaRole.Link, new() { Name = "New twin" }).ClickAsync();
            await page.GetByText("Give it a name first").WaitForAsync();
            await page.GetByLabel("Name", new() { Exact = true }).FillAsync("recipes");
            foreach (var (side, host, folder) in new[] { ("first", Host, World.In("host")), ("second", Second, World.In("other")) })
            {
                await page.GetByRole(AriaRole.Combobox, new() { Name = $"Host or shelf of the {side}" }).FillAsync(host);
                await page.GetByRole(AriaRole.Option, new() { NameRegex = new($"^{host} of") }).ClickAsync();
                await page.GetByLabel($"Folder of the {side}").FillAsync(folder);
            }
            await page.GetByLabel("Both ways: what was changed").CheckAsync();
            await Button("Make the twin").ClickAsync();

            await Button("See what it would do").ClickAsync();
            await page.GetByText("done (dry run): 2 things to do").WaitForAsync();
            await page.GetByRole(AriaRole.Table, new() { Name = "What a turn would do" }).GetByText("curds.txt").WaitForAsync();
            Directory.GetFiles(World.In("other")).ShouldBeEmpty();
            await Button("Take a turn").ClickAsync();
            await page.GetByText("done: 2 things done").WaitForAsync();
            (await File.ReadAllTextAsync(Path.Combine(World.In("other"), "curds.txt"))).ShouldBe("drain for an hour\n");

            await File.WriteAllTextAsync(On("curds.txt"), "drain for two hours\n");
            await File.WriteAllTextAsync(Path.Combine(World.In("other"), "curds.txt"), "drain overnight\n");
            await Button("Take a turn").ClickAsync();
            var conflicts = page.GetByRole(AriaRole.Region, new() { Name = "Conflicts" });
            await conflicts.GetByText("changed on both", new() { Exact = true }).WaitForAsync();
            (await browser.ViolationsAsync()).ShouldBe("");
            await conflicts.GetByRole(AriaRole.Button, new() { Name = "The second’s curds.txt" }).ClickAsync();
            await page.GetByText("done: 1 thing done").WaitForAsync();
            (await File.ReadAllTextAsync(On("curds.txt"))).ShouldBe("drain overnight\n");

            // A folder that has lost all it held is asked about first.
            Directory.Delete(World.In("other"), recursive: true);
            Directory.CreateDirectory(World.In("other"));
            await Button("Take a turn").ClickAsync();
            await page.GetByText("holds nothing now").WaitForAsync();
            File.Exists(On("whey.txt")).ShouldBeTrue();
            await Button("It is meant to be empty: take the turn").ClickAsync();
            await page.GetByText("done: 2 things done").WaitForAsync();
            File.Exists(On("whey.txt")).ShouldBeFalse();

            await page.GotoAsync($"{World.Address}work/twins");
            await page.GetByRole(AriaRole.Link, new() { NameRegex = new("^recipes") }).ClickAsync();
            await Button("Remove").ClickAsync();
            await Button("Remove the twin").ClickAsync();
            await page.GetByText("No folders are kept in step yet").WaitForAsync();
            (await browser.ViolationsAsync()).ShouldBe("");
            browser.Complaints.ShouldBeEmpty();
        }
    }

    [Fact]
    public async Task A_shelf_is_made_filled_looked_at_read_and_removed()
    {
        Directory.CreateDirectory(On("soft/young"));
        await File.WriteAllTextAsync(On("curds.txt"), "drain for an hour\n");
        await File.WriteAllTextAsync(On("soft/young/50 % & more.txt"), "no rind\n");
        var browser = await Browser.OpenAsync();
        await using (browser)
        {
            await browser.SignInAsync(World);
            var page = browser.Page;
            ILocator Button(string name) => page.GetByRole(AriaRole.Button, new() { Name = name, Exact = true });
            await page.GotoAsync($"{World.Address}work/shelves");
            await page.GetByText("The service keeps no folders yet").WaitForAsync();
            await Button("New shelf").ClickAsync();
            await page.GetByText("Give it a name first").WaitForAsync();
            await page.GetByLabel("Name", new() { Exact = true }).FillAsync("recipes");
            await page.GetByRole(AriaRole.Combobox, new() { Name = "Group" }).FillAsync("Quay");
            await page.GetByRole(AriaRole.Option, new() { NameRegex = new("Quay$") }).First.ClickAsync();
            await Button("Make the shelf").ClickAsync();
            await page.GetByRole(AriaRole.Heading, new() { Name = "recipes" }).WaitForAsync();
            await page.GetByText("Nothing lies here").WaitForAsync();
            (await browser.ViolationsAsync()).ShouldBe("");

            // What lies on a host comes to lie there.
            await page.GetByRole(AriaRole.Link, new() { Name = "Keep a folder here" }).ClickAsync();
            await page.GetByLabel("Name", new() { Exact = true }).FillAsync("kept");
            await page.GetByRole(AriaRole.Combobox, new() { Name = "Host or shelf of the first" }).FillAsync(Host);
            await page.GetByRole(AriaRole.Option, new() { NameRegex = new($"^{Host} of") }).ClickAsync();
            await page.GetByLabel("Folder of the first").FillAsync(World.In("host"));
            (await page.GetByLabel("Folder of the second").InputValueAsync()).ShouldBe("/");
            await Button("Make the twin").ClickAsync();
            await Button("Take a turn").ClickAsync();
            await page.GetByText("done: 4 things done").WaitForAsync();
            await page.GetByRole(AriaRole.Link, new() { Name = "The shelf recipes" }).ClickAsync();

            await page.GetByText("2 files").WaitForAsync();
            (await browser.ViolationsAsync()).ShouldBe("");
            await Button("soft/").ClickAsync();
            await Button("young/").ClickAsync();
            await page.GetByRole(AriaRole.Table, new() { Name = "What lies in /soft/young" }).WaitForAsync();
            var download = await page.RunAndWaitForDownloadAsync(() => page.GetByRole(AriaRole.Link, new() { Name = "50 % & more.txt" }).ClickAsync());
            (await File.ReadAllTextAsync(await download.PathAsync())).ShouldBe("no rind\n");
            download.SuggestedFilename.ShouldBe("50 % & more.txt");
            await Button("The shelf").ClickAsync();
            await page.GetByRole(AriaRole.Link, new() { Name = "curds.txt" }).WaitForAsync();

            await Button("Remove").ClickAsync();
            await page.GetByText("will be gone for good").WaitForAsync();
            await Button("Remove the shelf").ClickAsync();
            await page.GetByText("The service keeps no folders yet").WaitForAsync();
            browser.Complaints.ShouldBeEmpty();
        }
    }
}
