using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Umbrek.Core.Desktop;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Sessions;

namespace Umbrek.EndToEnd.Tests.Desktop;

/// <summary>A real screen that is recorded, looked at again in the console, and made into a film.</summary>
public sealed class RecordedDesktopTests : OnAScreen
{
    private const string Host = "quay-office-02";
    private const string Secret = "seven Gulls over 9 harbours";

    private Dictionary<string, string> Home => new() { ["UMBREK_HOME"] = World.In("client") };

    protected override async Task SetUpAsync()
    {
        await Screen.ManageAsync();
        await Screen.AskAsync("xsetroot", "-solid", "#20507a");
        await World.JoinAsync(Host);
        await World.SignInClientAsync();
    }

    private async Task<RecordingInfo> EndedAsync()
    {
        RecordingInfo? info = null;
        await Wait.UntilAsync(async () => (info = (await World.Api.GetAsync("recordings", WireJson.Default.PageRecordingInfo, default)).Items is [var newest, ..] ? newest : null)?.EndedAt is not null, "the recording to end");
        return info!;
    }

    [Fact]
    public async Task What_was_done_at_a_desktop_is_seen_again_and_a_secret_that_was_typed_is_not()
    {
        (await World.ClientAsync(null, "policy", "set", "everything", "--record", "keys")).Status.ShouldBe(0);
        await File.WriteAllTextAsync(World.In("secret"), Secret);
        (await World.ClientAsync(null, "secret", "keep", Host, "--logon", "till", "--user", "wynn", "--file", World.In("secret"))).Status.ShouldBe(0);
        (await World.ClientAsync(null, "secret", "type", "till", "--on", Host)).Stderr.ShouldContain("You control no desktop");
        var file = World.In("typed");
        // What asks for a secret does not show it.
        Screen.Run("xterm", "-title", "logon", "-geometry", "80x24+60+80", "-e", $"stty -echo; cat > {file}");
        await Wait.UntilAsync(() => Screen.ShowsAsync("logon"), "the window to be there");
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(World);
        var page = browser.Page;
        await page.GotoAsync($"{World.Address}hosts/{(await World.HostAsync(Host)).Id}/desktop?as=control&screen={Screen.Display}");
        await page.GetByText("What it shows and what you type is recorded").WaitForAsync();
        await page.GetByText($"screen {Screen.Display},").WaitForAsync();
        var window = Regex.Match(await Screen.AskAsync("xwininfo", "-name", "logon"), "Window id: (0x[0-9a-f]+)").Groups[1].Value;
        await Wait.UntilAsync(async () =>
        {
            // It has its size once there is a picture.
            var box = (await page.Locator(".glass").BoundingBoxAsync())!;
            await page.Mouse.ClickAsync(box.X + box.Width * 0.2f, box.Y + box.Height * 0.3f);
            return (await Screen.AskAsync("xprop", "-root", "_NET_ACTIVE_WINDOW")).Contains(window, StringComparison.Ordinal);
        }, "the window to have the keyboard");
        await page.Keyboard.TypeAsync("wynn\n");
        await Wait.UntilAsync(() => File.Exists(file) && File.ReadAllText(file) == "wynn\n", "what was typed to arrive");
        await page.GetByRole(AriaRole.Button, new() { Name = "Type a secret" }).ClickAsync();
        await page.GetByRole(AriaRole.Menuitem, new() { Name = "till, then Enter" }).ClickAsync();
        await page.GetByText("The secret “till” was typed.").WaitForAsync();
        await Wait.UntilAsync(() => File.ReadAllText(file) == $"wynn\n{Secret}\n", "the secret to arrive, whole");
        Screen.Run("xlogo", "-title", "tide", "-geometry", "300x200+800+400");
        await Wait.UntilAsync(() => Screen.ShowsAsync("tide"), "another window to be there");
        // What comes to the viewer is recorded before: the picture that it has last is in it.
        var last = await PictureOfAsync(page, ".glass canvas", async rgb => Enumerable.SequenceEqual(rgb, (await Screen.PictureAsync()).Rgb));
        await page.GetByRole(AriaRole.Link, new() { Name = "Leave" }).ClickAsync();
        var info = await EndedAsync();
        (info.Kind, info.HasKeys).ShouldBe((RecordingKind.Desktop, true));

        await page.GotoAsync($"{World.Address}sessions/recordings");
        await page.GetByRole(AriaRole.Link, new() { Name = $"Watch what {World.Name} did on {Host}" }).ClickAsync();
        await page.GetByText("16×", new() { Exact = true }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Play" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Again" }).WaitForAsync();
        await PictureOfAsync(page, ".replay canvas", rgb => Task.FromResult(Enumerable.SequenceEqual(rgb, last)));
        await page.GetByLabel("What was typed last").GetByText("wynn↵").WaitForAsync();
        var happened = page.GetByRole(AriaRole.List, new() { Name = "What happened" });
        await happened.GetByText("a secret is typed, unseen: till").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");
        // Back at its beginning there is no window of the tide.
        await page.GetByRole(AriaRole.Slider, new() { Name = "Where in the recording" }).PressAsync("Home");
        await PictureOfAsync(page, ".replay canvas", rgb => Task.FromResult(!Enumerable.SequenceEqual(rgb, last)));
        await page.GetByRole(AriaRole.Button, new() { Name = "Make a film" }).ClickAsync();
        var saving = page.WaitForDownloadAsync();
        await page.GetByRole(AriaRole.Button, new() { NameRegex = new("^Save the film") }).ClickAsync();
        (await File.ReadAllBytesAsync((await (await saving).PathAsync())!)).AsSpan(0, 4).ToArray().ShouldBe([0x1A, 0x45, 0xDF, 0xA3], "as WebM begins");
        browser.Complaints.ShouldBeEmpty();

