using System.Net;
using System.Net.Sockets;
using System.Net.WebSockets;
using System.Security.Cryptography;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Wire.Tests.Files;

/// <summary>Both ends of a channel to files, on a real WebSocket.</summary>
public sealed class FileFramesTests : IAsyncLifetime
{
    private readonly List<IDisposable> open = [];
    private WebSocket near = null!;
    private WebSocket far = null!;

    public async ValueTask InitializeAsync()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var client = new TcpClient();
        await client.ConnectAsync((IPEndPoint)listener.LocalEndpoint);
        var server = await listener.AcceptTcpClientAsync();
        near = WebSocket.CreateFromStream(client.GetStream(), new WebSocketCreationOptions());
        far = WebSocket.CreateFromStream(server.GetStream(), new WebSocketCreationOptions { IsServer = true });
        open.AddRange([near, far, client, server]);
    }

    public ValueTask DisposeAsync()
    {
        open.ForEach(o => o.Dispose());
        return ValueTask.CompletedTask;
    }

    [Fact]
    public async Task Words_and_bytes_come_in_their_order_however_large()
    {
        var (technician, host) = (FileFrames.OfTechnician(near), FileFrames.OfHost(far));
        var bytes = RandomNumberGenerator.GetBytes(500_000);
        var sending = Task.Run(async () =>
        {
            for (var n = 0; n < 500; n++)
            {
                await technician.WriteAsync(new FileAsk(Look: new FileName($"/{n}")), default);
            }
            await technician.WriteAsync(bytes, default);
            await technician.WriteAsync(ReadOnlyMemory<byte>.Empty, default);
            await technician.SayAsync(new FileAsk(End: new FileEnd([7])), default);
            await technician.CloseAsync(default);
        });
        for (var n = 0; n < 500; n++)
        {
            (await host.ReceiveAsync(default))!.Value.Word!.Look!.Text.ShouldBe($"/{n}");
        }
        using var came = new MemoryStream();
        FileMessage<FileAsk> next;
        while ((next = (await host.ReceiveAsync(default))!.Value).Word is null)
        {
            came.Write(next.Data.Span);
        }
        came.ToArray().ShouldBe(bytes);
        next.Word!.End!.Sha256.ShouldBe([7]);
        (await host.ReceiveAsync(default)).ShouldBeNull();
        await sending;
    }

    [Fact]
    public async Task What_came_of_a_record_before_the_line_broke_is_not_lost()
    {
        var host = FileFrames.OfHost(far);
        // A record of 60,000 bytes, of which a third comes, in a message that has no end.
        byte[] header = [2, 0x60, 0xea, 0, 0];
        await near.SendAsync(header.AsMemory(), WebSocketMessageType.Binary, false, default);
        await near.SendAsync(new byte[20_000], WebSocketMessageType.Binary, false, default);
        near.Abort();
        open[2].Dispose();
        var came = 0;
        await Should.ThrowAsync<WebSocketException>(async () =>
        {
            while (await host.ReceiveAsync(default) is { } some)
            {
                came += some.Data.Length;
            }
        });
        came.ShouldBe(20_000);
    }

    [Theory]
    [InlineData(new byte[] { 3, 0, 0, 0, 0 })]
    [InlineData(new byte[] { 1, 0, 0, 1, 0 })]
    [InlineData(new byte[] { 2, 0xff, 0xff, 0xff, 0xff })]
    [InlineData(new byte[] { 1, 2, 0, 0, 0, (byte)'{', (byte)'x' })]
    [InlineData(new byte[] { 1, 4, 0, 0, 0, (byte)'n', (byte)'u', (byte)'l', (byte)'l' })]
    public async Task What_is_no_record_is_refused(byte[] message)
    {
        await near.SendAsync(message.AsMemory(), WebSocketMessageType.Binary, true, default);
        await Should.ThrowAsync<InvalidDataException>(async () => await FileFrames.OfHost(far).ReceiveAsync(default));
    }
}
