using System.Diagnostics;
using System.Globalization;
using System.IO.Pipelines;
using System.Net;
using System.Net.Sockets;
using System.Net.WebSockets;
using System.Threading.Channels;
using Microsoft.Playwright;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Core.Desktop;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Sessions;

namespace Umbrek.Bench.Desktop;

/// <summary>
/// A real screen through service and agent, seen by a viewer that draws nothing and by the console in a browser, against the same
/// capture and encoder with one bare WebSocket between them and a viewer, and a bare page in the same browser.
/// </summary>
public static class DesktopBench
{
    private const int Changes = 200;
    private const int Keys = 60;
    private const double SlowBytes = 2_000_000 / 8.0;
    private static readonly TimeSpan SlowTrip = TimeSpan.FromMilliseconds(80);
    private static readonly TimeSpan Show = TimeSpan.FromSeconds(6);
    private static readonly int[] Takes = [RfbEncoding.CopyRect, RfbEncoding.Zrle, RfbEncoding.Tight, RfbEncoding.Raw, RfbEncoding.Cursor, RfbEncoding.ExtendedDesktopSize, RfbEncoding.Fence, RfbEncoding.ContinuousUpdates, RfbEncoding.BestQuality];

    public static async Task RunAsync()
    {
        foreach (var (width, height) in new[] { (1280, 800), (1920, 1080) })
        {
            Console.WriteLine($"-- desktop of {width} x {height}");
            await using var screen = await PaintedScreen.StartAsync(width, height);
            await using var host = await OneHost.StartAsync();
            var bare = await BareAsync(screen, line => LatenciesAsync(screen, line));
            var through = await ThroughAsync(host, screen, line => LatenciesAsync(screen, line));
            Figures.Line("change to pixels at a viewer that draws nothing, p50", through.P50, bare.P50, "ms", "");
            Figures.Line("… p95", through.P95, bare.P95, "ms", "");
            var (drawn, drawnBare) = (await InBrowserAsync(host, screen), await BareInBrowserAsync(host, screen));
            Figures.Line("change to pixels in the browser, p50", drawn.P50, drawnBare.P50, "ms", "under 2");
            Figures.Line("change to pixels in the browser, p95", drawn.P95, drawnBare.P95, "ms", "under 2");
            foreach (var (what, rate, paint) in Scenes(screen))
            {
                var alone = await BareAsync(screen, line => WatchAsync(screen, line, rate, paint, null));
                var ours = await ThroughAsync(host, screen, line => WatchAsync(screen, line, rate, paint, HelperOf(host)));
                Figures.Line($"{what}, pictures a second", ours.Pictures, alone.Pictures, "/s", what == "film over all of it" ? "30 or more" : "");
                Figures.Alone($"{what}, processor of the host", ours.Processor, "%", "under 100");
                Figures.Alone($"{what}, bytes a second", ours.Bytes / 1e6, "MB/s", "");
            }
            var still = await ThroughAsync(host, screen, async line =>
            {
                using var viewer = await LookAsync(line);
                var hears = viewer.HearAsync(default);
                await Task.Delay(1000);
                var before = Used(HelperOf(host)!.Value);
                await Task.Delay(Show);
                GC.KeepAlive(hears);
                var (resident, share) = Memory(HelperOf(host)!.Value);
                return (Processor: (Used(HelperOf(host)!.Value) - before).TotalSeconds / Show.TotalSeconds * 100, Resident: resident, Share: share);
            });
            Figures.Alone("still, processor of the helper", still.Processor, "%", "0");
            Figures.Alone("memory of the helper, resident", still.Resident, "MB", "");
            Figures.Alone("… with its share of what it shares with the agent", still.Share, "MB", "under 40");
        }
    }

    /// <summary>A key is pressed while a film plays, over a line of 80 ms and 2 Mbit/s that stalls now and then; until its echo is there.</summary>
    public static async Task RunSlowAsync()
    {
        Console.WriteLine("-- desktop over a line of 80 ms and 2 Mbit/s");
        await using var screen = await PaintedScreen.StartAsync(1280, 800);
        await using var host = await OneHost.StartAsync();
        await screen.EchoAsync(20, 20);
        await using var slow = new SlowLine(host.Address.Port, SlowBytes, SlowBytes, SlowTrip, stalls: true);
        using var api = new ApiClient(new UriBuilder(host.Address) { Port = slow.Port }.Uri, host.Pin, host.Token);
        var still = await ThroughAsync(host, api, screen, line => EchoesAsync(line));
        using var over = new CancellationTokenSource();
        var film = PaintAsync(screen, 30, n => screen.Film(n, 200, 100, 960, 600), over.Token);
        var busy = await ThroughAsync(host, api, screen, line => EchoesAsync(line));
        await over.CancelAsync();
        await film;
        var trip = SlowTrip.TotalMilliseconds;
        Figures.Line("slow line, echo of a key, p50, against a round trip", still.P50, trip, "ms", "");
        Figures.Line("… while a film plays, p50", busy.P50, trip, "ms", "under 2");
        Figures.Line("… while a film plays, p95", busy.P95, trip, "ms", "");
    }

