using System.Security.Cryptography;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Sessions;
using Umbrek.Wire.Shell;

namespace Umbrek.EndToEnd.Tests.Shell;

public sealed class ShellTests : IAsyncLifetime
{
    private World world = null!;

    public async ValueTask InitializeAsync()
    {
        world = await World.StartAsync();
        await world.JoinAsync("quay-ticket-01");
        await world.SignInClientAsync();
    }

    public ValueTask DisposeAsync() => world.DisposeAsync();

    private async Task<IReadOnlyList<ShellInfo>> ShellsAsync() =>
        (await world.Api.GetAsync($"hosts/{(await world.HostAsync("quay-ticket-01")).Id}/shells", WireJson.Default.PageShellInfo, default)).Items;

    [Fact]
    public async Task A_command_through_the_client_is_like_one_here()
    {
        var (status, stdout, stderr) = await world.ClientAsync("b\na\nc\n", "shell", "quay-ticket-01", "--", "sort; echo err >&2; exit 7");
        (status, stdout, stderr).ShouldBe((7, "a\nb\nc\n", "err\n"));
        (status, _, stderr) = await world.ClientAsync(null, "shell", "quay-ticket-01", "--", "no-such-program", "x");
        status.ShouldBe(127);
        stderr.ShouldContain("There is no program 'no-such-program'");
        (status, _, stderr) = await world.ClientAsync(null, "shell", "quay-ticket-01");
        status.ShouldBe(2);
        stderr.ShouldContain("needs a terminal");
        // Each was in the log before it ran, and none is left.
        (_, stdout, _) = await world.ClientAsync(null, "audit", "list", "--action", "shell.open");
        stdout.ShouldContain("sort; echo err");
        await Wait.UntilAsync(async () => (await ShellsAsync()).Count == 0, "no shell to be left");
    }

    [Fact]
    public async Task Bytes_arrive_as_they_were_though_the_line_breaks_in_the_middle()
    {
        await world.TakeOwnProcessAsync();
        var bytes = RandomNumberGenerator.GetBytes(12_000_000);
        await File.WriteAllBytesAsync(world.In("sent"), bytes);
        // The host stands still in the middle, so that the line breaks while both ways are full.
        var copying = TestPrograms.RunAsync("/bin/sh", ["-c", $"{TestPrograms.PathOf("umbrek")} shell quay-ticket-01 -- 'tee {world.In("there")} | (head -c 3000000; touch {world.In("half")}; sleep 3; cat)' < {world.In("sent")} > {world.In("back")}"], null, new Dictionary<string, string> { ["UMBREK_HOME"] = world.In("client") });
        await Wait.UntilAsync(() => File.Exists(world.In("half")), "half of it to be there");
        await world.Service.KillAsync();
        await world.StartServiceAsync();
        var (status, _, stderr) = await copying;
        status.ShouldBe(0, stderr);
        stderr.ShouldContain("Connecting again");
        (await File.ReadAllBytesAsync(world.In("there"))).ShouldBe(bytes);
        (await File.ReadAllBytesAsync(world.In("back"))).ShouldBe(bytes);
    }

    [Fact]
    public async Task Ending_the_session_ends_what_runs_in_it()
    {
        for (var i = 0; i < 5; i++)
        {
            var file = world.In($"pid-{i}");
            var running = world.ClientAsync(null, "shell", "quay-ticket-01", "--", $"echo $$ > {file}; exec sleep 1000");
            // At once, when hardly anybody knows that it runs.
            (await Task.Run(() => SpinWait.SpinUntil(() => File.Exists(file) && new FileInfo(file).Length > 0, TimeSpan.FromMinutes(1)))).ShouldBeTrue();
            var pid = (await File.ReadAllTextAsync(file)).Trim();
            var session = (await world.Api.GetAsync("sessions?live=true", WireJson.Default.PageSessionInfo, default)).Items.ShouldHaveSingleItem();
            await world.Api.PostAsync($"sessions/{session.Id}/end", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);
            await Wait.UntilAsync(() => !Directory.Exists($"/proc/{pid}"), "the command to end");
            var (status, _, stderr) = await running;
            status.ShouldNotBe(0, stderr);
        }
    }

