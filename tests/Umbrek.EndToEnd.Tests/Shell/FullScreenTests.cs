using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Shell;

/// <summary>Programs that take the whole terminal, on a host of the test's own, in the console.</summary>
public sealed class FullScreenTests
{
    [Fact]
    public async Task An_editor_and_a_monitor_are_drawn_used_and_left()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        var host = await lan.AddAsync("quay-ticket-01");
        (await host.RunAsync(world.SilentLine(await world.NewInstallerAsync()))).Status.ShouldBe(0);
        await world.UntilAsync("quay-ticket-01", "linked");
        (await host.RunAsync("seq -f 'tide %.0f' 1 100 >/root/tide.txt")).Status.ShouldBe(0);

        await using var browser = await Browser.OpenAsync();
        var page = browser.Page;
        await browser.SignInAsync(world);
        await page.GotoAsync($"{world.Address}hosts/{(await world.HostAsync("quay-ticket-01")).Id}?panel=shell");
        await page.GetByRole(AriaRole.Button, new() { NameRegex = new("^Open a shell on quay-ticket-01 of Saltmarsh Ferry") }).ClickAsync();
        await page.GetByText("as root").First.WaitForAsync();
        var rows = page.Locator(".xterm-rows > div");
        async Task<string[]> RowsAsync() => [.. (await rows.AllTextContentsAsync()).Select(r => r.Replace('\u00a0', ' ').TrimEnd())];
        Task UntilAsync(Func<string[], bool> shown, string what) => Wait.UntilAsync(async () => shown(await RowsAsync()), what);

        await page.Keyboard.TypeAsync("PS1=; clear; echo before-$((6*7))\n");
        await UntilAsync(r => r.Contains("before-42"), "the shell");
        await page.Keyboard.TypeAsync("vim -u NONE -N -c 'set number ruler' /root/tide.txt\n");
        await UntilAsync(r => r[0] == "  1 tide 1" && r[1] == "  2 tide 2" && r[^1].Contains("1,1", StringComparison.Ordinal) && r[^1].EndsWith("Top", StringComparison.Ordinal), "the editor with the file's beginning");
        // To its end, a line more, saved and left.
        await page.Keyboard.TypeAsync("G");
        await UntilAsync(r => r[^2] == "100 tide 100" && r[^1].EndsWith("Bot", StringComparison.Ordinal), "its end");
        await page.Keyboard.TypeAsync("oebb at last");
        await UntilAsync(r => r[^2] == "101 ebb at last" && r[^1].StartsWith("-- INSERT --", StringComparison.Ordinal), "what is typed");
        await page.Keyboard.PressAsync("Escape");
        await page.Keyboard.TypeAsync(":wq\n");
        await UntilAsync(r => r[0] == "before-42", "what stood there before");
        (await host.RunAsync("tail -n 1 /root/tide.txt")).Stdout.ShouldBe("ebb at last\n");

        await page.Keyboard.TypeAsync("htop\n");
        await UntilAsync(r => r.Any(l => l.Contains("Load average", StringComparison.Ordinal)) && r.Any(l => l.Contains("sleep infinity", StringComparison.Ordinal)) && r[^1].Contains("F10Quit", StringComparison.Ordinal), "the monitor");
        // It fits itself to another size.
        await page.SetViewportSizeAsync(1000, 700);
        await UntilAsync(r => r[^1].Contains("F10Quit", StringComparison.Ordinal) && r.Any(l => l.Contains("Load average", StringComparison.Ordinal)), "the monitor in another size");
        await page.Keyboard.PressAsync("F10");
        await UntilAsync(r => r.Contains("before-42") && !r.Any(l => l.Contains("F10Quit", StringComparison.Ordinal)), "the shell again");
        await page.Keyboard.TypeAsync("exit\n");
        await page.GetByText("The shell has ended").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }
}
