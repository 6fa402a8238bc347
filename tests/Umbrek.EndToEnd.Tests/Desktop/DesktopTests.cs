using System.Globalization;
using System.Net.Sockets;
using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Umbrek.Core.Desktop;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;

namespace Umbrek.EndToEnd.Tests.Desktop;

/// <summary>A host with a real X server, seen from the console and from the client.</summary>
public sealed partial class DesktopTests : OnAScreen
{
    private const string Host = "quay-office-02";

    private Dictionary<string, string> Home => new() { ["UMBREK_HOME"] = World.In("client") };

    protected override async Task SetUpAsync()
    {
        await World.JoinAsync(Host);
        await World.SignInClientAsync();
    }

    private async Task<(Browser Browser, ILocator Glass)> OpenAsync(bool control)
    {
        var browser = await Browser.OpenAsync();
        await browser.SignInAsync(World);
        await browser.Page.GotoAsync($"{World.Address}hosts/{(await World.HostAsync(Host)).Id}");
        var panel = browser.Page.GetByRole(AriaRole.Region, new() { Name = "Desktop", Exact = true });
        await panel.Locator(".screen-row").Filter(new() { HasText = Screen.Display }).GetByRole(AriaRole.Link, new() { Name = control ? $"Control {Host}" : "Watch it" }).ClickAsync();
        await browser.Page.GetByText(control ? "You control" : "You watch").WaitForAsync();
        await browser.Page.GetByText($"screen {Screen.Display},").WaitForAsync();
        await browser.Page.Locator(".glass canvas").WaitForAsync();
        return (browser, browser.Page.Locator(".glass"));
    }

    /// <summary>A place of the host's screen, on the page.</summary>
    private static async Task<(float X, float Y)> PlaceAsync(ILocator glass, int x, int y, int width = 1280, int height = 800)
    {
        var box = (await glass.BoundingBoxAsync())!;
        return (box.X + box.Width * (x + 0.5f) / width, box.Y + box.Height * (y + 0.5f) / height);
    }

    /// <summary>The picture that the viewer saves is that of the X server, pixel for pixel, once both are still.</summary>
    private async Task IsSameAsync(Browser browser)
    {
        await Wait.UntilAsync(async () =>
        {
            var download = await browser.Page.RunAndWaitForDownloadAsync(() => browser.Page.GetByRole(AriaRole.Button, new() { Name = "Save a picture" }).ClickAsync());
            var file = World.In("viewer.png");
            await download.SaveAsAsync(file);
            await Screen.AskAsync("convert", $"png:{file}", "-depth", "8", $"rgb:{file}.rgb");
            return Enumerable.SequenceEqual(await File.ReadAllBytesAsync($"{file}.rgb"), (await Screen.PictureAsync()).Rgb);
        }, "the viewer to show what the X server shows");
    }

