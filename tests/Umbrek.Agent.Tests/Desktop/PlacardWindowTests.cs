using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Core.Desktop;
using Umbrek.Tests;

namespace Umbrek.Agent.Tests.Desktop;

/// <summary>What people see of us, on a real X server.</summary>
public sealed class PlacardWindowTests
{
    private static readonly Placard Question = new(
        PlacardKind.Question, "Ines Okafor asks to act on this computer", [new("Wants to", "control the desktop")], [new PlacardButton("no", "Refuse", IsSafe: true), new PlacardButton("yes", "Agree")]);

    private static readonly Placard Strip = new(PlacardKind.Strip, "Ines Okafor is on this computer", [], [new PlacardButton("end", "End it")]);

    [Theory]
    [InlineData("1280x800x24", 0)]
    [InlineData("800x600x16", 8)]
    [InlineData("800x600x30", 1)]
    public async Task It_looks_as_it_was_drawn(string size, int near)
    {
        await using var server = await VirtualScreen.StartAsync(size);
        await using var window = await OpenAsync(server, Question);
        var (x, y, face) = await FindAsync(server, Question);
        await Wait.UntilAsync(async () => Difference(await server.PictureAsync(), x, y, face) <= near, "the placard to be drawn");
        (await server.AskAsync("xprop", "-name", $"Umbrek: {Question.Title}")).ShouldContain("_NET_WM_WINDOW_TYPE_DIALOG");
    }

