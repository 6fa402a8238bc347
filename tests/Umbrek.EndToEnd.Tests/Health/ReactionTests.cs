using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Health;

namespace Umbrek.EndToEnd.Tests.Health;

/// <summary>An alert of a real host has a runbook run there, told by the client and in Chromium.</summary>
public sealed class ReactionTests
{
    [Fact]
    public async Task A_check_that_is_raised_has_a_runbook_put_it_right()
    {
        using var directory = new TestDirectory();
        var (lamp, book) = (directory.In("lamp"), directory.In("lamp.md"));
        await File.WriteAllTextAsync(lamp, "out\n");
        await File.WriteAllTextAsync(book, """
            # Light the lamp
            - parameter: LAMP: path
            ## Look
            - may fail
            ```
            grep -q burning "$LAMP"
            ```
            ## Light it
            - when: "Look" failed
            ```
            echo burning > "$LAMP"
            ```
            """);
        await using var world = await World.StartAsync(options: _ => ["--sample-interval", "1"]);
        await world.SignInClientAsync();
        await world.JoinAsync("plover-log-01");
        (await world.ClientAsync(null, "runbook", "save", book)).Status.ShouldBe(0);
        (await world.ClientAsync(null, "reaction", "new", "Lamps", "--check", "memory-in-use", "--run", "Light the lamp", "--everywhere", $"LAMP={lamp}")).Stderr.ShouldContain("check");
        (await world.ClientAsync(null, "check", "new", "Memory in use", "--when", "memory.used > 0 %", "--severity", "information", "--about", "memory", "--hold", "10s")).Status.ShouldBe(0);
        (await world.ClientAsync(null, "reaction", "new", "Lamps", "--check", "memory-in-use", "--run", "Light the lamp", "--everywhere", $"LAMP={lamp}")).Stdout
            .ShouldBe("'Lamps': 'Light the lamp' runs on every host when 'Memory in use' is raised from now on.\n");
        await Wait.UntilAsync(async () => await File.ReadAllTextAsync(lamp) == "burning\n", "the lamp to burn");
        await Wait.UntilAsync(async () => (await world.ClientAsync(null, "job", "list", "--output", "csv")).Stdout.Contains($"{World.Name} (reaction 'Lamps'),Light the lamp (version 1),\"\"\"plover-log-01\"\"\",1 succeeded", StringComparison.Ordinal), "the job");
        (await world.ClientAsync(null, "reaction", "show", "lamps")).Stdout.ShouldContain("once; last ");
        var alert = (await world.Api.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items.SelectMany(l => l.Alerts).Single(a => a.Check == "memory-in-use");
        (await world.ClientAsync(null, "alert", "show", $"{alert.Id}")).Stdout.ShouldContain("succeeded (umbrek job show ");

        await using var browser = await Browser.OpenAsync(1280, 800);
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GotoAsync($"{world.Address}now/{alert.Id}");
        await page.GetByRole(AriaRole.Heading, new() { Name = "What runs because of it" }).WaitForAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Lamps" }).ClickAsync();
        await page.GetByRole(AriaRole.Heading, new() { Name = "Light the lamp (version 1)" }).WaitForAsync();
        await page.GotoAsync($"{world.Address}rules/reactions");
        await page.GetByText("ran 1 time,").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");
        await page.GetByRole(AriaRole.Button, new() { Name = "Switch Lamps off" }).ClickAsync();
        await page.GetByText("switched off").WaitForAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "More about Lamps" }).ClickAsync();
        await page.GetByRole(AriaRole.Menuitem, new() { Name = "Change Lamps …" }).ClickAsync();
        await page.GetByLabel("What it is called").FillAsync("Lamps of vessels");
        await page.GetByRole(AriaRole.Button, new() { Name = "Change Lamps" }).ClickAsync();
        await page.GetByText("Lamps of vessels").WaitForAsync();
        (await world.ClientAsync(null, "reaction", "list", "--output", "csv")).Stdout.ShouldContain("Lamps of vessels,memory-in-use,everything,Light the lamp");
        browser.Complaints.ShouldBeEmpty();
    }
}