    [Fact]
    public async Task One_types_drags_copies_and_gives_the_screen_another_size_from_the_console()
    {
        await Screen.ManageAsync();
        var file = World.In("typed");
        Screen.Run("xterm", "-u8", "-title", "writing", "-geometry", "80x24+60+80", "-e", $"cat > {file}");
        await Wait.UntilAsync(() => Screen.ShowsAsync("writing"), "the window to be there");
        var (browser, glass) = await OpenAsync(control: true);
        await using (browser)
        {
            var page = browser.Page;
            (await browser.ViolationsAsync()).ShouldBe("");
            var (x, y) = await PlaceAsync(glass, 200, 250);
            var window = Regex.Match(await Screen.AskAsync("xwininfo", "-name", "writing"), "Window id: (0x[0-9a-f]+)").Groups[1].Value;
            await Wait.UntilAsync(async () =>
            {
                await page.Mouse.ClickAsync(x, y);
                return (await Screen.AskAsync("xprop", "-root", "_NET_ACTIVE_WINDOW")).Contains(window, StringComparison.Ordinal);
            }, "the window to have the keyboard");
            // Keys with Shift, and signs that no key of this keyboard has.
            const string sentence = "The Plover leaves at 7:45, berth 3 (Möwe & Söhne): 17 €.";
            await page.Keyboard.TypeAsync(sentence);
            await page.Keyboard.PressAsync("Enter");
            await Wait.UntilAsync(() => File.Exists(file) && File.ReadAllText(file).Contains('\n', StringComparison.Ordinal), "the sentence to arrive");
            (await File.ReadAllTextAsync(file)).ShouldBe(sentence + "\n");

            var before = await WindowAsync("writing");
            (x, y) = await PlaceAsync(glass, before.X + 150, before.Y - 8);
            var (toX, toY) = await PlaceAsync(glass, before.X + 150 + 220, before.Y - 8 + 140);
            await page.Mouse.MoveAsync(x, y);
            await page.Mouse.DownAsync();
            // As a hand does: it goes on until the window follows, and lets go where that has arrived.
            var shift = 0;
            await Wait.UntilAsync(async () =>
            {
                await page.Mouse.MoveAsync(x + (++shift % 30), y + shift % 30);
                return await WindowAsync("writing") != before;
            }, "the window to follow");
            await page.Mouse.MoveAsync(toX, toY, new() { Steps = 5 });
            await Wait.UntilAsync(async () => await WindowAsync("writing") is var now && Math.Abs(now.X - before.X - 220) < 6 && Math.Abs(now.Y - before.Y - 140) < 6, "the window to be dragged", 60);
            await page.Mouse.UpAsync();
            await IsSameAsync(browser);

            // From here to there, and from there to here.
            await page.GetByRole(AriaRole.Button, new() { Name = "Clipboards" }).ClickAsync();
            await page.GetByLabel("Here", new() { Exact = true }).FillAsync("für den Host:\nzwei Zeilen");
            await page.GetByRole(AriaRole.Button, new() { Name = $"Send it to {Host}" }).ClickAsync();
            await Wait.UntilAsync(async () => await Screen.TryAskAsync("xclip", "-selection", "clipboard", "-o") == "für den Host:\nzwei Zeilen", "the host to have it");
            var owner = Screen.Run("xclip", "-selection", "clipboard", "-i");
            await owner.StandardInput.WriteAsync("dort kopiert: 5 €");
            owner.StandardInput.Close();
            await page.GetByText("Something was copied there").WaitForAsync();
            await page.GetByRole(AriaRole.Button, new() { Name = $"Get it from {Host}" }).ClickAsync();
            await Assertions.Expect(page.GetByLabel($"On {Host}")).ToHaveValueAsync("dort kopiert: 5 €");
            await page.Keyboard.PressAsync("Escape");

            await page.GetByRole(AriaRole.Button, new() { Name = "1280 x 800" }).ClickAsync();
            await page.GetByRole(AriaRole.Menuitem, new() { Name = "1024 x 768" }).ClickAsync();
            await page.GetByRole(AriaRole.Button, new() { Name = "1024 x 768" }).WaitForAsync();
            (await Screen.AskAsync("xdpyinfo")).ShouldContain("1024x768 pixels");
            await IsSameAsync(browser);
            browser.Complaints.ShouldBeEmpty();
        }
        var line = (await World.Api.GetAsync("audit?action=desktop.control", WireJson.Default.PageAuditInfo, default)).Items.ShouldHaveSingleItem();
        line.Target.ShouldContain(Host);
    }

    [Fact]
    public async Task Who_watches_sees_all_of_it_and_a_screen_that_goes_is_followed_by_the_next()
    {
        var keys = World.In("keys");
        Screen.Run("xterm", "-geometry", "80x24+0+0", "-e", $"cat > {keys}");
        var (browser, glass) = await OpenAsync(control: false);
        await using (browser)
        {
            var page = browser.Page;
            await IsSameAsync(browser);
            await page.GetByRole(AriaRole.Button, new() { Name = "Look at the line" }).ClickAsync();
            await page.GetByText("a whole picture of").WaitForAsync();
            (await page.GetByText("there and back").TextContentAsync())!.ShouldNotContain("0.0 kB");
            await page.GetByRole(AriaRole.Button, new() { Name = "Put this word away" }).ClickAsync();
            await page.GetByText("there and back").WaitForAsync(new() { State = WaitForSelectorState.Detached });
            await IsSameAsync(browser);
            var (x, y) = await PlaceAsync(glass, 100, 100);
            await page.Mouse.ClickAsync(x, y);
            await page.Keyboard.TypeAsync("nothing\n");
            (await page.GetByRole(AriaRole.Button, new() { Name = "Clipboards" }).CountAsync()).ShouldBe(0);

            Screen.Kill();
            await page.GetByText("The next screen that comes is shown.").WaitForAsync();
            var next = await World.OpenScreenAsync("800x600x24", Screen.Number);
            await next.AskAsync("xsetroot", "-solid", "#775533");
            await page.GetByText("The next screen that comes is shown.").WaitForAsync(new() { State = WaitForSelectorState.Detached });
            await page.GetByText("You watch").WaitForAsync();
            await Wait.UntilAsync(async () => await page.Locator(".glass canvas").EvaluateAsync<double>("(c) => c.getBoundingClientRect().width / c.getBoundingClientRect().height") is > 1.32 and < 1.34, "the new screen to be shown in its proportions");
            File.ReadAllText(keys).ShouldBe("");
            browser.Complaints.ShouldBeEmpty();
        }
    }

