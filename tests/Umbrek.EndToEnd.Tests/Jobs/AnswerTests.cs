using Microsoft.Playwright;
using Umbrek.Core.Jobs;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Jobs;

namespace Umbrek.EndToEnd.Tests.Jobs;

/// <summary>What several hosts answer, read in the console and with the client; agents are processes of their own.</summary>
public sealed class AnswerTests
{
    /// <summary>One host of all that run it at the same place gets the directory; the others say so and fail.</summary>
    private static string FirstOneWins(string directory) => $"echo $(uname -s) at $(date +%H:%M:%S); mkdir {directory} 2>/dev/null && echo berth free || {{ echo berth taken; exit 3; }}";

    [Fact]
    public async Task The_odd_answer_stands_out_in_the_console_and_is_run_again()
    {
        using var directory = new TestDirectory();
        await using var world = await World.StartAsync();
        foreach (var name in new[] { "plover-log-01", "plover-log-02", "dunlin-log-01" })
        {
            await world.JoinAsync(name);
        }
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GotoAsync($"{world.Address}work/new");
        await page.GetByLabel("On which hosts").FillAsync("all");
        await page.GetByRole(AriaRole.Textbox, new() { Name = "Command line" }).FillAsync(FirstOneWins(directory.In("berth")));
        await page.GetByText("Turns and waiting").ClickAsync();
        await page.GetByLabel("Hosts at the same time").FillAsync("1");
        await page.GetByRole(AriaRole.Button, new() { Name = "Run on 3 hosts" }).ClickAsync();

        await page.GetByText("3 of 3 ended").WaitForAsync();
        await page.GetByText("1 at once").WaitForAsync();
        var odd = page.GetByRole(AriaRole.Region, new() { Name = "Answer of" }).First;
        await odd.GetByText("1 host succeeded").WaitForAsync();
        await odd.GetByText("berth free").WaitForAsync();
        await odd.GetByText("berth taken").WaitForAsync();
        await page.GetByText("2 hosts failed (3)").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");

        await page.GetByText("Search", new() { Exact = true }).ClickAsync();
        await page.GetByLabel("Text in the output of any host").FillAsync("BERTH TAKEN");
        await page.GetByRole(AriaRole.Button, new() { Name = "Find" }).ClickAsync();
        await page.GetByText("2 lines on 2 hosts").WaitForAsync();

        await page.GetByRole(AriaRole.Button, new() { Name = "Run again where it failed, on 2 hosts" }).ClickAsync();
        await page.GetByText("2 of 2 ended").WaitForAsync();
        await page.GetByText("an earlier job").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task The_client_runs_a_script_folds_what_comes_and_fetches_it()
    {
        using var directory = new TestDirectory();
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await world.JoinAsync("plover-log-02");
        await world.SignInClientAsync();
        var script = directory.In("tide.sh");
        await File.WriteAllTextAsync(script, "#!/bin/sh\n# Reads the tide\nread level\necho \"$1: $level, $TIDE\"; echo \"as $(id -un)\" >&2\n");
        var ran = await world.ClientAsync(null, "run", "--on", "all", "--script", script, "--set", "TIDE=ebb", "--input", script, "--as", "nobody", "--at-once", "1", "--fold", "--", "level");
        ran.Stdout.ShouldContain("2 hosts, succeeded: plover-log-01 of Saltmarsh Ferry, plover-log-02 of Saltmarsh Ferry  [2 lines");
        ran.Stdout.ShouldContain("  level: #!/bin/sh, ebb");
        ran.Stdout.ShouldContain("  as nobody");

        var failed = await world.ClientAsync(null, "run", "--on", "all", "--fold", "--", FirstOneWins(directory.In("slip")));
        failed.Status.ShouldBe(3);
        failed.Stdout.IndexOf("berth free", StringComparison.Ordinal).ShouldBeGreaterThan(0);
        var id = (await world.Api.GetAsync("jobs?limit=1", WireJson.Default.PageJobInfo, default)).Items[0].Id.ToString();
        (await world.ClientAsync(null, "job", "compare", id, "plover-log-01", "plover-log-02")).Stdout.ShouldContain("berth taken");
        (await world.ClientAsync(null, "job", "search", id, "BERTH")).Stdout.ShouldContain("plover-log-02");
        (await world.ClientAsync(null, "job", "fetch", id)).Stdout.Split('\n', StringSplitOptions.RemoveEmptyEntries).Length.ShouldBe(2);
        var again = await world.ClientAsync(null, "job", "again", id, "--plain");
        again.Status.ShouldBe(3);
        again.Stdout.ShouldContain("berth taken");
        (await world.Api.GetAsync("jobs?limit=1", WireJson.Default.PageJobInfo, default)).Items[0].Runs.ShouldBe(new RunCounts(0, 0, 0, 0, 1, 0, 0, 0, 0, 0));
    }
}
