using System.Net;
using System.Net.Sockets;
using System.Threading.Channels;

namespace Umbrek.Bench.Hosting;

/// <summary>
/// A slow way to a port of this machine: what goes through it is late by half a round trip each way, no faster than the line carries, and,
/// if it is said so, back from there now and then nothing goes on for a moment, as when something was lost.
/// </summary>
/// <param name="there">Bytes a second that it carries there.</param>
/// <param name="back">The same on the way back.</param>
internal sealed class SlowLine : IAsyncDisposable
{
    private static readonly TimeSpan Stall = TimeSpan.FromMilliseconds(200);
    private static readonly TimeSpan StallEvery = TimeSpan.FromSeconds(5);

    /// <summary>Two packets: more would be held here than a router holds.</summary>
    private const int Least = 2 * 1460;
    private static readonly TimeSpan Piece = TimeSpan.FromMilliseconds(5);

    /// <summary>What stands before the line.</summary>
    private static readonly TimeSpan Before = TimeSpan.FromMilliseconds(100);

    private readonly TcpListener listener = new(IPAddress.Loopback, 0);
    private readonly CancellationTokenSource stop = new();
    private readonly Task serving;

    public SlowLine(int target, double there, double back, TimeSpan roundTrip = default, bool stalls = false)
    {
        listener.Start();
        serving = ServeAsync(near => PassAsync(near, target, there, back, roundTrip, stalls));
    }

    public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

    public async ValueTask DisposeAsync()
    {
        await stop.CancelAsync();
        listener.Dispose();
        await serving.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        stop.Dispose();
    }

    private async Task ServeAsync(Func<TcpClient, Task> pass)
    {
        while (!stop.IsCancellationRequested)
        {
            _ = pass(await listener.AcceptTcpClientAsync(stop.Token));
        }
    }

    private async Task PassAsync(TcpClient near, int target, double there, double back, TimeSpan roundTrip, bool stalls)
    {
        using (near)
        {
            near.ReceiveBufferSize = (int)(there * Before.TotalSeconds);
            using var far = new TcpClient { ReceiveBufferSize = (int)(back * Before.TotalSeconds) };
            using var over = CancellationTokenSource.CreateLinkedTokenSource(stop.Token);
            await far.ConnectAsync(IPAddress.Loopback, target, over.Token);
            (near.NoDelay, far.NoDelay) = (true, true);
            var goes = CarryAsync(near.GetStream(), far.GetStream(), there, roundTrip / 2, false, over.Token);
            var comes = CarryAsync(far.GetStream(), near.GetStream(), back, roundTrip / 2, stalls, over.Token);
            await Task.WhenAny(goes, comes);
            await over.CancelAsync();
            await Task.WhenAll(goes, comes).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    /// <summary>Reads no faster than the line carries; what it carries is on its way for a while.</summary>
    private static async Task CarryAsync(NetworkStream from, NetworkStream to, double rate, TimeSpan late, bool stalls, CancellationToken over)
    {
        var onItsWay = Channel.CreateUnbounded<(long At, byte[] Bytes)>();
        var arrives = ArriveAsync(onItsWay.Reader, to, over);
        var buffer = new byte[Math.Max(Least, (int)(rate * Piece.TotalSeconds))];
        var (free, stall) = (Environment.TickCount64 / 1000.0, Environment.TickCount64 / 1000.0 + StallEvery.TotalSeconds);
        while (await from.ReadAsync(buffer, over) is > 0 and var got)
        {
            var now = Environment.TickCount64 / 1000.0;
            free = Math.Max(free, now) + got / rate;
            if (stalls && now > stall)
            {
                (free, stall) = (free + Stall.TotalSeconds, now + StallEvery.TotalSeconds);
            }
            onItsWay.Writer.TryWrite(((long)((free + late.TotalSeconds) * 1000), buffer.AsSpan(0, got).ToArray()));
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
