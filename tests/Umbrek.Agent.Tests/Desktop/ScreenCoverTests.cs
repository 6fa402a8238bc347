using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Core.Desktop;
using Umbrek.Tests;

namespace Umbrek.Agent.Tests.Desktop;

/// <summary>A screen that is hidden from who sits before it, on a real X server.</summary>
public sealed class ScreenCoverTests
{
    private static readonly Placard Words = new(PlacardKind.Cover, "Ines Okafor has hidden this screen", [new(null, "It comes back when the technician leaves.")], []);

    [Theory]
    [InlineData("1280x800x24", null, true)]
    [InlineData("800x600x24", "MIT-SHM", false)]
    [InlineData("640x480x16", null, false)]
    public async Task Who_is_there_sees_the_cover_and_who_looks_on_what_is_beneath(string size, string? without, bool managed)
    {
        await using var server = await VirtualScreen.StartAsync(size, without is null ? [] : ["-extension", without]);
        await FillAsync(server, managed);
        var near = size.EndsWith("16", StringComparison.Ordinal) ? 8 : 0;
        await using var look = await Look.AtAsync(server, control: false);
        await look.SettledAsync(near);
        var open = await server.PictureAsync();
        await using (var cover = await CoverAsync(server))
        {
            await look.UntilAsync(server.PictureAsync, now => IsCovered(now, near));
            await look.UntilAsync(() => Task.FromResult(look.Viewer.Image), image => Look.IsSame(open.Rgb, image, near));
            // Somebody who comes now sees it too.
            await using var late = await Look.AtAsync(server, control: false);
            await late.UntilAsync(() => Task.FromResult(late.Viewer.Image), image => Look.IsSame(open.Rgb, image, near));
        }
        await look.SettledAsync(near);
        IsCovered(await server.PictureAsync(), near).ShouldBeFalse();
    }

    [Fact]
    public async Task What_happens_beneath_is_seen_and_stays()
    {
        await using var server = await VirtualScreen.StartAsync();
        await FillAsync(server, managed: true);
        await using var look = await Look.AtAsync(server, control: true);
        await look.Viewer.MouseAsync(5, 5, 0, look.Stop);
        await look.HearUntilAsync(() => look.Viewer.Cursor is not null);
        var arrow = look.Viewer.Cursor;
        await using var cover = await CoverAsync(server);
        await look.UntilAsync(server.PictureAsync, now => IsCovered(now, 0));
        // The pointer is hidden from who is there, and not from who acts.
        await look.Viewer.MouseAsync(400, 300, 0, look.Stop);
        await look.HearUntilAsync(() => look.Viewer.Cursor is { Width: > 1 } over && over != arrow);
        // Typed into, moved, come, gone, and laid over one another anew.
        await look.Viewer.MouseAsync(400, 300, 0, look.Stop);
        await look.Viewer.MouseAsync(400, 300, 1, look.Stop);
        await look.Viewer.MouseAsync(400, 300, 0, look.Stop);
        foreach (var letter in "ebb and flow")
        {
            await look.TypeAsync(letter);
        }
        server.Run("xcalc", "-geometry", "+700+300");
        await look.UntilAsync(() => server.ShowsAsync("Calculator"), shows => shows);
        await server.AskAsync("xdotool", "search", "--name", "^writing$", "windowmove", "180", "90");
        await server.AskAsync("xdotool", "search", "--name", "^marks$", "windowunmap");
        await server.AskAsync("xdotool", "search", "--name", "^below$", "windowraise");
        IsCovered(await server.PictureAsync(), 0).ShouldBeTrue();
        await look.QuietAsync();
        var beneath = look.Viewer.Image.Pixels.ToArray();
        await cover.DisposeAsync();
        await look.SettledAsync();
        var (x, y, count) = Differ(beneath, look.Viewer.Image);
        count.ShouldBe(0, $"at {x}, {y}");
    }

    [Fact]
    public async Task Where_another_program_lays_the_windows_over_one_another_they_are_hidden_and_seen_too()
    {
        await using var server = await VirtualScreen.StartAsync();
        await FillAsync(server, managed: true);
        server.Run("xcompmgr");
        await Wait.UntilAsync(() => IsComposedAsync(server), "the other program");
        await using var look = await Look.AtAsync(server, control: false);
        await look.SettledAsync();
        var open = look.Viewer.Image.Pixels.ToArray();
        await using (var cover = await CoverAsync(server))
        {
            await look.UntilAsync(server.PictureAsync, now => IsCovered(now, 0));
            // What is behind the windows the other program alone knows; the windows themselves are as they were.
            await look.UntilAsync(() => Task.FromResult(look.Viewer.Image), image => image.Pixels[0] == 0 && Rows(image.Pixels).SequenceEqual(Rows(open)));
        }
        await look.SettledAsync();

        // The inside of the terminal.
        static IEnumerable<uint> Rows(uint[] pixels) => Enumerable.Range(200, 150).SelectMany(y => pixels.Skip(y * 1280 + 160).Take(250));
    }

