using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Jobs;

/// <summary>Runbooks with the client and in the console, on a host that is a process.</summary>
public sealed class RunbookTests
{
    private const string Document = """
        # Fill the tide table

        - parameter: MARK: path -- where it is noted
        - parameter: DAYS: whole 1..9 = 2

        ## Look whether it is there
        - may fail
        ```sh
        test -f "$MARK"
        ```
        ## Write it
        - when: "Look whether it is there" failed
        ```sh
        echo "tides of $DAYS days" > "$MARK"
        ```
        ## Read it
        ```sh
        cat "$MARK"
        ```
        ## Say that it is short
        - when: DAYS is 1
        ```sh
        echo short; exit 4
        ```
        """;

    [Fact]
    public async Task A_runbook_is_written_read_kept_and_run_with_the_client()
    {
        using var directory = new TestDirectory();
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await world.SignInClientAsync();
        var file = directory.In("tides.md");
        await File.WriteAllTextAsync(file, Document.Replace("DAYS is 1", "DAYZ is 1"));
        (await world.ClientAsync(null, "runbook", "read", file)).Stderr.ShouldBe("A condition of step 'Say that it is short' speaks of DAYZ, which is no parameter of the runbook; did you mean DAYS?\n");
        await File.WriteAllTextAsync(file, Document);
        var read = (await world.ClientAsync(null, "runbook", "read", file)).Stdout;
        read.ShouldContain("2 of 4");
        read.ShouldContain("when: \"Look whether it is there\" failed");
        var kept = await world.ClientAsync(null, "runbook", "save", file);
        kept.Stdout.ShouldBe("Kept 'Fill the tide table', version 1, of 4 steps, for its owner alone. Run it: umbrek runbook run 'Fill the tide table' --on HOSTS MARK=…\n");

        var mark = directory.In("tides.txt");
        var first = await world.ClientAsync(null, "runbook", "run", "fill the tide table", "--on", "all", "--plain", $"MARK={mark}");
        first.Status.ShouldBe(0);
        first.Stdout.ShouldBe("[1 of 4] Look whether it is there\n[2 of 4] Write it\n[3 of 4] Read it\ntides of 2 days\n[4 of 4] Say that it is short: left out. DAYS is '2'.\n");
        var second = await world.ClientAsync(null, "runbook", "run", "Fill the tide table", "--on", "all", "--plain", $"MARK={mark}", "DAYS=1");
        second.Status.ShouldNotBe(0);
        second.Stdout.ShouldContain("[2 of 4] Write it: left out. 'Look whether it is there' succeeded.\n[3 of 4] Read it\ntides of 2 days\n[4 of 4] Say that it is short\nshort\n");
        second.Stderr.ShouldContain("Step 4 of 4, 'Say that it is short', ended with exit status 4.");

        var jobs = (await world.ClientAsync(null, "job", "list", "--output", "csv")).Stdout.Split('\n');
        var id = jobs[1].Split(',')[0];
        var steps = (await world.ClientAsync(null, "job", "steps", id, "--output", "csv")).Stdout;
        steps.ShouldContain("plover-log-01,1,Look whether it is there,succeeded,0,1,");
        steps.ShouldContain("plover-log-01,2,Write it,left out,,0,,'Look whether it is there' succeeded.");
        steps.ShouldContain("plover-log-01,4,Say that it is short,failed,4,1,");
        (await world.ClientAsync(null, "job", "show", id)).Stdout.ShouldContain("4 of 4, Say that it is short: failed");
        (await world.ClientAsync(null, "job", "steps", id, "--step", "9")).Stderr.ShouldBe("There is no step 9; the runbook has 1 to 4.\n");

        // What is shown as a document is the runbook; it is neither a script nor kept twice.
        var again = directory.In("again.md");
        await File.WriteAllTextAsync(again, (await world.ClientAsync(null, "runbook", "show", "Fill the tide table", "--text")).Stdout);
        (await world.ClientAsync(null, "runbook", "save", again)).Stderr.ShouldContain("is what version 1 of 'Fill the tide table' is already");
        (await world.ClientAsync(null, "script", "show", "Fill the tide table")).Stderr.ShouldBe("'Fill the tide table' is a runbook, not a script: umbrek runbook show 'Fill the tide table'\n");
        (await world.ClientAsync(null, "script", "list", "--output", "csv")).Stdout.ShouldNotContain("tide table");
        (await world.ClientAsync(null, "runbook", "list", "--output", "csv")).Stdout.ShouldContain("Fill the tide table,1,4,MARK DAYS,");
    }

    [Fact]
    public async Task A_runbook_is_written_run_and_followed_in_the_console()
    {
        using var directory = new TestDirectory();
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await world.JoinAsync("quay-ticket-01");
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GotoAsync($"{world.Address}work/runbooks");
        await page.GetByText("No runbook is kept yet").WaitForAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "New runbook" }).ClickAsync();
        var text = page.GetByLabel("Runbook", new() { Exact = true });
        await text.FillAsync(Document.Replace("may fail", "may fial: yes"));
        await page.GetByText("'may fial' is nothing that a step has").WaitForAsync();
        await text.FillAsync(Document);
        await page.GetByText("when “Look whether it is there” failed").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");
        await page.GetByRole(AriaRole.Button, new() { Name = "Keep the runbook" }).ClickAsync();
        await page.GetByRole(AriaRole.Heading, new() { Name = "Version 1" }).WaitForAsync();
        await page.GetByText("when nothing failed before and DAYS is 1").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");

        await page.GetByRole(AriaRole.Link, new() { Name = "Run it" }).ClickAsync();
        await page.GetByLabel("On which hosts").FillAsync("all");
        await page.GetByLabel("MARK").FillAsync(directory.In("tides.txt"));
        await page.GetByLabel("DAYS").FillAsync("1");
        await page.GetByRole(AriaRole.Button, new() { Name = "Run on 2 hosts" }).ClickAsync();
        await page.GetByText("2 of 2 ended").WaitForAsync();
        var board = page.GetByRole(AriaRole.Table, new() { Name = "Steps on all hosts" });
        await board.GetByRole(AriaRole.Row, new() { Name = "3 Read it 2 – – – –" }).WaitForAsync();
        await board.GetByRole(AriaRole.Row, new() { Name = "4 Say that it is short – 2 – – –" }).WaitForAsync();
        await page.GetByText("Host by host").ClickAsync();
        var steps = page.GetByRole(AriaRole.List, new() { Name = "Steps on this host" });
        await steps.GetByText("failed (4)").WaitForAsync();
        await page.GetByText("Step 4 of 4, 'Say that it is short', ended with exit status 4.").First.WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");

        await page.GetByRole(AriaRole.Link, new() { Name = "Its runbook" }).ClickAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Write the next version" }).ClickAsync();
        (await page.GetByLabel("Runbook", new() { Exact = true }).InputValueAsync()).ShouldStartWith("# Fill the tide table\n\n- parameter: MARK: path -- where it is noted\n");
        await page.GetByLabel("Runbook", new() { Exact = true }).FillAsync(Document.Replace("exit 4", "exit 0"));
        await page.GetByLabel("What is new").FillAsync("short is fine");
        await page.GetByRole(AriaRole.Button, new() { Name = "Keep version 2" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Compare 1 with 2" }).ClickAsync();
        await page.GetByRole(AriaRole.Table, new() { Name = "text of both" }).GetByText("exit 0").WaitForAsync();
        browser.Complaints.Where(c => !c.Contains("400")).ShouldBeEmpty();
    }
}
