using Umbrek.Agent.Desktop;
using Umbrek.Core.Desktop;

namespace Umbrek.Simulation.Desktop;

/// <summary>One viewer's look at a made-up desk.</summary>
public sealed class SimulatedScreen : IScreen
{
    private readonly SimulatedDesk desk;
    private readonly TimeProvider time;
    private readonly Nudge changed = new();
    private bool isNew = true;
    private bool hasClipboard;
    private (int X, int Y)? spot;

    internal SimulatedScreen(SimulatedDesk desk, TimeProvider time)
    {
        (this.desk, this.time) = (desk, time);
        desk.Changed += changed.Give;
        desk.Copied += Copied;
    }

    public string Name => desk.Name;
    public ScreenImage Image { get; } = new(SimulatedDesk.Width, SimulatedDesk.Height);
    public IReadOnlyList<RfbScreen> Monitors { get; } = [new RfbScreen(1, new ScreenRect(0, 0, SimulatedDesk.Width, SimulatedDesk.Height), 0)];

    /// <summary>An arrow with a dark edge.</summary>
    private static ScreenCursor Arrow { get; } = MakeArrow();

    public async Task WaitAsync(CancellationToken cancel)
    {
        if (isNew)
        {
            return;
        }
        // The clock goes on by itself.
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var tick = Task.Delay(desk.NextTick(), time, limit.Token);
        var wakes = changed.WaitAsync(limit.Token);
        await Task.WhenAny(tick, wakes).ConfigureAwait(false);
        await limit.CancelAsync().ConfigureAwait(false);
        await wakes.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        cancel.ThrowIfCancellationRequested();
    }

    public Task<ScreenNews> TakeAsync(CancellationToken cancel)
    {
        desk.Draw(Image);
        var now = desk.PointerAt;
        var news = new ScreenNews([Image.Bounds], isNew, isNew ? Arrow : null, hasClipboard, now == spot ? null : now);
        spot = now;
        isNew = hasClipboard = false;
        return Task.FromResult(news);
    }

    public Task KeyAsync(bool down, uint keySym, uint keyCode, CancellationToken cancel)
    {
        if (down)
        {
            desk.Key(keySym);
        }
        return Task.CompletedTask;
    }

    public Task MouseAsync(int x, int y, byte buttons, CancellationToken cancel)
    {
        desk.Mouse(x, y, buttons);
        return Task.CompletedTask;
    }

    public Task<string?> ReadClipboardAsync(CancellationToken cancel) => Task.FromResult<string?>(desk.Clipboard);

    public Task WriteClipboardAsync(string text, CancellationToken cancel)
    {
        desk.SetClipboard(text, this);
        return Task.CompletedTask;
    }

    public Task<int> ResizeAsync(int width, int height, CancellationToken cancel) => Task.FromResult(width == Image.Width && height == Image.Height ? 0 : 3);

    public Task ReleaseAsync(CancellationToken cancel) => Task.CompletedTask;

    public ValueTask DisposeAsync()
    {
        desk.Changed -= changed.Give;
        desk.Copied -= Copied;
        changed.Dispose();
        return ValueTask.CompletedTask;
    }

    private void Copied(SimulatedScreen? by)
    {
        if (by != this)
        {
            hasClipboard = true;
            changed.Give();
        }
    }

    private static ScreenCursor MakeArrow()
    {
        const int width = 12;
        const int height = 18;
        var pixels = new uint[width * height];
        for (var y = 0; y < height; y++)
        {
            for (var x = 0; x < width && x <= y * 2 / 3; x++)
            {
                var edge = x == 0 || x == y * 2 / 3 || y == height - 1;
                pixels[y * width + x] = edge ? 0xFF161B22 : 0xFFF7F4EC;
            }
        }
        return new ScreenCursor(0, 0, width, height, pixels);
    }
}