    /// <summary>Whether somebody else keeps the server from painting windows by itself.</summary>
    private static async Task<bool> IsComposedAsync(VirtualScreen server)
    {
        await using var connection = await XConnection.OpenAsync(server.Socket, null, TestContext.Current.CancellationToken);
        var composite = (await connection.FindAsync("Composite"))!;
        await connection.AskAsync(new XRequest(composite, 0).U32(0).U32(4));
        try
        {
            await connection.CheckAsync(new XRequest(composite, 2).U32(connection.Setup.Root).U8(1).Skip(3));
            return false;
        }
        catch (XErrorException)
        {
            return true;
        }
    }

    [Fact]
    public async Task It_covers_a_screen_that_gets_another_size()
    {
        await using var server = await VirtualScreen.StartAsync();
        await FillAsync(server, managed: true);
        await using var look = await Look.AtAsync(server, control: true);
        await using var cover = await ScreenCover.OpenAsync(server.Socket, null, Words, look.Stop);
        var held = cover.HoldAsync(look.Stop);
        await look.Viewer.ResizeAsync(1024, 768, look.Stop);
        await look.HearUntilAsync(() => look.Viewer.Image.Width == 1024);
        await look.UntilAsync(server.PictureAsync, now => now.Width == 1024 && IsCovered(now, 0));
        await look.QuietAsync();
        var beneath = look.Viewer.Image.Pixels.ToArray();
        await cover.DisposeAsync();
        await Should.ThrowAsync<IOException>(() => held);
        await look.SettledAsync();
        var (x, y, count) = Differ(beneath, look.Viewer.Image);
        count.ShouldBe(0, $"at {x}, {y}");
    }

    [Fact]
    public async Task A_server_that_can_not_says_so_and_two_covers_are_one_too_many()
    {
        await using var server = await VirtualScreen.StartAsync("640x480x24", "-extension", "Composite");
        (await Should.ThrowAsync<IOException>(() => CoverAsync(server))).Message.ShouldContain("COMPOSITE");
        await using var able = await VirtualScreen.StartAsync("640x480x24");
        await using var cover = await CoverAsync(able);
        (await Should.ThrowAsync<IOException>(() => CoverAsync(able))).Message.ShouldContain("hidden already");
    }

    private static async Task FillAsync(VirtualScreen server, bool managed)
    {
        await server.AskAsync("xsetroot", "-mod", "5", "7", "-fg", "#336699", "-bg", "#204060");
        if (managed)
        {
            await server.ManageAsync();
        }
        server.Run("xlogo", "-title", "below", "-geometry", "300x200+80+60", "-fg", "#c05010", "-bg", "#e0e0d0");
        await Wait.UntilAsync(() => server.ShowsAsync("below"), "the lowest window");
        server.Run("xterm", "-title", "beginning", "-geometry", "60x20+150+120", "-bw", "3", "-e", @"seq 1 30; printf '\033]2;writing\007'; cat");
        await Wait.UntilAsync(() => server.ShowsAsync("writing"), "the terminal to have said everything");
        // It has a shape of its own, and no corners.
        server.Run("xlogo", "-title", "marks", "-shape", "-geometry", "200x200+420+40", "-fg", "#20a060");
        await Wait.UntilAsync(() => server.ShowsAsync("marks"), "the window with a shape");
    }

    private static async Task<ScreenCover> CoverAsync(VirtualScreen server)
    {
        var cover = await ScreenCover.OpenAsync(server.Socket, null, Words, TestContext.Current.CancellationToken);
        _ = cover.HoldAsync(TestContext.Current.CancellationToken);
        return cover;
    }

    /// <summary>Nothing is to be seen but what the cover says.</summary>
    private static bool IsCovered((int Width, int Height, byte[] Rgb) shown, int near)
    {
        var face = new PlacardFace(Words, shown.Width);
        var expected = new ScreenImage(shown.Width, shown.Height);
        var card = face.Draw(-1, -1, default);
        var (x, y) = (Math.Max(0, (shown.Width - card.Width) / 2), Math.Max(0, (shown.Height - card.Height) / 3));
        for (var row = 0; row < card.Height; row++)
        {
            card.Row(row).CopyTo(expected.Row(new ScreenRect(x, y + row, card.Width, 1), y + row));
        }
        return Look.IsSame(shown.Rgb, expected, near);
    }

    private static (int X, int Y, int Count) Differ(uint[] before, ScreenImage now)
    {
        var places = Enumerable.Range(0, before.Length).Where(i => before[i] != now.Pixels[i]).ToList();
        return places.Count == 0 ? (0, 0, 0) : (places[0] % now.Width, places[0] / now.Width, places.Count);
    }
}
