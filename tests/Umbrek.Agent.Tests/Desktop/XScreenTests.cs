using System.IO.Pipelines;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Core.Desktop;
using Umbrek.Tests;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Tests.Desktop;

public sealed class XScreenTests
{
    [Theory]
    [InlineData("1280x800x24", null, 0)]
    [InlineData("800x600x24", "MIT-SHM", 0)]
    // Five bits, and ten, are made eight in more than one way.
    [InlineData("640x480x16", null, 8)]
    [InlineData("640x480x30", null, 1)]
    public async Task The_viewer_shows_what_the_server_shows(string size, string? without, int near)
    {
        await using var server = await VirtualScreen.StartAsync(size, without is null ? [] : ["-extension", without]);
        await server.AskAsync("xsetroot", "-solid", "#336699");
        server.Run("xlogo", "-geometry", "200x200+50+60", "-fg", "#c05010", "-bg", "#e0e0d0");
        server.Run("xterm", "-geometry", "60x12+100+150", "-e", "seq 1 500; cat");
        await using var look = await Look.AtAsync(server, control: false);
        look.Screen.IsShared.ShouldBe(without is null);
        await look.SettledAsync(near);
        look.Viewer.Cursor.ShouldNotBeNull();
    }

    [Fact]
    public async Task What_is_typed_arrives_as_it_was_meant()
    {
        await using var server = await VirtualScreen.StartAsync();
        var file = Path.GetTempFileName();
        server.Run("xterm", "-u8", "-title", "writing", "-geometry", "80x24+0+0", "-e", $"cat > {file}");
        await using var look = await Look.AtAsync(server, control: true);
        await look.UntilAsync(() => server.ShowsAsync("writing"), shows => shows);
        await look.Viewer.MouseAsync(100, 100, 0, look.Stop);
        const string sentence = "Grüße an Möwe & Co: 42 % (fast 3/4), 17 €, Ωδή?";
        foreach (var letter in sentence)
        {
            await look.TypeAsync(letter <= 0xFF ? letter : 0x01000000u | letter);
        }
        await look.TypeAsync(0xFF0D);
        await look.UntilAsync(() => File.ReadAllTextAsync(file, look.Stop), text => text.Contains('\n', StringComparison.Ordinal));
        (await File.ReadAllTextAsync(file, look.Stop)).ShouldBe(sentence + "\n");
        File.Delete(file);
    }

