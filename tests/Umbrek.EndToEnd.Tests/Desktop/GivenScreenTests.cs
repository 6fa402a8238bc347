using System.Globalization;
using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;

namespace Umbrek.EndToEnd.Tests.Desktop;

/// <summary>A host without a screen, which is given one.</summary>
public sealed class GivenScreenTests : IAsyncLifetime
{
    private const string Host = "plover-log-01";
    private const string Tomasz = "Tomasz Vail";

    private World World { get; set; } = null!;

    public async ValueTask InitializeAsync()
    {
        World = await World.StartAsync();
        await World.EnrolAsync(Host);
        World.StartAgent(Host);
        await World.UntilAsync(Host, "linked");
        await World.SignInClientAsync();
    }

    public async ValueTask DisposeAsync()
    {
        // Without its file it goes.
        foreach (var file in Files())
        {
            File.Delete(file);
        }
        await World.DisposeAsync();
    }

    private string[] Files() => Directory.Exists(Path.Combine(World.StateOf(Host), "screens")) ? Directory.GetFiles(Path.Combine(World.StateOf(Host), "screens")) : [];

    [Fact]
    public async Task Whoever_comes_to_control_it_has_a_terminal_and_draws_with_what_is_installed_there()
    {
        var (status, _, stderr) = await World.ClientAsync(null, "desktop", Host, "--snapshot", World.In("none.png"));
        (status, stderr).ShouldBe((1, $"{Host}: This host has no screen: no X server runs on it. It is given one when somebody comes to control it.\n"));
        (await World.ClientAsync(null, "desktop", Host, "--list")).Stdout.ShouldContain("has no screen");

        await using var browser = await Browser.OpenAsync();
        var page = browser.Page;
        await browser.SignInAsync(World);
        await page.GotoAsync($"{World.Address}hosts/{(await World.HostAsync(Host)).Id}");
        var panel = page.GetByRole(AriaRole.Region, new() { Name = "Desktop", Exact = true });
        await panel.GetByText($"{Host} has no screen. It is given one").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");
        await panel.GetByRole(AriaRole.Link, new() { Name = $"Control {Host}" }).ClickAsync();
        await page.GetByText("You control").WaitForAsync();
        await page.Locator(".glass canvas").WaitForAsync();
        var name = Regex.Match((await page.GetByText(new Regex("screen :\\d+")).First.TextContentAsync())!, ":\\d+").Value;
        await using var screen = VirtualScreen.Of(name, Files().ShouldHaveSingleItem());
        await Wait.UntilAsync(async () => (await screen.TryAskAsync("xdotool", "search", "--onlyvisible", "--class", "xterm")) is { Length: > 0 }, "the terminal");

        // A file is drawn in a program that is started there, all by the console's mouse and keyboard.
        var (file, reads) = (World.In("berth.xbm"), World.In("reads"));
        await File.WriteAllTextAsync(file, $"#define berth_width 16\n#define berth_height 16\nstatic unsigned char berth_bits[] = {{\n{string.Join(", ", Enumerable.Repeat("0x00", 32))} }};\n");
        await Wait.UntilAsync(async () =>
        {
            // The shell may not read yet.
            await ClickAsync(page, 300, 300);
            await page.Keyboard.TypeAsync($"touch {reads}\n");
            return File.Exists(reads);
        }, "the terminal to read");
        await page.Keyboard.TypeAsync($"bitmap -geometry 700x560+400+120 {file} &\n");
        await Wait.UntilAsync(() => screen.ShowsAsync("bitmap"), "the drawing program");
        var (x, y, width, height) = await WindowAsync(screen, "bitmap");
        await Wait.UntilAsync(async () =>
        {
            await MoveAsync(page, x + width / 2, y + height / 3);
            await page.Mouse.DownAsync();
            await MoveAsync(page, x + width * 3 / 4, y + height * 3 / 4, steps: 25);
            await page.Mouse.UpAsync();
            await page.Keyboard.PressAsync("Control+s");
            return Bits(await File.ReadAllTextAsync(file)) >= 4;
        }, "the drawing to be saved");

        (await World.Api.GetAsync("audit?action=desktop.give-screen", WireJson.Default.PageAuditInfo, default)).Items.Select(l => l.Actor).ShouldBe([World.Name]);
        (await World.ClientAsync(null, "desktop", Host, "--list")).Stdout.ShouldContain("technicians: the host was given it");
        (status, _, stderr) = await World.ClientAsync(null, "desktop", Host, "--snapshot", World.In("given.png"));
        status.ShouldBe(0, stderr);

        // One that is there already is no way around the policy.
        await DoneAsync(null, "policy", "set", Host, "--give-screen", "no");
        await page.GotoAsync($"{World.Address}hosts/{(await World.HostAsync(Host)).Id}/desktop?as=control");
        await page.GetByText("Its host policy does not have it given one.").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task It_is_not_given_where_the_policy_says_no_or_to_who_may_open_no_shell()
    {
        await DoneAsync(World.Password + "\n", "technician", "new", Tomasz, "--password-stdin");
        await DoneAsync(null, "role", "new", "hands alone", "--may", "watch", "--may", "control");
        await DoneAsync(null, "access", "grant", "hands alone", "--to", Tomasz, "--on", World.Group);
        await using var theirs = await Browser.OpenAsync();
        await theirs.SignInAsync(World, Tomasz);
        var host = (await World.HostAsync(Host)).Id;
        var panel = theirs.Page.GetByRole(AriaRole.Region, new() { Name = "Desktop", Exact = true });
        await theirs.Page.GotoAsync($"{World.Address}hosts/{host}");
        await panel.GetByText($"{Host} has no screen. It is given one").WaitForAsync();
        await panel.GetByRole(AriaRole.Link, new() { Name = $"Control {Host}" }).WaitForAsync(new() { State = WaitForSelectorState.Detached });
        await theirs.Page.GotoAsync($"{World.Address}hosts/{host}/desktop?as=control");
        await theirs.Page.GetByText("so it takes the permission shell beside control").WaitForAsync();
        Files().ShouldBeEmpty();

        await DoneAsync(null, "policy", "set", Host, "--give-screen", "no");
        await theirs.Page.GotoAsync($"{World.Address}hosts/{host}");
        await panel.GetByText("its host policy does not have it given one").WaitForAsync();
        await using var hers = await Browser.OpenAsync();
        await hers.SignInAsync(World);
        await hers.Page.GotoAsync($"{World.Address}hosts/{host}/desktop?as=control");
        await hers.Page.GetByText("Its host policy does not have it given one.").WaitForAsync();
        Files().ShouldBeEmpty();
    }

    private async Task DoneAsync(string? input, params string[] arguments)
    {
        var (status, _, stderr) = await World.ClientAsync(input, arguments);
        status.ShouldBe(0, stderr);
    }

    private static async Task MoveAsync(IPage page, int x, int y, int steps = 1)
    {
        var canvas = (await page.Locator(".glass canvas").BoundingBoxAsync())!;
        await page.Mouse.MoveAsync(canvas.X + canvas.Width * (x + 0.5f) / 1280, canvas.Y + canvas.Height * (y + 0.5f) / 800, new() { Steps = steps });
    }

    private static async Task ClickAsync(IPage page, int x, int y)
    {
        await MoveAsync(page, x, y);
        await page.Mouse.DownAsync();
        await page.Mouse.UpAsync();
    }

    private static async Task<(int X, int Y, int Width, int Height)> WindowAsync(VirtualScreen screen, string title)
    {
        var said = await screen.AskAsync("xwininfo", "-name", title);
        int Number(string what) => int.Parse(Regex.Match(said, what + @":\s+(-?\d+)").Groups[1].Value, CultureInfo.InvariantCulture);
        return (Number("Absolute upper-left X"), Number("Absolute upper-left Y"), Number("Width"), Number("Height"));
    }

    /// <summary>How many dots of a picture in the X bitmap format are set.</summary>
    private static int Bits(string picture) =>
        Regex.Matches(picture, "0x([0-9a-f]{2})").Sum(m => int.PopCount(int.Parse(m.Groups[1].Value, NumberStyles.HexNumber, CultureInfo.InvariantCulture)));
}
