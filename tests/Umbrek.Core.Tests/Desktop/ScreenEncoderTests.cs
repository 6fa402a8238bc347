using Umbrek.Core.Desktop;

namespace Umbrek.Core.Tests.Desktop;

public sealed class ScreenEncoderTests
{
    private static readonly ViewerTakes Lossless = new(PixelFormat.Usual, Zrle: true, CopyRect: true, Quality: 0);
    private static readonly ViewerTakes Lossy = Lossless with { Quality = 90 };

    [Theory]
    [InlineData(true, true)]
    [InlineData(true, false)]
    [InlineData(false, true)]
    [InlineData(false, false)]
    public async Task The_viewer_shows_what_the_screen_shows(bool zrle, bool copyRect)
    {
        using var screen = await Shown.BeginAsync(300, 200, Lossless with { Zrle = zrle, CopyRect = copyRect });
        var random = new Random(7);
        for (var round = 0; round < 60; round++)
        {
            await screen.SendAsync(Pictures.Change(screen.Now, random));
            screen.Viewer.Image.Pixels.ShouldBe(screen.Now.Pixels, $"round {round}");
        }
    }

    [Fact]
    public async Task What_is_like_a_photograph_goes_with_losses_and_is_repaired_when_it_is_still()
    {
        var jpeg = new CountingJpeg();
        using var screen = await Shown.BeginAsync(640, 480, Lossy, jpeg);
        var random = new Random(3);
        for (var i = 0; i < screen.Now.Pixels.Length; i++)
        {
            screen.Now.Pixels[i] = (uint)random.Next(0x1000000);
        }
        await screen.SendAsync([screen.Now.Bounds], quality: 50);
        jpeg.Calls.ShouldBeGreaterThan(0);
        jpeg.Qualities.ShouldAllBe(q => q == 50);
        screen.Encoder.HasLosses.ShouldBeTrue();

        var rounds = 0;
        while (screen.Encoder.HasLosses)
        {
            await screen.RepairAsync(100_000);
            (++rounds).ShouldBeLessThan(100);
        }
        rounds.ShouldBeGreaterThan(1);
        screen.Viewer.Image.Pixels.ShouldBe(screen.Now.Pixels);
    }

    [Fact]
    public async Task What_has_few_colours_loses_none()
    {
        var jpeg = new CountingJpeg();
        using var screen = await Shown.BeginAsync(640, 480, Lossy, jpeg);
        for (var y = 100; y < 140; y++)
        {
            for (var x = 50; x < 600; x++)
            {
                screen.Now.Row(y)[x] = (x * y % 3) == 0 ? 0u : 0xE8E4DA;
            }
        }
        await screen.SendAsync([new ScreenRect(50, 100, 550, 40)]);
        jpeg.Calls.ShouldBe(0);
        screen.Viewer.Image.Pixels.ShouldBe(screen.Now.Pixels);
    }

    [Theory]
    [InlineData(37)]
    [InlineData(-53)]
    public async Task What_is_scrolled_is_copied(int by)
    {
        using var screen = await Shown.BeginAsync(400, 300, Lossless);
        var random = new Random(5);
        var window = new ScreenRect(40, 20, 320, 260);
        for (var y = window.Y; y < window.Bottom; y++)
        {
            foreach (ref var pixel in screen.Now.Row(window, y))
            {
                pixel = random.Next(3) == 0 ? 0xFFFFFFu : 0u;
            }
        }
        await screen.SendAsync([window]);
        var moved = by < 0 ? window with { Height = window.Height + by } : window with { Y = window.Y + by, Height = window.Height - by };
        screen.Now.Move(window.X, moved.Y - by, moved);
        var before = screen.Bytes;
        await screen.SendAsync([window]);
        screen.Viewer.Rects[RfbEncoding.CopyRect].ShouldBe(1);
        (screen.Bytes - before).ShouldBeLessThan(100);
        screen.Viewer.Image.Pixels.ShouldBe(screen.Now.Pixels);
    }

    [Fact]
    public async Task What_has_not_changed_is_not_sent()
    {
        using var screen = await Shown.BeginAsync(640, 480, Lossless);
        (await screen.SendAsync([screen.Now.Bounds])).ShouldBe(0);
        screen.Now.Row(77)[88] ^= 0x10;
        (await screen.SendAsync([screen.Now.Bounds])).ShouldBe(1);
        screen.Viewer.Image.Pixels.ShouldBe(screen.Now.Pixels);
    }

