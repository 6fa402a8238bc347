using System.IO.Pipelines;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Core.Desktop;
using Umbrek.Tests;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Tests.Desktop;

/// <summary>A viewer before a screen, with nothing but a pair of pipes between them.</summary>
internal sealed class Look : IAsyncDisposable
{
    private static readonly int[] Lossless = [RfbEncoding.CopyRect, RfbEncoding.Zrle, RfbEncoding.Cursor, RfbEncoding.PointerPosition, RfbEncoding.ExtendedDesktopSize, RfbEncoding.ExtendedClipboard, RfbEncoding.Fence, RfbEncoding.ContinuousUpdates];

    private readonly VirtualScreen server;
    private readonly RfbServer rfb;
    private readonly TwoWayStream ours;
    private readonly CancellationTokenSource stop = new(TimeSpan.FromSeconds(60));
    private readonly TurboJpeg? jpeg = TurboJpeg.TryCreate();
    private Task<RfbHeard>? hears;

    private Look(VirtualScreen server, XScreen screen, bool control)
    {
        var (up, down) = (new Pipe(), new Pipe());
        this.server = server;
        Screen = screen;
        ours = new TwoWayStream(down.Reader.AsStream(), up.Writer.AsStream());
        rfb = new RfbServer(screen, new TwoWayStream(up.Reader.AsStream(), down.Writer.AsStream()), control, jpeg, TimeProvider.System);
        Viewer = new RfbViewer(ours);
        Served = rfb.ServeAsync(stop.Token);
        // What goes wrong at the other end is what the viewer hears.
        _ = Served.ContinueWith(s => down.Writer.Complete(s.Exception?.InnerException), TaskScheduler.Default);
    }

    public XScreen Screen { get; }
    public RfbViewer Viewer { get; }
    public Task Served { get; }
    public CancellationToken Stop => stop.Token;

    public static async Task<Look> AtAsync(VirtualScreen server, bool control)
    {
        var look = new Look(server, await XScreen.OpenAsync(server.Socket, null, "x", control, TimeProvider.System, TestContext.Current.CancellationToken), control);
        await look.Viewer.BeginAsync(true, look.Stop);
        await look.Viewer.TakeAsync(Lossless, look.Stop);
        await look.Viewer.AskAsync(false, look.Stop);
        await look.Viewer.HearAsync(look.Stop);
        return look;
    }

    public async Task TypeAsync(uint sym)
    {
        await Viewer.KeyAsync(true, sym, Stop);
        await Viewer.KeyAsync(false, sym, Stop);
    }

    /// <summary>Hears, and asks for the next picture, until something is so.</summary>
    public async Task HearUntilAsync(Func<bool> so)
    {
        while (!so())
        {
            await HearOnceAsync(Timeout.InfiniteTimeSpan);
        }
    }

    /// <summary>Waits until the viewer shows what the server shows: every pixel of it.</summary>
    public async Task SettledAsync(int near = 0)
    {
        while (true)
        {
            var (width, height, rgb) = await server.PictureAsync();
            while (await HearOnceAsync(TimeSpan.FromMilliseconds(150)))
            {
            }
            if (width == Viewer.Image.Width && height == Viewer.Image.Height && IsSame(rgb, Viewer.Image, near))
            {
                return;
            }
            Stop.ThrowIfCancellationRequested();
        }
    }

    /// <summary>Waits until nothing more is to be heard.</summary>
    public async Task QuietAsync()
    {
        while (await HearOnceAsync(TimeSpan.FromMilliseconds(500)))
        {
        }
    }

    public async Task UntilAsync<T>(Func<Task<T>> ask, Func<T, bool> so)
    {
        while (true)
        {
            try
            {
                if (so(await ask()))
                {
                    return;
                }
            }
            catch (InvalidOperationException)
            {
                // Not yet.
            }
            await HearOnceAsync(TimeSpan.FromMilliseconds(50));
            Stop.ThrowIfCancellationRequested();
        }
    }

    public async ValueTask DisposeAsync()
    {
        await stop.CancelAsync();
        await Served.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        if (hears is not null)
        {
            await ((Task)hears).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
        await rfb.DisposeAsync();
        await Screen.DisposeAsync();
        Viewer.Dispose();
        await ours.DisposeAsync();
        jpeg?.Dispose();
        stop.Dispose();
    }

    /// <returns>Whether something was heard within the time.</returns>
    private async Task<bool> HearOnceAsync(TimeSpan within)
    {
        if (hears is null)
        {
            await Viewer.AskAsync(true, Stop);
            hears = Viewer.HearAsync(Stop);
        }
        if (await Task.WhenAny(hears, Task.Delay(within, Stop)) != hears)
        {
            Stop.ThrowIfCancellationRequested();
            return false;
        }
        var heard = hears;
        hears = null;
        await heard;
        return true;
    }

    public static bool IsSame(byte[] rgb, ScreenImage image, int near)
    {
        for (var i = 0; i < image.Pixels.Length; i++)
        {
            for (var part = 0; part < 3; part++)
            {
                if (Math.Abs((int)(image.Pixels[i] >> 16 - 8 * part & 255) - rgb[3 * i + part]) > near)
                {
                    return false;
                }
            }
        }
        return true;
    }
}