    [Fact]
    public async Task Of_several_monitors_one_is_shown_or_all_or_each_in_a_window()
    {
        await Screen.AskAsync("xrandr", "--setmonitor", "west", "800/210x800/210+0+0", "screen");
        await Screen.AskAsync("xrandr", "--setmonitor", "east", "480/127x800/210+800+0", "none");
        await Screen.AskAsync("xsetroot", "-solid", "#446688");
        var (browser, glass) = await OpenAsync(control: false);
        await using (browser)
        {
            var page = browser.Page;
            await page.GetByText("All monitors").WaitForAsync();
            // Two in one row: the one at the right is as wide as it is high times 0.6.
            async Task<double> ProportionAsync(IPage of) => await of.Locator(".glass").EvaluateAsync<double>("(g) => g.getBoundingClientRect().width / g.getBoundingClientRect().height");
            await page.GetByText("Monitor 2", new() { Exact = true }).ClickAsync();
            await Wait.UntilAsync(async () => await ProportionAsync(page) is > 0.59 and < 0.61, "the right one to be shown");
            await page.GetByText("All monitors").ClickAsync();
            await Wait.UntilAsync(async () => await ProportionAsync(page) is > 1.59 and < 1.61, "both to be shown");
            (await browser.ViolationsAsync()).ShouldBe("");
            var first = page.WaitForPopupAsync();
            await page.GetByRole(AriaRole.Button, new() { Name = "Each in its own window" }).ClickAsync();
            await first;
            await Wait.UntilAsync(() => page.Context.Pages.Count(p => p.Url.Contains("monitor=", StringComparison.Ordinal)) == 2, "two windows");
            foreach (var window in page.Context.Pages.Where(p => p.Url.Contains("monitor=", StringComparison.Ordinal)))
            {
                var (least, most) = window.Url.Contains("monitor=0", StringComparison.Ordinal) ? (0.99, 1.01) : (0.59, 0.61);
                await Wait.UntilAsync(async () => await ProportionAsync(window) is var p && p > least && p < most, "a window to show its monitor");
            }
            browser.Complaints.ShouldBeEmpty();
        }
    }

    [Fact]
    public async Task Many_screens_stand_side_by_side_and_one_is_opened_by_a_click()
    {
        await Screen.AskAsync("xsetroot", "-solid", "#c03060");
        var browser = await Browser.OpenAsync();
        await using (browser)
        {
            await browser.SignInAsync(World);
            await browser.Page.GotoAsync($"{World.Address}hosts/screens");
            var tile = browser.Page.GetByRole(AriaRole.Link, new() { Name = $"Watch {Host} of Saltmarsh Ferry" });
            // The colour of the host's screen, in the middle of its small picture.
            async Task<string> ColourAsync() => await tile.Locator("canvas").EvaluateAsync<string>("(c) => [...c.getContext('2d').getImageData(c.width / 2, c.height / 2, 1, 1).data].join(' ')");
            await Wait.UntilAsync(async () => await ColourAsync() == "192 48 96 255", "the screen to be there");
            (await tile.Locator("canvas").EvaluateAsync<int>("(c) => c.width")).ShouldBe(320);
            (await browser.ViolationsAsync()).ShouldBe("");
            await Screen.AskAsync("xsetroot", "-solid", "#103050");
            await Wait.UntilAsync(async () => await ColourAsync() == "16 48 80 255", "what changes to be shown");
            await tile.ClickAsync();
            await browser.Page.GetByText("You watch").WaitForAsync();
            browser.Complaints.ShouldBeEmpty();
        }
    }