    [Fact]
    public async Task Small_things_go_first_and_the_rest_when_there_is_room()
    {
        using var screen = await Shown.BeginAsync(640, 480, Lossless);
        var random = new Random(11);
        var film = new ScreenRect(0, 64, 640, 416);
        for (var y = film.Y; y < film.Bottom; y++)
        {
            foreach (ref var pixel in screen.Now.Row(film, y))
            {
                pixel = (uint)random.Next(0x1000000);
            }
        }
        screen.Now.Fill(new ScreenRect(10, 10, 8, 12), 0xABCDEF);
        var damage = new List<ScreenRect> { film, new(10, 10, 8, 12) };
        await screen.SendAsync(damage, mostBytes: 20_000);
        screen.Viewer.Image.Row(10)[10].ShouldBe(0xABCDEFu);
        damage.ShouldNotBeEmpty();
        var rounds = 1;
        while (damage.Count > 0)
        {
            await screen.SendAsync(damage, mostBytes: 20_000);
            rounds++;
        }
        rounds.ShouldBeInRange(4, 8);
        screen.Viewer.Image.Pixels.ShouldBe(screen.Now.Pixels);
    }

    [Fact]
    public async Task What_is_copied_from_where_there_are_losses_is_repaired_too()
    {
        using var screen = await Shown.BeginAsync(256, 256, Lossy, new CountingJpeg());
        var random = new Random(13);
        for (var round = 0; round < 20; round++)
        {
            var damage = Pictures.Change(screen.Now, random);
            if (round % 3 == 0)
            {
                var to = new ScreenRect(10, 40, 200, 180);
                screen.Now.Move(10, 20, to);
                damage.Add(to);
            }
            await screen.SendAsync(damage);
        }
        while (screen.Encoder.HasLosses)
        {
            await screen.RepairAsync(1_000_000);
        }
        screen.Viewer.Image.Pixels.ShouldBe(screen.Now.Pixels);
    }

    /// <summary>A screen and what a viewer shows of it, with nothing but bytes between them.</summary>
    private sealed class Shown : IDisposable
    {
        private readonly MemoryStream line = new();
        private readonly RfbWriter writer = new();
        private readonly ViewerTakes takes;

        private Shown(int width, int height, ViewerTakes takes, IJpegEncoder? jpeg)
        {
            this.takes = takes;
            Encoder = new ScreenEncoder(jpeg);
            Viewer = new RfbViewer(line);
            Now = Pictures.Desktop(width, height, 1);
            for (var y = 0; y < height; y++)
            {
                foreach (ref var pixel in Now.Row(y))
                {
                    pixel &= 0xE0E0E0;
                }
            }
        }

        public ScreenEncoder Encoder { get; }
        public RfbViewer Viewer { get; }
        public ScreenImage Now { get; }
        public long Bytes { get; private set; }

        public static async Task<Shown> BeginAsync(int width, int height, ViewerTakes takes, IJpegEncoder? jpeg = null)
        {
            var shown = new Shown(width, height, takes, jpeg);
            shown.Encoder.Forget(shown.Now);
            shown.writer.BeginUpdate();
            shown.writer.DesktopSize(width, height);
            shown.writer.EndUpdate();
            await shown.CarryAsync();
            await shown.SendAsync([shown.Now.Bounds], takesNow: takes with { Quality = 0 });
            return shown;
        }

        /// <returns>How many rectangles it took.</returns>
        public Task<int> SendAsync(List<ScreenRect> damage, int quality = 80, int mostBytes = int.MaxValue / 2, ViewerTakes? takesNow = null)
        {
            writer.BeginUpdate();
            Encoder.Encode(Now, damage, takesNow ?? takes, quality, mostBytes, writer);
            writer.EndUpdate();
            return CarryAsync();
        }

        public Task<int> RepairAsync(int mostBytes)
        {
            writer.BeginUpdate();
            Encoder.Repair(Now, takes, mostBytes, writer);
            writer.EndUpdate();
            return CarryAsync();
        }

        public void Dispose()
        {
            Encoder.Dispose();
            Viewer.Dispose();
            line.Dispose();
        }

        private async Task<int> CarryAsync()
        {
            var rects = writer.Rects;
            Bytes += writer.Written.Length;
            line.SetLength(0);
            line.Write(writer.Written.Span);
            line.Position = 0;
            writer.Clear();
            (await Viewer.HearAsync(TestContext.Current.CancellationToken)).ShouldBe(RfbHeard.Picture);
            line.Position.ShouldBe(line.Length);
            return rects;
        }
    }
}