    private static async Task<(double P50, double P95)> EchoesAsync(Stream line)
    {
        using var viewer = await LookAsync(line);
        var seen = Channel.CreateUnbounded<long>();
        async Task HearAsync()
        {
            var echo = viewer.Image.Row(28)[24];
            while (true)
            {
                await viewer.HearAsync(default);
                if (viewer.Image.Row(28)[24] is var now && now != echo)
                {
                    echo = now;
                    seen.Writer.TryWrite(Stopwatch.GetTimestamp());
                }
            }
        }
        var hears = HearAsync();
        var took = new List<double>();
        for (var n = 0; n < Keys; n++)
        {
            var began = Stopwatch.GetTimestamp();
            await viewer.KeyAsync(true, 'x', default);
            await viewer.KeyAsync(false, 'x', default);
            took.Add(Stopwatch.GetElapsedTime(began, await seen.Reader.ReadAsync()).TotalMilliseconds);
            // Not in step with the film.
            await Task.Delay(150 + n * 37 % 100);
        }
        GC.KeepAlive(hears);
        took.Sort();
        return (took[took.Count / 2], took[took.Count * 95 / 100]);
    }

    private static IEnumerable<(string What, int Rate, Action<int> Paint)> Scenes(PaintedScreen screen)
    {
        var across = screen.Width / 8;
        yield return ("typing", 20, n => screen.Letter(n % across, n / across % 10 + 3));
        yield return ("scrolling text", 30, _ => screen.Scroll(40, 60, 100, 36));
        yield return ("a picture is dragged", 60, n => screen.Film(0, 40 + n * 5 % 600, 80 + n * 3 % 200, 400, 300));
        yield return ("film over all of it", 60, n => screen.Film(n, 0, 0, screen.Width, screen.Height));
    }

    private static async Task<RfbViewer> LookAsync(Stream line)
    {
        var viewer = new RfbViewer(line);
        await viewer.BeginAsync(true, default);
        await viewer.TakeAsync(Takes, default);
        await viewer.AskAsync(false, default);
        while (await viewer.HearAsync(default) != RfbHeard.Picture)
        {
        }
        // From now on what changes comes by itself.
        await line.WriteAsync(new byte[] { RfbMessage.EnableContinuousUpdates, 1, 0, 0, 0, 0, 0xFF, 0xFF, 0xFF, 0xFF });
        await line.FlushAsync();
        return viewer;
    }

    /// <summary>From when something is painted until the viewer has its pixels.</summary>
    private static async Task<(double P50, double P95)> LatenciesAsync(PaintedScreen screen, Stream line)
    {
        using var viewer = await LookAsync(line);
        var took = new List<double>();
        for (var n = 0; n < Changes; n++)
        {
            var colour = (uint)(0x010101 * (n + 10)) & 0xFFFFFF;
            var began = Stopwatch.GetTimestamp();
            screen.Fill(200, 200, 8, 16, colour);
            while (viewer.Image.Row(205)[204] != colour)
            {
                await viewer.HearAsync(default);
            }
            took.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
            // As somebody types: the next picture waits for no other.
            await Task.Delay(25);
        }
        took.Sort();
        return (took[took.Count / 2], took[took.Count * 95 / 100]);
    }

    private static async Task<(double Pictures, double Processor, double Bytes)> WatchAsync(PaintedScreen screen, Stream line, int rate, Action<int> paint, int? helper)
    {
        var counting = new Counting(line);
        using var viewer = await LookAsync(counting);
        using var over = new CancellationTokenSource(Show);
        var paints = PaintAsync(screen, rate, paint, over.Token);
        var (pictures, began, bytes, used) = (0, Stopwatch.GetTimestamp(), counting.Bytes, helper is { } h ? Used(h) : default);
        while (!over.IsCancellationRequested)
        {
            if (await viewer.HearAsync(default) == RfbHeard.Picture)
            {
                pictures++;
            }
        }
        var took = Stopwatch.GetElapsedTime(began).TotalSeconds;
        await paints;
        return (pictures / took, helper is { } h2 ? (Used(h2) - used).TotalSeconds / took * 100 : 0, (counting.Bytes - bytes) / took);
    }