        // What is typed unseen is in no recording and no log.
        var marks = (await World.ClientAsync(null, "recording", "marks", $"{info.Id}")).Stdout;
        marks.ShouldContain("a secret is typed, unseen: till");
        (await World.ClientAsync(null, "recording", "watch", $"{info.Id}")).Stderr.ShouldContain("can't be shown in a terminal");
        (await World.ClientAsync(null, "session", "acts", $"{info.SessionId}")).Stdout.ShouldContain("secret.use");
        var saved = World.In("counter.screen");
        (await World.ClientAsync(null, "recording", "save", $"{info.Id}", saved)).Stdout.ShouldContain("unchanged since it was recorded");
        (await KeysAsync(saved)).ShouldBe("wynn\uFF0D");
        foreach (var log in Directory.EnumerateFiles(World.In("service"), "*", SearchOption.AllDirectories))
        {
            System.Text.Encoding.Latin1.GetString(await File.ReadAllBytesAsync(log)).ShouldNotContain(Secret, Case.Sensitive, log);
        }
    }

    private static async Task<string> KeysAsync(string file)
    {
        await using var content = File.OpenRead(file);
        var tape = new TapeReader(content);
        await tape.ReadHeaderAsync(default);
        var keys = new List<char>();
        while (await tape.ReadAsync(default) is { } entry)
        {
            if (entry.Kind == TapeKinds.Key && entry.IsSet("down"))
            {
                keys.Add((char)entry.Number("sym")!.Value);
            }
        }
        return string.Concat(keys);
    }

    /// <summary>What a canvas of the page shows, once it is as it should be: three bytes a pixel.</summary>
    private static async Task<byte[]> PictureOfAsync(IPage page, string canvas, Func<byte[], Task<bool>> isIt)
    {
        byte[] rgb = [];
        await Wait.UntilAsync(async () =>
        {
            var packed = await page.Locator(canvas).EvaluateAsync<string>("""
                async shown => {
                  const copy = new OffscreenCanvas(shown.width, shown.height);
                  const context = copy.getContext("2d");
                  context.drawImage(shown, 0, 0);
                  const pixels = context.getImageData(0, 0, copy.width, copy.height).data;
                  const rgb = new Uint8Array((pixels.length / 4) * 3);
                  for (let i = 0, j = 0; i < pixels.length; i += 4) for (let k = 0; k < 3; k++) rgb[j++] = pixels[i + k];
                  const reader = new FileReader();
                  reader.readAsDataURL(new Blob([rgb]));
                  await new Promise(done => (reader.onload = done));
                  return reader.result.slice(reader.result.indexOf(",") + 1);
                }
                """);
            rgb = Convert.FromBase64String(packed);
            return await isIt(rgb);
        }, $"{canvas} to show what it should");
        return rgb;
    }

    [Fact]
    public async Task The_client_records_what_it_sees()
    {
        var file = World.In("counter.screen");
        await using (var recording = TestPrograms.Start("umbrek", ["desktop", Host, "--screen", Screen.Display, "--record", file], Home))
        {
            await Wait.UntilAsync(() => recording.Lines.Any(l => l.Contains("Recording the screen", StringComparison.Ordinal)), "it to record");
            Screen.Run("xlogo", "-title", "tide", "-geometry", "300x200+800+400");
            await Wait.UntilAsync(() => Screen.ShowsAsync("tide"), "a window to be there");
            var rgb = (await Screen.PictureAsync()).Rgb;
            await Wait.UntilAsync(async () => (await LastAsync(file)) is { } image && Rgb(image).AsSpan().SequenceEqual(rgb), "it to be recorded");
            TestPrograms.Signal(recording.Pid, 2).ShouldBe(0);
            await Wait.UntilAsync(() => recording.Lines.Any(l => l.Contains("recorded.", StringComparison.Ordinal)), "it to end");
        }
        (await TestPrograms.RunAsync("umbrek", ["desktop", Host, "--record", file], null, Home)).Stderr.ShouldContain("is there already");
        (await TestPrograms.RunAsync("umbrek", ["desktop", Host, "--record", file, "--snapshot", "x.png"], null, Home)).Stderr.ShouldContain("Say what to do");
    }

    [Fact]
    public async Task A_viewer_of_ones_own_is_recorded_while_the_screen_is_hidden_and_locked_when_it_goes()
    {
        var file = World.In("counter.screen");
        Screen.Run("xlogo", "-title", "tide", "-geometry", "300x200+800+400", "-bg", "#c05010");
        await Wait.UntilAsync(() => Screen.ShowsAsync("tide"), "a window to be there");
        await using var listening = TestPrograms.Start("umbrek", ["desktop", Host, "--screen", Screen.Display, "--listen", "127.0.0.1:0", "--record", file, "--hide-screen", "--lock-after"], Home);
        bool Says(string what) => listening.Lines.Any(l => l.Contains(what, StringComparison.Ordinal));
        await Wait.UntilAsync(() => Says("controls"), "it to listen");
        var port = int.Parse(Regex.Match(listening.Lines.First(l => l.Contains("controls", StringComparison.Ordinal)), @"127\.0\.0\.1:(\d+)").Groups[1].Value, System.Globalization.CultureInfo.InvariantCulture);
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(120));
        ScreenImage seen;
        using (var tcp = new System.Net.Sockets.TcpClient())
        {
            await tcp.ConnectAsync("127.0.0.1", port, limit.Token);
            using var viewer = new RfbViewer(tcp.GetStream());
            await viewer.BeginAsync(true, limit.Token);
            await viewer.TakeAsync([RfbEncoding.Zrle], limit.Token);
            await viewer.AskAsync(false, limit.Token);
            (await viewer.HearAsync(limit.Token)).ShouldBe(RfbHeard.Picture);
            await Wait.UntilAsync(() => Says("the screen is locked when the viewer goes."), "the host to have heard all of it");
            Says("the screen is hidden from them until then.").ShouldBeTrue();
            Says("not all of that").ShouldBeFalse();
            (await Screen.PictureAsync()).Rgb.Take(3).ShouldBe([0, 0, 0]);
            await viewer.AskAsync(false, limit.Token);
            (await viewer.HearAsync(limit.Token)).ShouldBe(RfbHeard.Picture);
            viewer.Image.Pixels[0].ShouldBe(0x20507Au);
            viewer.Image.Row(590)[1090].ShouldBe(0xC05010u);
            seen = viewer.Image;
            await Wait.UntilAsync(async () => (await LastAsync(file)) is { } image && image.Pixels.AsSpan().SequenceEqual(seen.Pixels), "it to be recorded");
        }
        await Wait.UntilAsync(() => Says("The viewer has gone"), "it to be told");
        await Wait.UntilAsync(async () => (await World.ClientAsync(null, "audit", "list", "--action", "desktop.lock")).Stdout.Contains(Host, StringComparison.Ordinal), "it to be locked");
        (await Screen.AskAsync("xdotool", "search", "--class", "i3lock")).Trim().ShouldNotBeEmpty();
        TestPrograms.Signal(listening.Pid, 2).ShouldBe(0);
        await Wait.UntilAsync(() => Says("recorded."), "it to end");
    }

    private static async Task<ScreenImage?> LastAsync(string file)
    {
        await using var content = new FileStream(file, FileMode.Open, FileAccess.Read, FileShare.ReadWrite);
        var tape = new TapeReader(content);
        await tape.ReadHeaderAsync(default);
        using var show = new TapeShow(tape, new NoJpeg(), null);
        await show.BeginAsync(default);
        while (show.Next is not null)
        {
            await show.GoOnAsync(default);
        }
        return show.Image;
    }

    private static byte[] Rgb(ScreenImage image) => [.. image.Pixels.SelectMany(p => new[] { (byte)(p >> 16), (byte)(p >> 8), (byte)p })];

    /// <summary>What is drawn here has few colours, and goes without losses.</summary>
    private sealed class NoJpeg : IJpegDecoder
    {
        public void Decode(ReadOnlySpan<byte> packed, ScreenImage into, ScreenRect part) => throw new RfbException("what is drawn here takes none");
    }
}
