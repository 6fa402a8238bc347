using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire.Enrolment;

namespace Umbrek.EndToEnd.Tests.Enrolment;

/// <summary>Joining in the browser: the technician's side, and the page for the person at the computer.</summary>
public sealed class JoinPageTests
{
    [Fact]
    public async Task An_installer_made_on_the_page_is_told_on_its_link_lets_a_host_in_and_can_be_revoked()
    {
        await using var world = await World.StartAsync();
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GetByRole(AriaRole.Link, new() { Name = "Join" }).First.ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "New installer" }).ClickAsync();
        await page.GetByPlaceholder("Choose").ClickAsync();
        await page.GetByRole(AriaRole.Option, new() { Name = "Saltmarsh Ferry ▸ Quay" }).ClickAsync();
        await page.GetByLabel("Note").FillAsync("for the landing stage");
        await page.GetByLabel("open a terminal").UncheckAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Make an installer for Saltmarsh Ferry ▸ Quay" }).ClickAsync();
        await page.GetByText("Nobody has used it yet").WaitForAsync();
        var link = await page.GetByLabel("A link for the person at the computer", new() { Exact = true }).InnerTextAsync();
        var silent = await page.GetByLabel("Where the agent program is at hand already", new() { Exact = true }).InnerTextAsync();
        var there = page.Url;

        await page.GotoAsync(link);
        await page.GetByText(World.Name).WaitForAsync();
        await page.GetByText("“for the landing stage”").WaitForAsync();
        (await page.GetByText("run commands").CountAsync()).ShouldBe(1);
        (await page.GetByText("open a terminal").CountAsync()).ShouldBe(0);
        var downloading = page.WaitForDownloadAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Download for Debian" }).ClickAsync();
        (await downloading).SuggestedFilename.ShouldEndWith("_amd64.deb");

        var token = silent.Split("--token ")[1].Trim();
        await world.EnrolAsync("quay-ticket-01", token);
        await page.GotoAsync(there);
        await page.GetByRole(AriaRole.Link, new() { Name = "quay-ticket-01" }).WaitForAsync();
        await page.GetByText("127.0.0.1").WaitForAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Revoke" }).ClickAsync();
        await page.GetByText("lets nobody in any more").WaitForAsync();
        var refused = await TestPrograms.RunAsync("umbrek-agent", ["enrol", "--service", $"{world.Address}", "--token", token, "--state", world.In("late")]);
        refused.Stderr.ShouldContain("revoked");
        await page.ReloadAsync();
        await page.GetByText("refused").WaitForAsync();
        await page.GotoAsync(link);
        await page.GetByRole(AriaRole.Alert).GetByText("revoked").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task Computers_that_wait_appear_by_themselves_and_are_let_in_or_turned_away_by_keyboard()
    {
        await using var world = await World.StartAsync();
        var installer = await world.NewInstallerAsync(new NewInstaller(World.Group, ApprovalNeeded: true));
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GetByRole(AriaRole.Link, new() { Name = "Join" }).First.ClickAsync();
        await page.GetByText("Saltmarsh Ferry ▸ Quay").WaitForAsync();
        await world.EnrolAsync("quay-ticket-01", installer.Token);
        await world.EnrolAsync("quay-ticket-02", installer.Token);
        await page.GetByText("2 computers wait to be let in").WaitForAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Join 2 waiting" }).WaitForAsync();
        world.StartAgent("quay-ticket-01");
        await page.GetByRole(AriaRole.Button, new() { Name = "Let quay-ticket-01 in" }).FocusAsync();
        await page.Keyboard.PressAsync("Enter");
        await page.GetByText("One computer waits to be let in").WaitForAsync();
        await world.UntilAsync("quay-ticket-01", "linked");
        await page.GetByRole(AriaRole.Button, new() { Name = "Turn quay-ticket-02 away" }).FocusAsync();
        await page.Keyboard.PressAsync("Enter");
        await page.GetByText("One computer waits to be let in").WaitForAsync(new() { State = WaitForSelectorState.Detached });
        var turnedAway = world.StartAgent("quay-ticket-02");
        await turnedAway.UntilSaidAsync("was not let in");
        browser.Complaints.ShouldBeEmpty();
    }
}
