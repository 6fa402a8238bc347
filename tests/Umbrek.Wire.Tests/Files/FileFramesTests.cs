using System.IO.Compression;
using System.Net;
using System.Net.Sockets;
using System.Net.WebSockets;
using System.Security.Cryptography;
using System.Text;
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

    [Fact]
    public async Task What_packs_goes_packed_and_comes_as_it_was()
    {
        var (technician, host) = (FileFrames.OfTechnician(near), FileFrames.OfHost(far, new Standing()));
        var text = Encoding.UTF8.GetBytes(string.Concat(Enumerable.Range(0, 20_000).Select(n => $"quay-ticket-01 printed ticket {n}\n")));
        var noise = RandomNumberGenerator.GetBytes(500_000);
        var onTheLine = 0L;
        var sending = Task.Run(async () =>
        {
            await host.WriteAsync(text, default);
            await host.SayAsync(new FileWord(Done: true), default);
            await host.WriteAsync(noise, default);
            await host.SayAsync(new FileWord(Done: true), default);
            await host.CloseAsync(default);
        });
        foreach (var sent in new[] { text, noise })
        {
            using var came = new MemoryStream();
            FileMessage<FileWord> next;
            while ((next = (await technician.ReceiveAsync(default))!.Value).Word is null)
            {
                came.Write(next.Data.Span);
            }
            came.ToArray().ShouldBe(sent);
        }
        (await technician.ReceiveAsync(default)).ShouldBeNull();
        await sending;

        // The same to one who counts what comes.
        await DisposeAsync();
        await InitializeAsync();
        host = FileFrames.OfHost(far, new Standing());
        async Task<long> CountAsync(byte[] bytes)
        {
            var before = onTheLine;
            var counting = Task.Run(async () =>
            {
                var buffer = new byte[1 << 16];
                ValueWebSocketReceiveResult got;
                do
                {
                    got = await near.ReceiveAsync(buffer.AsMemory(), default);
                    onTheLine += got.Count;
                }
                while (got.MessageType != WebSocketMessageType.Text);
            });
            await host.WriteAsync(bytes, default);
            await host.FlushAsync(default);
            await far.SendAsync(ReadOnlyMemory<byte>.Empty, WebSocketMessageType.Text, true, default);
            await counting;
            return onTheLine - before;
        }
        (await CountAsync(text)).ShouldBeLessThan(text.Length / 3);
        (await CountAsync(noise)).ShouldBeInRange(noise.Length, noise.Length + noise.Length / 1000);
    }

    [Fact]
    public async Task Where_the_other_side_has_not_said_that_it_understands_nothing_is_packed()
    {
        var (technician, host) = (FileFrames.OfTechnician(near), FileFrames.OfHost(far));
        var zeros = new byte[FileFrames.MaxRecord];
        await technician.WriteAsync(zeros, default);
        await technician.FlushAsync(default);
        var buffer = new byte[FileFrames.MaxMessage];
        var came = 0;
        for (ValueWebSocketReceiveResult got = default; !got.EndOfMessage;)
        {
            got = await far.ReceiveAsync(buffer.AsMemory(came), default);
            came += got.Count;
        }
        (came, buffer[0]).ShouldBe((FileFrames.MaxMessage, (byte)2));
        _ = host;
    }

    [Fact]
    public async Task A_record_that_grows_beyond_one_is_refused()
    {
        using var packed = new MemoryStream();
        using (var deflate = new DeflateStream(packed, CompressionLevel.SmallestSize, leaveOpen: true))
        {
            deflate.Write(new byte[50 << 20]);
        }
        packed.Length.ShouldBeLessThan(FileFrames.MaxRecord);
        byte[] header = [3, .. BitConverter.GetBytes((uint)packed.Length)];
        await near.SendAsync(header.Concat(packed.ToArray()).ToArray().AsMemory(), WebSocketMessageType.Binary, true, default);
        (await Should.ThrowAsync<InvalidDataException>(async () => await FileFrames.OfHost(far).ReceiveAsync(default))).Message.ShouldContain("packed");
    }

    [Theory]
    [InlineData(new byte[] { 4, 0, 0, 0, 0 })]
    [InlineData(new byte[] { 3, 0, 0, 0, 0 })]
    [InlineData(new byte[] { 3, 3, 0, 0, 0, 0xff, 0xff, 0xff })]
    [InlineData(new byte[] { 1, 0, 0, 1, 0 })]
    [InlineData(new byte[] { 2, 0xff, 0xff, 0xff, 0xff })]
    [InlineData(new byte[] { 1, 2, 0, 0, 0, (byte)'{', (byte)'x' })]
    [InlineData(new byte[] { 1, 4, 0, 0, 0, (byte)'n', (byte)'u', (byte)'l', (byte)'l' })]
    public async Task What_is_no_record_is_refused(byte[] message)
    {
        await near.SendAsync(message.AsMemory(), WebSocketMessageType.Binary, true, default);
        await Should.ThrowAsync<InvalidDataException>(async () => await FileFrames.OfHost(far).ReceiveAsync(default));
    }

    /// <summary>Time stands, so that nothing seems fast or slow.</summary>
    private sealed class Standing : TimeProvider
    {
        public override long GetTimestamp() => 0;
    }
}
