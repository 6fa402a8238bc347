using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Desktop;
using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Tests.Desktop;

public sealed class SmallScreenTests
{
    [Fact]
    public async Task It_is_smaller_in_its_proportions_and_shows_the_mean_of_what_it_stands_for()
    {
        var whole = new OneScreen(1280, 800);
        whole.Image.Fill(new ScreenRect(0, 0, 640, 800), 0xFFFFFF);
        await using var small = new SmallScreen(whole, 320, new FakeTimeProvider());
        var news = await small.TakeAsync(default);
        (news.Resized, small.Image.Width, small.Image.Height).ShouldBe((true, 320, 200));
        (small.Image.Row(100)[159], small.Image.Row(100)[160]).ShouldBe((0xFFFFFFu, 0u));

        // Every other pixel of one that is four wide and high.
        for (var y = 400; y < 404; y++)
        {
            for (var x = 800; x < 804; x += 2)
            {
                whole.Image.Row(y)[x] = 0x0080FF;
            }
        }
        whole.Damage.Add(new ScreenRect(800, 400, 4, 4));
        var next = await small.TakeAsync(default);
        next.Damage.ShouldBe([new ScreenRect(200, 100, 1, 1)]);
        small.Image.Row(100)[200].ShouldBe(0x00407Fu);
    }

    [Theory]
    [InlineData(1920, 1080, 320, 180)]
    [InlineData(1080, 1920, 320, 568)]
    [InlineData(200, 100, 200, 100)]
    [InlineData(3000, 1, 320, 1)]
    public async Task Any_screen_fits(int width, int height, int smallWidth, int smallHeight)
    {
        var whole = new OneScreen(width, height);
        whole.Image.Fill(whole.Image.Bounds, 0x204060);
        await using var small = new SmallScreen(whole, 320, new FakeTimeProvider());
        await small.TakeAsync(default);
        (small.Image.Width, small.Image.Height).ShouldBe((smallWidth, smallHeight));
        small.Image.Pixels.ShouldAllBe(p => p == 0x204060);
        // Whatever part changes, all that stands for something of it is drawn.
        var random = new Random(3);
        for (var round = 0; round < 50; round++)
        {
            var (x, y) = (random.Next(width), random.Next(height));
            var part = new ScreenRect(x, y, random.Next(1, width - x + 1), random.Next(1, height - y + 1));
            whole.Image.Fill(part, (uint)random.Next(0x1000000));
            whole.Damage.Add(part);
            await small.TakeAsync(default);
            var expected = new ScreenImage(smallWidth, smallHeight);
            expected.Shrink(whole.Image, expected.Bounds);
            small.Image.Pixels.ShouldBe(expected.Pixels, $"{part}");
        }
    }

    [Fact]
    public async Task It_is_looked_at_once_a_second_and_not_more_often()
    {
        var time = new FakeTimeProvider();
        var whole = new OneScreen(640, 400);
        await using var small = new SmallScreen(whole, 320, time);
        // The first look waits for nothing.
        small.WaitAsync(default).IsCompleted.ShouldBeTrue();
        await small.TakeAsync(default);
        var waits = small.WaitAsync(default);
        time.Advance(TimeSpan.FromMilliseconds(990));
        waits.IsCompleted.ShouldBeFalse();
        time.Advance(TimeSpan.FromMilliseconds(20));
        await waits;
    }

    [Fact]
    public async Task Nobody_acts_on_it()
    {
        var whole = new OneScreen(640, 400);
        await using var small = new SmallScreen(whole, 320, TimeProvider.System);
        await small.KeyAsync(true, 'q', 0, default);
        await small.MouseAsync(1, 1, 1, default);
        await small.WriteClipboardAsync("x", default);
        (await small.ReadClipboardAsync(default)).ShouldBeNull();
        (await small.ResizeAsync(800, 600, default)).ShouldBe(1);
        whole.Acts.ShouldBe(0);
    }

    /// <summary>A screen that the test draws on.</summary>
    private sealed class OneScreen(int width, int height) : IScreen
    {
        public List<ScreenRect> Damage { get; private set; } = [];
        public int Acts { get; private set; }
        public string Name => "x";
        public ScreenImage Image { get; } = new(width, height);
        public IReadOnlyList<RfbScreen> Monitors => [new RfbScreen(1, Image.Bounds, 0)];

        public Task WaitAsync(CancellationToken cancel) => Task.CompletedTask;

        public Task<ScreenNews> TakeAsync(CancellationToken cancel)
        {
            var news = new ScreenNews(Damage);
            Damage = [];
            return Task.FromResult(news);
        }

        public Task KeyAsync(bool down, uint keySym, uint keyCode, CancellationToken cancel) => Task.FromResult(++Acts);

        public Task MouseAsync(int x, int y, byte buttons, CancellationToken cancel) => Task.FromResult(++Acts);

        public Task<string?> ReadClipboardAsync(CancellationToken cancel)
        {
            Acts++;
            return Task.FromResult<string?>("theirs");
        }

        public Task WriteClipboardAsync(string text, CancellationToken cancel) => Task.FromResult(++Acts);

        public Task<int> ResizeAsync(int width, int height, CancellationToken cancel) => Task.FromResult(++Acts);

        public Task ReleaseAsync(CancellationToken cancel) => Task.CompletedTask;

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;
    }
}
