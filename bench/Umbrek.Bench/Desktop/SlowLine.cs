using System.Net;
using System.Net.Sockets;
using System.Threading.Channels;

namespace Umbrek.Bench.Desktop;

/// <summary>
/// A slow way to a port of this machine: what goes through it is late by half a round trip each way, back from there no faster than the
/// line carries, and now and then nothing goes on for a moment, as when something was lost.
/// </summary>
internal sealed class SlowLine : IAsyncDisposable
{
    public static readonly TimeSpan RoundTrip = TimeSpan.FromMilliseconds(80);
    private const double BytesPerSecond = 2_000_000 / 8.0;
    private static readonly TimeSpan Stall = TimeSpan.FromMilliseconds(200);
    private static readonly TimeSpan StallEvery = TimeSpan.FromSeconds(5);

    /// <summary>A packet or two: more would be held here than a router holds.</summary>
    private const int Piece = 2 * 1460;

    /// <summary>What stands before the line: a tenth of a second of it.</summary>
    private const int Before = 25_000;

    private readonly TcpListener listener = new(IPAddress.Loopback, 0);
    private readonly CancellationTokenSource stop = new();
    private readonly int target;
    private readonly Task serving;

    public SlowLine(int target)
    {
        this.target = target;
        listener.Start();
        serving = ServeAsync();
    }

    public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

    public async ValueTask DisposeAsync()
    {
        await stop.CancelAsync();
        listener.Dispose();
        await serving.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        stop.Dispose();
    }

    private async Task ServeAsync()
    {
        while (!stop.IsCancellationRequested)
        {
            _ = PassAsync(await listener.AcceptTcpClientAsync(stop.Token));
        }
    }

    private async Task PassAsync(TcpClient near)
    {
        using (near)
        {
            using var far = new TcpClient { ReceiveBufferSize = Before };
            using var over = CancellationTokenSource.CreateLinkedTokenSource(stop.Token);
            await far.ConnectAsync(IPAddress.Loopback, target, over.Token);
            (near.NoDelay, far.NoDelay) = (true, true);
            var there = CarryAsync(near.GetStream(), far.GetStream(), double.PositiveInfinity, over.Token);
            var back = CarryAsync(far.GetStream(), near.GetStream(), BytesPerSecond, over.Token);
            await Task.WhenAny(there, back);
            await over.CancelAsync();
            await Task.WhenAll(there, back).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    /// <summary>Reads no faster than the line carries; what it carries is on its way for half a round trip.</summary>
    private static async Task CarryAsync(NetworkStream from, NetworkStream to, double rate, CancellationToken over)
    {
        var onItsWay = Channel.CreateUnbounded<(long At, byte[] Bytes)>();
        var arrives = ArriveAsync(onItsWay.Reader, to, over);
        var buffer = new byte[Piece];
        var (free, stall) = (Environment.TickCount64 / 1000.0, Environment.TickCount64 / 1000.0 + StallEvery.TotalSeconds);
        while (await from.ReadAsync(buffer, over) is > 0 and var got)
        {
            var now = Environment.TickCount64 / 1000.0;
            free = Math.Max(free, now) + got / rate;
            if (!double.IsInfinity(rate) && now > stall)
            {
                (free, stall) = (free + Stall.TotalSeconds, now + StallEvery.TotalSeconds);
            }
            onItsWay.Writer.TryWrite(((long)((free + RoundTrip.TotalSeconds / 2) * 1000), buffer.AsSpan(0, got).ToArray()));
            if (free - now > 0.002)
            {
                await Task.Delay(TimeSpan.FromSeconds(free - now), over);
            }
        }
        onItsWay.Writer.Complete();
        await arrives;
    }

    private static async Task ArriveAsync(ChannelReader<(long At, byte[] Bytes)> onItsWay, NetworkStream to, CancellationToken over)
    {
        await foreach (var (at, bytes) in onItsWay.ReadAllAsync(over))
        {
            if (at - Environment.TickCount64 is > 0 and var wait)
            {
                await Task.Delay((int)wait, over);
            }
            await to.WriteAsync(bytes, over);
        }
    }
}