    private static async Task PaintAsync(PaintedScreen screen, int rate, Action<int> paint, CancellationToken over)
    {
        using var timer = new PeriodicTimer(TimeSpan.FromSeconds(1.0 / rate));
        for (var n = 0; !over.IsCancellationRequested; n++)
        {
            paint(n);
            await screen.DoneAsync();
            await timer.WaitForNextTickAsync(default);
        }
        // One change more, so that whoever hears learns that it is over.
        screen.Fill(0, 0, 3, 3, (uint)Random.Shared.Next(0x1000000));
        await screen.DoneAsync();
    }

    private static async Task<(double P50, double P95)> InBrowserAsync(OneHost host, PaintedScreen screen)
    {
        await using var browser = await ConsoleBrowser.OpenAsync(host.Pin);
        await browser.SignInAsync(host.Address, OneHost.Name, OneHost.Password);
        await browser.Page.GotoAsync($"{host.Address}hosts/{host.Host.Id}/desktop?as=watch&screen={Uri.EscapeDataString($":{screen.Number}")}");
        return await DrawnAsync(browser.Page, ".glass canvas", screen);
    }

    private static async Task<(double P50, double P95)> BareInBrowserAsync(OneHost host, PaintedScreen screen)
    {
        await using var bare = new BarePage(screen, LinkBench.FreePort());
        await using var browser = await ConsoleBrowser.OpenAsync(host.Pin);
        await browser.Page.GotoAsync($"{bare.Address}");
        return await DrawnAsync(browser.Page, "canvas", screen);
    }

    /// <summary>From when something is painted until the browser has drawn it: looked at whenever it draws, sixty times a second.</summary>
    /// <param name="canvas">Which element shows the screen.</param>
    private static async Task<(double P50, double P95)> DrawnAsync(IPage page, string canvas, PaintedScreen screen)
    {
        await page.Locator(canvas).WaitForAsync();
        await page.EvaluateAsync("""
            () => {
              const from = document.querySelector('CANVAS');
              const at = new OffscreenCanvas(1, 1).getContext('2d', { willReadFrequently: true });
              window.seen = [];
              let before = -1;
              const look = () => {
                at.drawImage(from, 204 * from.width / WIDTH, 205 * from.height / HEIGHT, 1, 1, 0, 0, 1, 1);
                const [r, g, b] = at.getImageData(0, 0, 1, 1).data;
                const now = r << 16 | g << 8 | b;
                if (now !== before) window.seen.push([now, performance.timeOrigin + performance.now()]);
                before = now;
                requestAnimationFrame(look);
              };
              look();
            }
            """.Replace("CANVAS", canvas, StringComparison.Ordinal)
            .Replace("WIDTH", $"{screen.Width}", StringComparison.Ordinal).Replace("HEIGHT", $"{screen.Height}", StringComparison.Ordinal));
        // The first picture is on its way, and the first changes wake what has never run: they are not counted.
        const int Warms = 20;
        var painted = new List<(uint Colour, double At)>();
        for (var n = 0; n < Warms + Changes; n++)
        {
            var colour = (uint)(0x010101 * (n + 20)) & 0xFFFFFF;
            if (n >= Warms)
            {
                painted.Add((colour, (TimeProvider.System.GetUtcNow() - DateTimeOffset.UnixEpoch).TotalMilliseconds));
            }
            screen.Fill(200, 200, 8, 16, colour);
            // Not in step with the browser.
            await Task.Delay((n == 0 ? 2000 : 40) + n * 7 % 17);
        }
        var seen = (await page.EvaluateAsync<double[][]>("() => window.seen")).ToLookup(s => (uint)s[0], s => s[1]);
        var took = painted.Where(p => seen[p.Colour].Any()).Select(p => seen[p.Colour].First() - p.At).Order().ToList();
        return took.Count >= Changes * 9 / 10 ? (took[took.Count / 2], took[took.Count * 95 / 100])
            : throw new InvalidOperationException($"The browser has drawn {took.Count} of {Changes} changes.");
    }

