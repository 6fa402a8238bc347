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
        await using var browser = await Browser.OpenAsync(1280, 800);
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
    public async Task Hosts_of_one_place_that_are_lost_together_are_one_alert_by_mail_in_the_console_and_by_the_client_and_return()
    {
        string[] names = ["dunlin-log-01", "dunlin-log-02", "dunlin-display-01"];
        await using var told = new Told();
        await using var world = await World.StartAsync(options: _ => ["--hooks-may-reach", "127.0.0.1/32"]);
        await told.TellAsync(world);
        var token = await world.NewTokenAsync();
        var agents = new List<TestPrograms>();
        foreach (var name in names)
        {
            agents.Add(await world.JoinAsync(name, token));
        }
        var check = await world.Api.PostAsync("checks/settings", new CheckWish("lost-contact", HoldSeconds: 10), WireJson.Default.CheckWish, WireJson.Default.CheckInfo, default);
        check.Settings.ShouldHaveSingleItem();
        await Task.WhenAll(agents.Select(a => a.KillAsync()));
        await Wait.UntilAsync(async () => (await world.Api.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items.Any(l => l is { Severity: Severity.Critical, Alerts.Count: 3, Place: not null }), "the one line");
        await Wait.UntilAsync(() => told.Events("umbrek.alert.raised", "lost-contact") == 3 && told.Mails("went away together") > 0, "the events and the mail");
        await using var browser = await Browser.OpenAsync(1280, 800);
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GetByRole(AriaRole.Link, new() { Name = "Now" }).ClickAsync();
        await page.GetByText(new System.Text.RegularExpressions.Regex("3 of 3 hosts of Saltmarsh Ferry.* went away together")).First.WaitForAsync();
        await world.SignInClientAsync();
        (await world.ClientAsync(null, "alert", "list")).Stdout.ShouldContain("went away together");
        foreach (var name in names)
        {
            world.StartAgent(name);
        }
        await Wait.UntilAsync(async () => (await world.Api.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items.All(l => l.Alerts[0].Check != "lost-contact"), "them to clear");
        await page.GetByText("went away together").WaitForAsync(new() { State = WaitForSelectorState.Detached, Timeout = 120_000 });
        await Wait.UntilAsync(() => told.Events("umbrek.alert.cleared", "lost-contact") == 3, "the events that they are over");
        (await world.Api.GetAsync("alerts?all=true&check=lost-contact", WireJson.Default.PageAlertLine, default)).Items.SelectMany(l => l.Alerts).ShouldAllBe(a => a.State == AlertState.Cleared);
    }

    /// <summary>A computer of the made-up world with its past, run by its own program: its disk fills by three percent a day.</summary>
    [Fact]
    public async Task A_disk_that_fills_up_is_told_with_the_day_by_mail_web_hook_and_in_the_console()
    {
        await using var told = new Told();
        await using var world = await World.StartAsync(options: _ => ["--hooks-may-reach", "127.0.0.1/32"]);
        await told.TellAsync(world);
        await world.Api.PostAsync("checks/settings", new CheckWish("storage-filling", HoldSeconds: 10), WireJson.Default.CheckWish, WireJson.Default.CheckInfo, default);
        var began = DateTimeOffset.UtcNow;
        await using var host = TestPrograms.Start("umbrek-sim", ["host", "ripening-climate-02", "--service", $"{world.Address}", "--token", await world.NewTokenAsync(), "--data", world.In("simulated")]);
        await world.UntilAsync("ripening-climate-02", "linked");
        await Wait.UntilAsync(() => told.Events("will be full in") > 0 && told.Mails("will be full in") > 0, "the event and the mail", 400);
        var what = (await world.Api.GetAsync("alerts?check=storage-filling", WireJson.Default.PageAlertLine, default)).Items.ShouldHaveSingleItem().What;
        // From 93 % on at 3 % a day: the seven that are missing take two days and a third.
        var days = new[] { -6, 6 }.Select(hours => began.AddDays(7.0 / 3).AddHours(hours).ToString("dddd d MMMM", System.Globalization.CultureInfo.InvariantCulture));
        days.ShouldContain(day => what.Contains($"on {day}", StringComparison.Ordinal), what);
        await using var browser = await Browser.OpenAsync(1280, 800);
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GetByRole(AriaRole.Link, new() { Name = "Now" }).ClickAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = what }).First.ClickAsync();
        await page.GetByRole(AriaRole.Img, new() { NameRegex = new("Storage in use: .*an alert is raised at") }).WaitForAsync();
    }
}