    [Fact]
    public async Task A_click_on_a_button_presses_it_and_beside_it_none()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using var window = await OpenAsync(server, Question);
        var pressed = window.PressedAsync(CancellationToken.None);
        var (x, y, face) = await FindAsync(server, Question);
        await using var hand = await Hand.OnAsync(server);
        await hand.ClickAsync(x + 3, y + 3);
        var yes = face.Buttons[1];
        await hand.ClickAsync(x + yes.X + 5, y + yes.Y + 5);
        (await pressed.WaitAsync(TimeSpan.FromSeconds(60))).ShouldBe("yes");
    }

    [Fact]
    public async Task A_strip_is_pressed_under_a_window_manager_too()
    {
        await using var server = await VirtualScreen.StartAsync();
        await server.ManageAsync();
        await using var window = await OpenAsync(server, Strip);
        var pressed = window.PressedAsync(CancellationToken.None);
        var (x, y, face) = await FindAsync(server, Strip);
        await using var hand = await Hand.OnAsync(server);
        await hand.ClickAsync(x + face.Buttons[0].X + 5, y + face.Buttons[0].Y + 5);
        (await pressed.WaitAsync(TimeSpan.FromSeconds(60))).ShouldBe("end");
    }

    [Fact]
    public async Task What_a_program_presses_counts_as_little_as_is_wanted()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using var window = await OpenAsync(server, Question);
        window.OnlyByHand = true;
        var pressed = window.PressedAsync(CancellationToken.None);
        var (x, y, face) = await FindAsync(server, Question);
        await using var hand = await Hand.OnAsync(server);
        var (yes, no) = (face.Buttons[1], face.Buttons[0]);
        // XTEST is what programs press with; the server's own mouse stands for a hand.
        await hand.ClickAsync(x + yes.X + 5, y + yes.Y + 5);
        await hand.ClickAsync(x + no.X + 5, y + no.Y + 5, byHand: true);
        (await pressed.WaitAsync(TimeSpan.FromSeconds(60))).ShouldBe("no");
    }

    [Theory]
    [InlineData("Escape", "no")]
    // The safe one has the keyboard first: whoever types on agrees to nothing.
    [InlineData("Return", "no")]
    [InlineData("Tab Return", "yes")]
    [InlineData("Tab Tab space", "no")]
    [InlineData("Left space", "yes")]
    public async Task The_keyboard_presses_them_too(string keys, string button)
    {
        await using var server = await VirtualScreen.StartAsync();
        await server.ManageAsync();
        await using var window = await OpenAsync(server, Question);
        var pressed = window.PressedAsync(CancellationToken.None);
        await Wait.UntilAsync(async () => await HasKeyboardAsync(server, Question), "the placard to have the keyboard");
        await using var hand = await Hand.OnAsync(server);
        foreach (var key in keys.Split(' '))
        {
            await hand.TypeAsync(key);
        }
        (await pressed.WaitAsync(TimeSpan.FromSeconds(60))).ShouldBe(button);
    }

    [Fact]
    public async Task When_its_time_is_over_nothing_was_pressed()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using var window = await OpenAsync(server, Question with { Until = DateTimeOffset.UtcNow.AddSeconds(2), Then = "it is refused" });
        (await window.PressedAsync(CancellationToken.None).WaitAsync(TimeSpan.FromSeconds(60))).ShouldBeNull();
    }

    [Fact]
    public async Task When_the_screen_goes_it_says_so()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using var window = await OpenAsync(server, Strip);
        var pressed = window.PressedAsync(CancellationToken.None);
        server.Kill();
        await Should.ThrowAsync<IOException>(() => pressed.WaitAsync(TimeSpan.FromSeconds(60)));
        await Should.ThrowAsync<IOException>(() => OpenAsync(server, Strip));
    }

    [Fact]
    public async Task A_strip_that_is_covered_comes_back_to_the_top()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using var window = await OpenAsync(server, Strip);
        using var over = new CancellationTokenSource();
        var pressed = window.PressedAsync(over.Token);
        var (x, y, face) = await FindAsync(server, Strip);
        server.Run("xlogo", "-geometry", "1280x800+0+0");
        await Wait.UntilAsync(() => server.ShowsAsync("xlogo"), "the window over it");
        await Wait.UntilAsync(async () => Difference(await server.PictureAsync(), x, y, face) == 0, "the strip to be seen again");
        await over.CancelAsync();
        await Should.ThrowAsync<OperationCanceledException>(() => pressed);
    }

    [Fact]
    public async Task Keyboards_and_mice_that_are_taken_do_nothing_until_they_are_given_back()
    {
        await using var server = await VirtualScreen.StartAsync();
        await using var hand = await Hand.OnAsync(server);
        await hand.MoveAsync(300, 300, byHand: true);
        await Wait.UntilAsync(async () => await hand.PointerAsync() == (300, 300), "the mouse to move");
        await using (var window = await OpenAsync(server, Strip, takeInput: true))
        {
            window.Taken.ShouldNotBeNull().ShouldBeGreaterThan(1);
            await hand.MoveAsync(400, 400, byHand: true);
            (await hand.PointerAsync()).ShouldBe((300, 300));
            // The technician's go on.
            await hand.MoveAsync(500, 500);
            await Wait.UntilAsync(async () => await hand.PointerAsync() == (500, 500), "the technician to move it");
        }
        await Wait.UntilAsync(async () =>
        {
            await hand.MoveAsync(200, 200, byHand: true);
            return await hand.PointerAsync() == (200, 200);
        }, "the mouse to be given back");
    }

    private static Task<PlacardWindow> OpenAsync(VirtualScreen server, Placard placard, bool takeInput = false) =>
        PlacardWindow.OpenAsync(server.Socket, null, placard, 0, takeInput, TimeProvider.System, CancellationToken.None);

    private static async Task<bool> HasKeyboardAsync(VirtualScreen server, Placard placard)
    {
        var window = (await server.TryAskAsync("xwininfo", "-name", $"Umbrek: {placard.Title}"))?.Split("Window id: ")[^1].Split(' ')[0];
        return window is not null && (await server.TryAskAsync("xprop", "-root", "_NET_ACTIVE_WINDOW"))?.TrimEnd().EndsWith(window, StringComparison.Ordinal) == true;
    }

    /// <summary>Where it lies, by a program that is not ours.</summary>
    private static async Task<(int X, int Y, PlacardFace Face)> FindAsync(VirtualScreen server, Placard placard)
    {
        var title = $"Umbrek: {placard.Title}";
        await Wait.UntilAsync(() => server.ShowsAsync(title), "the placard");
        var said = await server.AskAsync("xwininfo", "-name", title);
        int Number(string label) => int.Parse(said.Split(label)[1].Split('\n')[0].Trim(), System.Globalization.CultureInfo.InvariantCulture);
        return (Number("Absolute upper-left X:"), Number("Absolute upper-left Y:"), new PlacardFace(placard, 1280));
    }

    /// <summary>The largest difference of any colour between what is shown and what was drawn.</summary>
    private static int Difference((int Width, int Height, byte[] Rgb) shown, int x, int y, PlacardFace face)
    {
        var (drawn, most) = (face.Draw(face.Buttons.Count > 1 ? 0 : -1, -1, DateTimeOffset.UtcNow), 0);
        for (var row = 0; row < face.Height; row++)
        {
            for (var column = 0; column < face.Width; column++)
            {
                var at = 3 * ((y + row) * shown.Width + x + column);
                var pixel = drawn.Pixels[row * face.Width + column];
                most = Math.Max(most, Math.Max(Math.Abs(shown.Rgb[at] - (int)(pixel >> 16 & 255)), Math.Max(Math.Abs(shown.Rgb[at + 1] - (int)(pixel >> 8 & 255)), Math.Abs(shown.Rgb[at + 2] - (int)(pixel & 255)))));
            }
        }
        return most;
    }

    /// <summary>Moves the mouse and types: as a program does, or as if the server's own devices did.</summary>
    private sealed class Hand : IAsyncDisposable
    {
        private const byte KeyPress = 2;
        private const byte Motion = 6;
        private readonly XConnection connection;
        private XExtension test = null!;
        private XExtension input = null!;
        private XInput devices = null!;

        private Hand(XConnection connection) => this.connection = connection;

        public static async Task<Hand> OnAsync(VirtualScreen server)
        {
            var hand = new Hand(await XConnection.OpenAsync(server.Socket, null, CancellationToken.None));
            hand.test = (await hand.connection.FindAsync("XTEST"))!;
            hand.input = (await hand.connection.FindAsync("XInputExtension"))!;
            hand.devices = (await XInput.OpenAsync(hand.connection))!;
            hand.devices.Real.ShouldNotBeEmpty();
            return hand;
        }

        public async Task MoveAsync(int x, int y, bool byHand = false)
        {
            if (byHand)
            {
                // The extension's own events, from the second device on: a mouse.
                await connection.CheckAsync(Device(input.FirstEvent + 5, 0).Data(Valuators(x, y)));
                return;
            }
            await connection.CheckAsync(Fake(Motion, 0, x, y));
        }

        public async Task ClickAsync(int x, int y, bool byHand = false)
        {
            await MoveAsync(x, y, byHand);
            foreach (var down in (bool[])[true, false])
            {
                await connection.CheckAsync(byHand ? Device(input.FirstEvent + (down ? 3 : 4), 1) : Fake(down ? (byte)4 : (byte)5, 1, 0, 0));
            }
        }

        public async Task TypeAsync(string name)
        {
            var symbol = name switch { "Escape" => 0xFF1Bu, "Return" => 0xFF0Du, "Tab" => 0xFF09u, "Left" => 0xFF51u, _ => 0x20u };
            var (first, count) = (connection.Setup.MinKeyCode, connection.Setup.MaxKeyCode - connection.Setup.MinKeyCode + 1);
            var reply = await connection.AskAsync(new XRequest(101).U8(first).U8((byte)count).U16(0));
            var code = Enumerable.Range(0, count).First(i => XReply.U32(reply, 32 + 4 * i * reply[1]) == symbol) + first;
            await connection.CheckAsync(Fake(KeyPress, (byte)code, 0, 0));
            await connection.CheckAsync(Fake(KeyPress + 1, (byte)code, 0, 0));
        }

        public async Task<(int X, int Y)> PointerAsync()
        {
            var reply = await connection.AskAsync(new XRequest(38).U32(connection.Setup.Root));
            return (XReply.S16(reply, 16), XReply.S16(reply, 18));
        }

        public ValueTask DisposeAsync() => connection.DisposeAsync();

        private XRequest Fake(byte type, byte detail, int x, int y) => new XRequest(test, 2).U8(type).U8(detail).U16(0).U32(0).U32(0).Skip(8).U16(x).U16(y).Skip(8);

        /// <summary>An event of a device of its own: its number lies in the last byte.</summary>
        private XRequest Device(int type, byte detail) => new XRequest(test, 2).U8((byte)type).U8(detail).U16(0).U32(0).U32(0).Skip(8).U16(0).U16(0).Skip(7).U8((byte)devices.Real[0]);

        /// <summary>xDeviceValuator: where a device is moved to.</summary>
        private byte[] Valuators(int x, int y) =>
            [(byte)input.FirstEvent, (byte)devices.Real[0], 0, 0, 0, 0, 2, 0, .. BitConverter.GetBytes(x), .. BitConverter.GetBytes(y), .. new byte[16]];
    }
}