    /// <summary>The same capture and encoder in this process, with one WebSocket in the open to the viewer.</summary>
    private static async Task<T> BareAsync<T>(PaintedScreen screen, Func<Stream, Task<T>> look)
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        using var near = new TcpClient { NoDelay = true };
        var accepts = listener.AcceptTcpClientAsync();
        await near.ConnectAsync((IPEndPoint)listener.LocalEndpoint);
        using var far = await accepts;
        far.NoDelay = true;
        using var serving = WebSocket.CreateFromStream(far.GetStream(), new WebSocketCreationOptions { IsServer = true });
        using var viewing = WebSocket.CreateFromStream(near.GetStream(), new WebSocketCreationOptions());
        await using var x = await XScreen.OpenAsync(screen.Socket, null, "x", true, TimeProvider.System, default);
        using var jpeg = TurboJpeg.TryCreate();
        using var over = new CancellationTokenSource();
        await using var server = new RfbServer(x, WebSocketStream.Create(serving, WebSocketMessageType.Binary), true, jpeg, TimeProvider.System);
        var served = server.ServeAsync(over.Token);
        var result = await look(WebSocketStream.Create(viewing, WebSocketMessageType.Binary));
        await over.CancelAsync();
        await served.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        return result;
    }

    private static Task<T> ThroughAsync<T>(OneHost host, PaintedScreen screen, Func<Stream, Task<T>> look) => ThroughAsync(host, host.Api, screen, look);

    /// <param name="api">By which way the viewer comes.</param>
    private static async Task<T> ThroughAsync<T>(OneHost host, ApiClient api, PaintedScreen screen, Func<Stream, Task<T>> look)
    {
        var session = await api.PostAsync($"hosts/{host.Host.Id}/sessions", new NewSession("bench"), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);
        var (socket, _) = await ChannelSocket.OpenAsync(api, host.Pin, session.Id, new NewChannel(ChannelKinds.Desktop, Desktop: new DesktopWish(true, $":{screen.Number}")), default);
        using (socket)
        {
            var result = await look(await DesktopStream.OpenAsync(socket, null, default));
            await host.Api.ActAsync(HttpMethod.Post, $"sessions/{session.Id}/end", default);
            return result;
        }
    }

    /// <summary>The process that shows the screen: a child of the agent.</summary>
    private static int? HelperOf(OneHost host) =>
        Process.GetProcessesByName("umbrek-agent").Select(p => p.Id).Where(id => Parent(id) == host.Agent.Pid).Cast<int?>().LastOrDefault();

    private static int Parent(int pid)
    {
        try
        {
            return int.Parse(File.ReadAllText($"/proc/{pid}/stat").Split(") ")[1].Split(' ')[1], CultureInfo.InvariantCulture);
        }
        catch (IOException)
        {
            return 0;
        }
    }

    private static TimeSpan Used(int pid)
    {
        using var process = Process.GetProcessById(pid);
        return process.TotalProcessorTime;
    }

    /// <summary>proc(5), smaps_rollup: what is resident, and that with what several have counted in parts.</summary>
    private static (double Resident, double Share) Memory(int pid)
    {
        var lines = File.ReadAllLines($"/proc/{pid}/smaps_rollup");
        double Of(string name) => double.Parse(lines.First(l => l.StartsWith(name, StringComparison.Ordinal)).Split(' ', StringSplitOptions.RemoveEmptyEntries)[1], CultureInfo.InvariantCulture) * 1024 / 1e6;
        return (Of("Rss:"), Of("Pss:"));
    }

    /// <summary>Counts what is read.</summary>
    private sealed class Counting(Stream of) : Stream
    {
        public long Bytes { get; private set; }

        public override bool CanRead => true;
        public override bool CanWrite => true;
        public override bool CanSeek => false;
        public override long Length => throw new NotSupportedException();
        public override long Position { get => throw new NotSupportedException(); set => throw new NotSupportedException(); }

        public override async ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken cancellationToken = default)
        {
            var got = await of.ReadAsync(buffer, cancellationToken);
            Bytes += got;
            return got;
        }

        public override ValueTask WriteAsync(ReadOnlyMemory<byte> buffer, CancellationToken cancellationToken = default) => of.WriteAsync(buffer, cancellationToken);

        public override Task FlushAsync(CancellationToken cancellationToken) => of.FlushAsync(cancellationToken);

        public override void Flush() => of.Flush();

        public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

        public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

        public override void SetLength(long value) => throw new NotSupportedException();

        public override void Write(byte[] buffer, int offset, int count) => throw new NotSupportedException();
    }
}
