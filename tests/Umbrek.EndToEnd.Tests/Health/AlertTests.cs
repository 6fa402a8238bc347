using Microsoft.Playwright;
using Umbrek.Core.Health;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Health;

namespace Umbrek.EndToEnd.Tests.Health;

/// <summary>A check of one's own over a real agent: tried, raised, taken up in Chromium, seen by the client, and gone.</summary>
public sealed class AlertTests
{
    [Fact]
    public async Task An_alert_is_raised_by_a_real_host_taken_up_in_the_console_and_seen_by_the_client()
    {
        await using var world = await World.StartAsync(options: _ => ["--sample-interval", "1"]);
        await world.SignInClientAsync();
        await world.JoinAsync("plover-log-01");
        await using var browser = await Browser.OpenAsync(world, 1280, 800);
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GetByRole(AriaRole.Link, new() { Name = "Now" }).ClickAsync();

        // A rule that can't be read is told where it is typed, and nothing is lost.
        await page.GetByRole(AriaRole.Link, new() { Name = "Rules" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "New check …" }).ClickAsync();
        await page.GetByLabel("What it is called").FillAsync("Memory in use");
        await page.GetByLabel("Raised when").FillAsync("memory.used > 0 GiB");
        await page.GetByLabel("For how many seconds").FillAsync("10");
        await page.GetByRole(AriaRole.Button, new() { Name = "Try it" }).ClickAsync();
        await page.GetByText("(at character").WaitForAsync();
        await page.GetByLabel("Raised when").FillAsync("memory.used > 0 %");
        await page.GetByRole(AriaRole.Button, new() { Name = "Try it" }).ClickAsync();
        await page.GetByText("It would have raised").WaitForAsync();
        await page.GetByLabel("How it is fixed").FillAsync("Leave it: programs need memory.");
        await page.GetByRole(AriaRole.Button, new() { Name = "Let it count" }).ClickAsync();
        await page.GetByText("memory.used > 0 %").WaitForAsync();

        // It comes by itself, with its count beside the place.
        await page.GetByRole(AriaRole.Link, new() { Name = "Now" }).ClickAsync();
        var line = page.GetByRole(AriaRole.Link, new() { Name = "plover-log-01: Memory in use (memory.used > 0 %)." });
        await line.WaitForAsync(new() { Timeout = 60_000 });
        await page.GetByText("open alerts").WaitForAsync(new() { State = WaitForSelectorState.Attached });
        await page.GetByRole(AriaRole.Button, new() { Name = "I am at it: Memory in use on plover-log-01" }).ClickAsync();
        await page.GetByText($"{World.Name} is at it").WaitForAsync();
        await line.ClickAsync();
        await page.GetByText("Leave it: programs need memory.").WaitForAsync();
        await page.GetByRole(AriaRole.Img, new() { NameRegex = new("Memory in use: .*an alert is raised at 0.0 %") }).WaitForAsync();

        var (status, stdout, stderr) = await world.ClientAsync(null, "alert", "list");
        (status, stdout.Contains($"{World.Name} is at it", StringComparison.Ordinal)).ShouldBe((0, true), stdout + stderr);
        var id = (await world.Api.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items.SelectMany(l => l.Alerts).Single(a => a.Check == "memory-in-use").Id;
        var shown = (await world.ClientAsync(null, "alert", "show", $"{id}")).Stdout;
        shown.ShouldContain("Leave it: programs need memory.");
        shown.ShouldContain("memory.used, the last 6 hours; raised at 0");
        (status, _, stderr) = await world.ClientAsync(null, "alert", "snooze", $"{id}");
        (status, stderr.Contains("Say for how long", StringComparison.Ordinal)).ShouldBe((2, true), stderr);
        (await world.ClientAsync(null, "alert", "snooze", $"{id}", "--for", "2h")).Stdout.ShouldContain("quiet until");
        (status, _, stderr) = await world.ClientAsync(null, "check", "remove", "storage-high");
        (status, stderr.Contains("umbrek check set storage-high --off", StringComparison.Ordinal)).ShouldBe((1, true), stderr);
        (await world.ClientAsync(null, "check", "set", "memory-in-use", "--host", "plover-log-01", "--off", "--note", "it is meant to be")).Stdout.ShouldContain("plover-log-01: off");
        await page.GetByText("cleared", new() { Exact = false }).First.WaitForAsync(new() { Timeout = 60_000 });
        (await world.Api.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items.SelectMany(l => l.Alerts).ShouldNotContain(a => a.Check == "memory-in-use");
        browser.Complaints.ShouldAllBe(c => c.Contains("400", StringComparison.Ordinal));
    }

    [Fact]
    public async Task An_agent_that_is_killed_is_lost_and_returns()
    {
        await using var world = await World.StartAsync();
        var host = await world.JoinAsync("plover-log-01");
        var check = await world.Api.PostAsync("checks/settings", new CheckWish("lost-contact", HoldSeconds: 10), WireJson.Default.CheckWish, WireJson.Default.CheckInfo, default);
        check.Settings.ShouldHaveSingleItem();
        await host.KillAsync();
        await Wait.UntilAsync(async () => (await world.Api.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items is [{ Severity: Severity.Critical, Alerts: [{ Check: "lost-contact" }] }], "the alert", 90);
        world.StartAgent("plover-log-01");
        await Wait.UntilAsync(async () => (await world.Api.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items.All(l => l.Alerts[0].Check != "lost-contact"), "it to clear", 90);
        (await world.Api.GetAsync("alerts?all=true&check=lost-contact", WireJson.Default.PageAlertLine, default)).Items.ShouldHaveSingleItem().State.ShouldBe(AlertState.Cleared);
    }
}