    [Fact]
    public async Task Keys_that_are_held_are_let_go_of_when_the_viewer_goes()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using (var look = await Look.AtAsync(server, control: true))
        {
            await look.Viewer.KeyAsync(true, 0xFFE1, look.Stop);
            await look.Viewer.KeyAsync(true, 'q', look.Stop);
            await look.UntilAsync(() => Held(server), held => held.Count == 2);
        }
        await using var again = await Look.AtAsync(server, control: false);
        await again.UntilAsync(() => Held(server), held => held.Count == 0);
    }

    [Fact]
    public async Task Who_looks_on_touches_nothing()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using var look = await Look.AtAsync(server, control: false);
        await look.Viewer.KeyAsync(true, 'q', look.Stop);
        await look.Viewer.MouseAsync(5, 7, 1, look.Stop);
        await look.Viewer.ClipboardAsync(new ClipboardMessage(ClipboardAct.Provide, true, "no"), look.Stop);
        await look.Viewer.ResizeAsync(800, 600, look.Stop);
        // Answered in turn, so all before it was heard.
        await look.HearUntilAsync(() => look.Viewer.ResizeStatus is not null);
        look.Viewer.ResizeStatus.ShouldBe(1);
        (await Held(server)).ShouldBeEmpty();
        (await server.AskAsync("xdpyinfo")).ShouldContain("1280x800 pixels");
        await Should.ThrowAsync<InvalidOperationException>(() => server.AskAsync("xclip", "-selection", "clipboard", "-o"));
    }

    [Fact]
    public async Task Who_looks_on_sees_where_the_pointer_goes()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using var watches = await Look.AtAsync(server, control: false);
        await using var moves = await Look.AtAsync(server, control: true);
        await moves.Viewer.MouseAsync(333, 222, 0, moves.Stop);
        await watches.HearUntilAsync(() => watches.Viewer.PointerAt == (333, 222));
        await moves.Viewer.MouseAsync(1279, 799, 0, moves.Stop);
        await watches.HearUntilAsync(() => watches.Viewer.PointerAt == (1279, 799));
        // Who moves it himself knows where it is.
        moves.Viewer.PointerAt.ShouldBeNull();
    }

    [Fact]
    public async Task Clipboards_are_exchanged_both_ways()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using var look = await Look.AtAsync(server, control: true);
        await look.Viewer.ClipboardAsync(new ClipboardMessage(ClipboardAct.Provide, true, "von hier: Möwe\nzweite Zeile"), look.Stop);
        await look.UntilAsync(() => server.AskAsync("xclip", "-selection", "clipboard", "-o"), text => text == "von hier: Möwe\nzweite Zeile");

        var owner = server.Run("xclip", "-selection", "clipboard", "-i");
        await owner.StandardInput.WriteAsync("dort kopiert, 5 €");
        owner.StandardInput.Close();
        await look.HearUntilAsync(() => look.Viewer.Clipboard == "dort kopiert, 5 €");

        // Longer than one property takes, so it comes in pieces.
        var much = string.Concat(Enumerable.Range(0, 60_000).Select(i => $"line {i}\n"));
        var second = server.Run("xclip", "-selection", "clipboard", "-i");
        await second.StandardInput.WriteAsync(much);
        second.StandardInput.Close();
        await look.HearUntilAsync(() => look.Viewer.Clipboard?.Length == much.Length);
        look.Viewer.Clipboard.ShouldBe(much);

        await look.Viewer.ClipboardAsync(new ClipboardMessage(ClipboardAct.Provide, true, much), look.Stop);
        await look.UntilAsync(() => server.AskAsync("xclip", "-selection", "clipboard", "-o"), text => text == much);
    }

    [Fact]
    public async Task Another_size_is_shown_and_can_be_asked_for()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using var look = await Look.AtAsync(server, control: true);
        await look.SettledAsync();
        await server.AskAsync("xrandr", "--newmode", "1024x768", "65.00", "1024", "1048", "1184", "1344", "768", "771", "777", "806");
        await server.AskAsync("xrandr", "--addmode", "screen", "1024x768");
        await server.AskAsync("xrandr", "--output", "screen", "--mode", "1024x768");
        await look.HearUntilAsync(() => look.Viewer.Image.Width == 1024);
        await look.SettledAsync();

        await look.Viewer.ResizeAsync(800, 600, look.Stop);
        await look.HearUntilAsync(() => look.Viewer.ResizeStatus == 0 && look.Viewer.Image.Width == 800);
        await look.SettledAsync();
        (await server.AskAsync("xdpyinfo")).ShouldContain("800x600 pixels");

        await look.Viewer.ResizeAsync(1400, 900, look.Stop);
        await look.HearUntilAsync(() => look.Viewer.ResizeStatus == 3);
        look.Viewer.Image.Width.ShouldBe(800);
    }

    [Fact]
    public async Task A_server_that_ends_is_told()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using var look = await Look.AtAsync(server, control: true);
        await look.SettledAsync();
        server.Kill();
        await Should.ThrowAsync<ScreenGoneException>(look.Served);
    }

    [Fact]
    public async Task Whoever_has_not_the_cookie_is_not_let_in()
    {
        var file = Path.GetTempFileName();
        var cookie = Enumerable.Range(1, 16).Select(i => (byte)i).ToArray();
        // Family "wild", no address, no number: for every display.
        await File.WriteAllBytesAsync(file, [0xFF, 0xFF, 0, 0, 0, 0, 0, 18, .. "MIT-MAGIC-COOKIE-1"u8, 0, 16, .. cookie], TestContext.Current.CancellationToken);
        await using var server = await VirtualScreen.StartAsync("640x480x24", "-auth", file);
        (await Should.ThrowAsync<IOException>(() => XScreen.OpenAsync(server.Socket, new byte[16], "x", false, TimeProvider.System, TestContext.Current.CancellationToken))).Message.ShouldContain("lets nobody in");
        await Should.ThrowAsync<IOException>(() => XScreen.OpenAsync(server.Socket, null, "x", false, TimeProvider.System, TestContext.Current.CancellationToken));
        await using var screen = await XScreen.OpenAsync(server.Socket, cookie, "x", false, TimeProvider.System, TestContext.Current.CancellationToken);
        (await screen.TakeAsync(TestContext.Current.CancellationToken)).Resized.ShouldBeTrue();
        screen.Image.Width.ShouldBe(640);
        File.Delete(file);
    }

    [Fact]
    public async Task A_still_screen_costs_nothing()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using var screen = await XScreen.OpenAsync(server.Socket, null, "x", false, TimeProvider.System, TestContext.Current.CancellationToken);
        await screen.TakeAsync(TestContext.Current.CancellationToken);
        var waits = screen.WaitAsync(TestContext.Current.CancellationToken);
        // Answered by the same server behind everything that it had to tell.
        await server.AskAsync("xdpyinfo");
        waits.IsCompleted.ShouldBeFalse();
        await server.AskAsync("xsetroot", "-solid", "#102030");
        await waits;
        var news = await screen.TakeAsync(TestContext.Current.CancellationToken);
        news.Damage.ShouldNotBeEmpty();
        screen.Image.Pixels[0].ShouldBe(0x102030u);
    }

    /// <summary>Keys that the server takes for held, by a program that is not ours.</summary>
    private static async Task<List<int>> Held(VirtualScreen server)
    {
        await using var connection = await XConnection.OpenAsync(server.Socket, null, TestContext.Current.CancellationToken);
        // QueryKeymap: one bit for each key.
        var reply = await connection.AskAsync(new XRequest(44));
        return [.. Enumerable.Range(0, 256).Where(i => (reply[8 + i / 8] & 1 << i % 8) != 0)];
    }
}
