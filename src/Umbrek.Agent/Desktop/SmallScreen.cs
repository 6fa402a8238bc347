using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Desktop;

/// <summary>A screen as a small picture, no more often than once a second: to be looked at beside many others. Nobody acts on it.</summary>
/// <param name="width">Of the picture, in pixels; a screen that is smaller stays as it is.</param>
public sealed class SmallScreen(IScreen screen, int width, TimeProvider time) : IScreen
{
    private static readonly TimeSpan Often = TimeSpan.FromSeconds(1);

    private long takenAt;
    private bool wasTaken;

    public string Name => screen.Name;
    public ScreenImage Image { get; private set; } = new(1, 1);
    public IReadOnlyList<RfbScreen> Monitors => [new RfbScreen(1, Image.Bounds, 0)];

    public async Task WaitAsync(CancellationToken cancel)
    {
        if (wasTaken && Often - time.GetElapsedTime(takenAt) is { Ticks: > 0 } pause)
        {
            await Task.Delay(pause, time, cancel).ConfigureAwait(false);
        }
        await screen.WaitAsync(cancel).ConfigureAwait(false);
    }

    public async Task<ScreenNews> TakeAsync(CancellationToken cancel)
    {
        var news = await screen.TakeAsync(cancel).ConfigureAwait(false);
        (takenAt, wasTaken) = (time.GetTimestamp(), true);
        var whole = screen.Image;
        var across = Math.Min(width, whole.Width);
        var down = Math.Max(1, (int)((long)whole.Height * across / whole.Width));
        var resized = Image.Width != across || Image.Height != down;
        if (resized)
        {
            Image = new ScreenImage(across, down);
        }
        var parts = resized ? [Image.Bounds] : news.Damage.Select(d => Shrunk(d, whole)).Where(d => !d.IsEmpty).ToList();
        foreach (var part in parts)
        {
            Image.Shrink(whole, part);
        }
        return new ScreenNews(parts, resized);
    }

    public Task KeyAsync(bool down, uint keySym, uint keyCode, CancellationToken cancel) => Task.CompletedTask;

    public Task MouseAsync(int x, int y, byte buttons, CancellationToken cancel) => Task.CompletedTask;

    public Task<string?> ReadClipboardAsync(CancellationToken cancel) => Task.FromResult<string?>(null);

    public Task WriteClipboardAsync(string text, CancellationToken cancel) => Task.CompletedTask;

    public Task<int> ResizeAsync(int width, int height, CancellationToken cancel) => Task.FromResult(1);

    public Task ReleaseAsync(CancellationToken cancel) => Task.CompletedTask;

    public ValueTask DisposeAsync() => screen.DisposeAsync();

    /// <summary>All pixels of the small picture that stand for something of a part.</summary>
    private ScreenRect Shrunk(ScreenRect part, ScreenImage whole) => ScreenRect.Between(
        part.X * Image.Width / whole.Width, part.Y * Image.Height / whole.Height,
        (part.Right * Image.Width + whole.Width - 1) / whole.Width, (part.Bottom * Image.Height + whole.Height - 1) / whole.Height).Intersect(Image.Bounds);
}
