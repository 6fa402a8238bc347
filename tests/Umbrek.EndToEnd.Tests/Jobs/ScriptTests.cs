using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Jobs;

/// <summary>Scripts that are kept, with the client and in the console.</summary>
public sealed class ScriptTests
{
    [Fact]
    public async Task A_script_is_kept_with_the_client_and_run_with_values()
    {
        using var directory = new TestDirectory();
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await world.SignInClientAsync();
        var file = directory.In("tides.sh");
        await File.WriteAllTextAsync(file, "#!/bin/sh\necho \"$COUNT tides on $DAY;${NOTE-no note}\"\n");
        var kept = await world.ClientAsync(null, "script", "save", "Tides", "--file", file, "--parameter", "COUNT: whole 1..4 = 2 -- tides of a day", "--parameter", "DAY: day", "--parameter", "NOTE?: text");
        kept.Stdout.ShouldContain("Kept 'Tides', version 1, for its owner alone. Run it: umbrek script run 'Tides' --on HOSTS DAY=…");
        (await world.ClientAsync(null, "script", "run", "Tides", "--on", "all", "COUNT=9")).Stderr.ShouldBe("COUNT must be a whole number from 1 to 4, not '9'. DAY is needed.\n");
        // A value is never a part of the script.
        (await world.ClientAsync(null, "script", "run", "tides", "--on", "all", "--plain", "DAY=2026-03-29", "NOTE=$(id); \"x\"")).Stdout.ShouldBe("2 tides on 2026-03-29;$(id); \"x\"\n");

        (await world.ClientAsync(null, "script", "save", "Tides", "--parameter", "COUNT: whole = 1", "--parameter", "DAY: day = 2026-01-01", "--note", "fewer questions")).Stdout.ShouldContain("version 2");
        (await world.ClientAsync(null, "script", "run", "Tides", "--on", "all", "--plain", "COUNT=7")).Stdout.ShouldBe("7 tides on 2026-01-01;no note\n");
        (await world.ClientAsync(null, "script", "run", "Tides@1", "--on", "all", "--plain", "COUNT=7", "DAY=2026-01-01")).Status.ShouldBe(1);
        var compared = (await world.ClientAsync(null, "script", "compare", "Tides", "1")).Stdout;
        compared.ShouldContain(">     1  COUNT: whole = 1");
        compared.ShouldContain("2 equal lines");
        (await world.ClientAsync(null, "script", "show", "Tides@1", "--text")).Stdout.ShouldBe(await File.ReadAllTextAsync(file));
        (await world.ClientAsync(null, "job", "list", "--output", "csv")).Stdout.ShouldContain("Tides (version 2)");
    }

    [Fact]
    public async Task What_a_job_ran_is_kept_changed_compared_and_run_again_in_the_console()
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GotoAsync($"{world.Address}work/new?on=plover-log-01");
        await page.GetByRole(AriaRole.Textbox, new() { Name = "Command line" }).FillAsync("echo ferry $NAME");
        await page.GetByText("How it runs").ClickAsync();
        await page.GetByLabel("Variables of its environment").FillAsync("NAME=Plover");
        await page.GetByRole(AriaRole.Button, new() { Name = "Run on 1 host" }).ClickAsync();
        await page.GetByText("1 of 1 ended").WaitForAsync();

        await page.GetByRole(AriaRole.Link, new() { Name = "Save as script" }).ClickAsync();
        await page.GetByLabel("Name", new() { Exact = true }).First.FillAsync("Call a ferry");
        (await page.GetByLabel("Script", new() { Exact = true }).InputValueAsync()).ShouldBe("#!/bin/sh\necho ferry $NAME\n");
        await page.GetByRole(AriaRole.Button, new() { Name = "Add a parameter" }).ClickAsync();
        var second = page.GetByRole(AriaRole.Group, new() { Name = "Parameter 2" });
        await second.GetByLabel("Name").FillAsync("TIMES");
        await page.GetByRole(AriaRole.Group, new() { Name = "Parameter TIMES" }).GetByRole(AriaRole.Combobox, new() { Name = "Kind" }).ClickAsync();
        await page.GetByRole(AriaRole.Option, new() { Name = "Whole number" }).ClickAsync();
        await page.GetByLabel("At most").FillAsync("3");
        await page.GetByRole(AriaRole.Button, new() { Name = "Keep the script" }).ClickAsync();
        await page.GetByRole(AriaRole.Heading, new() { Name = "Version 1" }).WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");

        await page.GetByRole(AriaRole.Link, new() { Name = "Write the next version" }).ClickAsync();
        await page.GetByLabel("Script", new() { Exact = true }).FillAsync("#!/bin/sh\necho ferry $NAME, $TIMES times\n");
        await page.GetByLabel("What is new").FillAsync("says how often");
        await page.GetByRole(AriaRole.Button, new() { Name = "Keep version 2" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Compare 1 with 2" }).ClickAsync();
        await page.GetByRole(AriaRole.Table, new() { Name = "text of both" }).GetByText("times").WaitForAsync();

        await page.GetByRole(AriaRole.Link, new() { Name = "Run it" }).ClickAsync();
        await page.GetByLabel("On which hosts").FillAsync("plover-log-01");
        var run = page.GetByRole(AriaRole.Button, new() { Name = "Run" });
        (await run.IsDisabledAsync()).ShouldBeTrue();
        await page.GetByText("Say first what TIMES is").WaitForAsync();
        await page.GetByLabel("TIMES").FillAsync("4");
        await page.GetByRole(AriaRole.Button, new() { Name = "Run on 1 host" }).ClickAsync();
        await page.GetByText("TIMES must be a whole number up to 3, not '4'.").WaitForAsync();
        await page.GetByLabel("TIMES").FillAsync("3");
        await page.GetByRole(AriaRole.Button, new() { Name = "Run on 1 host" }).ClickAsync();
        await page.GetByText("ferry Plover, 3 times").WaitForAsync();
        await page.GetByRole(AriaRole.Heading, new() { Name = "Call a ferry (version 2)" }).WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");
        browser.Complaints.Where(c => !c.Contains("400")).ShouldBeEmpty();
    }
}
