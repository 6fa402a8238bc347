using System.Net;
using System.Net.Sockets;

namespace Umbrek.EndToEnd.Tests.Hosting;

/// <summary>Passes connections on to a port of this machine, and cuts each after so many bytes that came back from there, or went there.</summary>
internal sealed class CuttingProxy : IAsyncDisposable
{
    private readonly TcpListener listener = new(IPAddress.Loopback, 0);
    private readonly CancellationTokenSource stop = new();
    private readonly int target;
    private readonly Func<long> next;
    private readonly bool countsThere;
    private readonly Task serving;
    private readonly TaskCompletionSource held = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly TaskCompletionSource released = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private long passed;

    /// <param name="next">After how many bytes the next connection is cut.</param>
    /// <param name="holdsAt">After so many bytes of all connections it passes nothing on until it is released.</param>
    /// <param name="countsThere">Bytes that go there count, not those that come back.</param>
    public CuttingProxy(int target, Func<long> next, long holdsAt = long.MaxValue, bool countsThere = false)
    {
        (this.target, this.next, HoldsAt, this.countsThere) = (target, next, holdsAt, countsThere);
        listener.Start();
        serving = ServeAsync();
    }

    public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

    public int Cuts { get; private set; }

    public long Passed => Interlocked.Read(ref passed);

    private long HoldsAt { get; }

    /// <summary>It holds.</summary>
    public Task Held => held.Task;

    public void Release() => released.TrySetResult();

    public async ValueTask DisposeAsync()
    {
        released.TrySetResult();
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
            using var far = new TcpClient();
            using var over = CancellationTokenSource.CreateLinkedTokenSource(stop.Token);
            await far.ConnectAsync(IPAddress.Loopback, target, over.Token);
            var (there, back) = (near.GetStream(), far.GetStream());
            var plain = countsThere ? back.CopyToAsync(there, over.Token) : there.CopyToAsync(back, over.Token);
            var counted = countsThere ? CountAsync(there, back, next(), over.Token) : CountAsync(back, there, next(), over.Token);
            await Task.WhenAny(plain, counted);
            await over.CancelAsync();
            await Task.WhenAll(plain, counted).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    private async Task CountAsync(NetworkStream from, NetworkStream to, long left, CancellationToken over)
    {
        var buffer = new byte[16 * 1024];
        while (left > 0)
        {
            var got = await from.ReadAsync(buffer.AsMemory(0, (int)Math.Min(left, buffer.Length)), over);
            if (got == 0)
            {
                return;
            }
            if (Interlocked.Add(ref passed, got) > HoldsAt)
            {
                held.TrySetResult();
                await released.Task.WaitAsync(over);
            }
            await to.WriteAsync(buffer.AsMemory(0, got), over);
            left -= got;
        }
        Cuts++;
    }
}
