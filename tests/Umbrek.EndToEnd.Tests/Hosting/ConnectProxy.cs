using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;
using System.Text;

namespace Umbrek.EndToEnd.Tests.Hosting;

/// <summary>A small HTTP proxy on a test's own network: CONNECT (RFC 9110 §9.3.6) and nothing else.</summary>
internal sealed class ConnectProxy : IAsyncDisposable
{
    private readonly TcpListener listener;
    private readonly CancellationTokenSource stop = new();
    private readonly Task serving;

    private readonly Lan lan;

    public ConnectProxy(Lan lan)
    {
        this.lan = lan;
        listener = lan.Within(() =>
        {
            var made = new TcpListener(IPAddress.Parse(Lan.Address), 0);
            made.Start();
            return made;
        });
        serving = ServeAsync();
    }

    public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

    public ConcurrentBag<string> Targets { get; } = [];

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

    private async Task PassAsync(TcpClient client)
    {
        using (client)
        {
            try
            {
                var stream = client.GetStream();
                var head = new StringBuilder();
                var one = new byte[1];
                while (!head.ToString().EndsWith("\r\n\r\n", StringComparison.Ordinal) && await stream.ReadAsync(one, stop.Token) == 1)
                {
                    head.Append((char)one[0]);
                }
                var target = head.ToString().Split(' ')[1];
                Targets.Add(target);
                using var server = lan.Within(() => new TcpClient(AddressFamily.InterNetwork));
                var cut = target.LastIndexOf(':');
                await server.ConnectAsync(target[..cut], int.Parse(target[(cut + 1)..], System.Globalization.CultureInfo.InvariantCulture), stop.Token);
                await stream.WriteAsync("HTTP/1.1 200 Connected\r\n\r\n"u8.ToArray(), stop.Token);
                await Task.WhenAny(stream.CopyToAsync(server.GetStream(), stop.Token), server.GetStream().CopyToAsync(stream, stop.Token));
            }
            catch (Exception e) when (e is IOException or SocketException or OperationCanceledException)
            {
                // One of the two ends went.
            }
        }
    }
}