    [Fact]
    public async Task The_client_saves_a_picture_and_lets_a_viewer_in()
    {
        await Screen.AskAsync("xsetroot", "-solid", "#20507a");
        Screen.Run("xlogo", "-geometry", "300x200+200+150");
        var file = World.In("picture.png");
        await Wait.UntilAsync(async () =>
        {
            var (status, _, stderr) = await TestPrograms.RunAsync("umbrek", ["desktop", Host, "--screen", Screen.Display, "--snapshot", file], null, Home);
            status.ShouldBe(0, stderr);
            stderr.ShouldContain($"the screen {Screen.Display} of {Host}, Saltmarsh Ferry/Quay, 1280 x 800.");
            await Screen.AskAsync("convert", $"png:{file}", "-depth", "8", $"rgb:{file}.rgb");
            return Enumerable.SequenceEqual(await File.ReadAllBytesAsync($"{file}.rgb"), (await Screen.PictureAsync()).Rgb);
        }, "the picture to be that of the screen");

        var (listed, stdout, _) = await TestPrograms.RunAsync("umbrek", ["desktop", Host, "--list", "--output", "json"], null, Home);
        listed.ShouldBe(0);
        stdout.ShouldContain($"\"name\":\"{Screen.Display}\"");

        await using var listening = TestPrograms.Start("umbrek", ["desktop", Host, "--screen", Screen.Display, "--listen", "127.0.0.1:0"], Home);
        await Wait.UntilAsync(() => listening.Lines.Any(l => l.Contains("controls", StringComparison.Ordinal)), "it to listen");
        var port = int.Parse(Port().Match(listening.Lines.First(l => l.Contains("controls", StringComparison.Ordinal))).Groups[1].Value, CultureInfo.InvariantCulture);
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        using var tcp = new TcpClient();
        await tcp.ConnectAsync("127.0.0.1", port, limit.Token);
        using var viewer = new RfbViewer(tcp.GetStream());
        await viewer.BeginAsync(true, limit.Token);
        await viewer.TakeAsync([RfbEncoding.Zrle], limit.Token);
        await viewer.AskAsync(false, limit.Token);
        (await viewer.HearAsync(limit.Token)).ShouldBe(RfbHeard.Picture);
        var picture = await Screen.PictureAsync();
        for (var i = 0; i < picture.Rgb.Length / 3; i++)
        {
            viewer.Image.Pixels[i].ShouldBe((uint)(picture.Rgb[3 * i] << 16 | picture.Rgb[3 * i + 1] << 8 | picture.Rgb[3 * i + 2]));
        }
        var keys = World.In("keys");
        Screen.Run("xterm", "-title", "writing", "-geometry", "80x24+600+100", "-e", $"cat > {keys}");
        await Wait.UntilAsync(() => Screen.ShowsAsync("writing"), "the window to be there");
        await viewer.MouseAsync(700, 200, 0, limit.Token);
        foreach (var key in new uint[] { 'P', 'l', '3', 0xFF0D })
        {
            await viewer.KeyAsync(true, key, limit.Token);
            await viewer.KeyAsync(false, key, limit.Token);
        }
        await Wait.UntilAsync(() => File.Exists(keys) && File.ReadAllText(keys) == "Pl3\n", "what was typed to be there");

        // Rubbish ends that one viewer, and nothing else.
        await tcp.GetStream().WriteAsync(new byte[] { 99, 99, 99 }, limit.Token);
        await Wait.UntilAsync(() => listening.Lines.Any(l => l.Contains("no RFB", StringComparison.Ordinal)), "what it says to be told");
        using var again = new TcpClient(AddressFamily.InterNetwork);
        await again.ConnectAsync("127.0.0.1", port, limit.Token);
        using var second = new RfbViewer(again.GetStream());
        await second.BeginAsync(true, limit.Token);
        second.Image.Width.ShouldBe(1280);

        // Another user of this computer gets nowhere.
        var (_, _, complained) = await TestPrograms.RunAsync("/usr/bin/setpriv", ["--reuid=65534", "--clear-groups", "/bin/bash", "-c", $"exec 3<>/dev/tcp/127.0.0.1/{port}; head -c 4 <&3 | wc -c"]);
        complained.ShouldNotContain("refused");
        await Wait.UntilAsync(() => listening.Lines.Any(l => l.Contains("Another user", StringComparison.Ordinal)), "it to be told");
    }

    private async Task<(int X, int Y)> WindowAsync(string title)
    {
        var said = await Screen.AskAsync("xwininfo", "-name", title);
        int Number(string what) => int.Parse(Regex.Match(said, what + @":\s+(-?\d+)").Groups[1].Value, CultureInfo.InvariantCulture);
        return (Number("Absolute upper-left X"), Number("Absolute upper-left Y"));
    }

    [GeneratedRegex(@"127\.0\.0\.1:(\d+)")]
    private static partial Regex Port();
}