    [Fact]
    public async Task What_has_scrolled_by_is_found_and_copied_and_what_is_pasted_is_marked_as_such()
    {
        await using var browser = await Browser.OpenAsync();
        var page = browser.Page;
        await page.Context.GrantPermissionsAsync(["clipboard-read", "clipboard-write"], new() { Origin = world.Address.GetLeftPart(UriPartial.Authority) });
        await browser.SignInAsync(world);
        await page.GotoAsync($"{world.Address}hosts/{(await world.HostAsync("quay-ticket-01")).Id}?panel=shell");
        await page.GetByRole(Microsoft.Playwright.AriaRole.Button, new() { NameRegex = new("^Open a shell on quay-ticket-01") }).ClickAsync();
        await page.GetByText("as root").First.WaitForAsync();
        var rows = page.Locator(".xterm-rows");
        async Task UntilShownAsync(string text) => await Wait.UntilAsync(async () => (await rows.TextContentAsync())!.Contains(text, StringComparison.Ordinal), $"'{text}' on the terminal");
        await page.Keyboard.TypeAsync("PS1=; clear; seq 1000 1999 | sed s/^/tide-/; echo all-$((6*7))\n");
        await UntilShownAsync("all-42");
        (await rows.TextContentAsync())!.ShouldNotContain("tide-1234");

        await page.GetByRole(Microsoft.Playwright.AriaRole.Button, new() { Name = "Find", Exact = true }).ClickAsync();
        var find = page.GetByLabel("Find in what quay-ticket-01 has shown");
        await find.FillAsync("tide-1234");
        await UntilShownAsync("tide-1234");
        await find.FillAsync("no such tide");
        await page.GetByText("It does not stand there.").WaitForAsync();
        await find.FillAsync("tide-1234");
        await find.PressAsync("Escape");
        // What was found is marked, and so it can be copied.
        await page.Keyboard.PressAsync("Control+Shift+C");
        await Wait.UntilAsync(async () => await page.EvaluateAsync<string>("navigator.clipboard.readText()") == "tide-1234", "it to be copied");

        // A program that asks for it is told what was pasted and what was typed (xterm control sequences, bracketed paste mode).
        await page.Keyboard.TypeAsync("clear; printf '\\033[?2004h'; cat -v\n");
        await Wait.UntilAsync(async () => !(await rows.TextContentAsync())!.Contains("tide-", StringComparison.Ordinal), "the screen to be cleared");
        await page.GetByLabel("Terminal of quay-ticket-01").EvaluateAsync("""
            el => {
              const data = new DataTransfer();
              data.setData("text/plain", "ebb\nflow");
              el.dispatchEvent(new ClipboardEvent("paste", { clipboardData: data, bubbles: true, cancelable: true }));
            }
            """);
        await UntilShownAsync("^[[200~ebb");
        await UntilShownAsync("flow^[[201~");
        browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task In_the_console_a_terminal_shows_full_screen_programs_and_comes_back_after_a_broken_line()
    {
        await world.TakeOwnProcessAsync();
        await using var browser = await Browser.OpenAsync();
        var page = browser.Page;
        await browser.SignInAsync(world);
        var host = await world.HostAsync("quay-ticket-01");
        await page.GotoAsync($"{world.Address}hosts/{host.Id}?panel=shell");
        await page.GetByRole(Microsoft.Playwright.AriaRole.Button, new() { NameRegex = new("^Open a shell on quay-ticket-01 of Saltmarsh Ferry") }).ClickAsync();
        var rows = page.Locator(".xterm-rows");
        async Task UntilShownAsync(string text) => await Wait.UntilAsync(async () => (await rows.AllTextContentsAsync()).Any(t => t.Contains(text, StringComparison.Ordinal)), $"'{text}' on the terminal");
        await page.GetByLabel("Terminal of quay-ticket-01").WaitForAsync();
        await Wait.UntilAsync(async () => (await ShellsAsync()).Count == 1, "the shell to begin");
        await page.GetByText("as root").First.WaitForAsync();
        await page.Keyboard.TypeAsync("PS1=; clear; X=kept; echo $((6*7))-lines; stty size\n");
        await UntilShownAsync("42-lines");
        // A program that takes the whole screen, with a colour of its own.
        await page.Keyboard.TypeAsync("printf '\\033[?1049h\\033[H\\033[38;2;200;100;50mfull-%s\\033[m' screen; read x; printf '\\033[?1049l'\n");
        await UntilShownAsync("full-screen");
        (await rows.EvaluateAsync<string>("el => getComputedStyle([...el.querySelectorAll('span')].find(s => s.textContent.includes('full-screen'))).color")).ShouldBe("rgb(200, 100, 50)");
        await page.Keyboard.TypeAsync("\n");
        await UntilShownAsync("42-lines");

        await world.Service.KillAsync();
        await page.GetByText("The line is broken; the shell goes on").WaitForAsync();
        await world.StartServiceAsync();
        await page.GetByText("The line is broken; the shell goes on").WaitForAsync(new() { State = Microsoft.Playwright.WaitForSelectorState.Detached });
        await page.Locator(".xterm").ClickAsync();
        await page.Keyboard.TypeAsync("echo $X-$((40+3))\n");
        await UntilShownAsync("kept-43");

        // It stays while another page is looked at, and several can be typed into at once.
        await page.GetByRole(Microsoft.Playwright.AriaRole.Button, new() { Name = "Another shell on quay-ticket-01" }).ClickAsync();
        await page.GetByRole(Microsoft.Playwright.AriaRole.Link, new() { Name = "Sessions" }).ClickAsync();
        await page.GetByRole(Microsoft.Playwright.AriaRole.Link, new() { Name = "Your shells (2)" }).ClickAsync();
        await Wait.UntilAsync(async () => (await ShellsAsync()).Count == 2, "both shells to go on");
        var boxes = page.GetByRole(Microsoft.Playwright.AriaRole.Checkbox);
        await boxes.Nth(1).WaitForAsync();
        await boxes.Nth(0).CheckAsync();
        await boxes.Nth(1).CheckAsync();
        await page.GetByText("What you type goes to").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBeEmpty();
        await page.Locator(".xterm").ClickAsync();
        await page.Keyboard.TypeAsync($"echo x >> {world.In("both")}; exit\n");
        await Wait.UntilAsync(() => File.Exists(world.In("both")) && File.ReadAllLines(world.In("both")).Length == 2, "both to get the keys");
        await page.GetByText("The shell has ended").WaitForAsync();
        await Wait.UntilAsync(async () => (await ShellsAsync()).Count == 0, "both to end");
    }
}
