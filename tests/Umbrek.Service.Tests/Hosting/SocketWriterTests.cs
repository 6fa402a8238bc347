using System.Diagnostics.Metrics;
using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Connections;
using Umbrek.Service.Hosting;
using Umbrek.Tests;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Service.Tests.Hosting;

/// <summary>How what is written reaches a connection over TLS.</summary>
public sealed class SocketWriterTests : IDisposable
{
    private readonly Socket near, far;
    private readonly List<ConnectionAbortedException> aborted = [];
    private readonly SocketWriter writer;

    public SocketWriterTests()
    {
        using var listener = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp);
        listener.Bind(new IPEndPoint(IPAddress.Loopback, 0));
        listener.Listen();
        near = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp);
        near.Connect(listener.LocalEndPoint!);
        far = listener.Accept();
        writer = new SocketWriter(near, aborted.Add);
    }

    public void Dispose()
    {
        near.Dispose();
        far.Dispose();
    }

    [Fact]
    public async Task More_than_the_system_takes_at_once_arrives_whole_and_in_order()
    {
        var bytes = RandomNumberGenerator.GetBytes(20_000_000);
        var reads = Task.Run(async () =>
        {
            var got = new byte[bytes.Length];
            await new NetworkStream(far).ReadExactlyAsync(got);
            return got;
        });
        // What was laid by goes before what is given at once.
        bytes.AsSpan(0, 1000).CopyTo(writer.GetSpan(1000));
        writer.Advance(1000);
        writer.UnflushedBytes.ShouldBe(1000);
        (await writer.WriteAsync(bytes.AsMemory(1000, 9_000_000))).IsCompleted.ShouldBeFalse();
        bytes.AsSpan(9_001_000, 10).CopyTo(writer.GetMemory(10).Span);
        writer.Advance(10);
        await writer.FlushAsync();
        writer.UnflushedBytes.ShouldBe(0);
        await writer.WriteAsync(bytes.AsMemory(9_001_010));
        SHA256.HashData(await reads.WaitAsync(TimeSpan.FromSeconds(60))).ShouldBe(SHA256.HashData(bytes));
        aborted.ShouldBeEmpty();
    }

    [Fact]
    public async Task When_the_other_side_is_gone_the_connection_is_told_and_the_rest_is_dropped()
    {
        far.LingerState = new LingerOption(true, 0);
        far.Dispose();
        var bytes = new byte[1 << 20];
        var tries = 0;
        while (!(await writer.WriteAsync(bytes)).IsCompleted)
        {
            (++tries).ShouldBeLessThan(100);
        }
        aborted.ShouldHaveSingleItem().InnerException.ShouldBeOfType<SocketException>();
        (await writer.WriteAsync(bytes)).IsCompleted.ShouldBeTrue();
        aborted.Count.ShouldBe(1);
    }

    [Fact]
    public async Task Who_gives_up_half_way_gives_up_the_connection()
    {
        using var patience = new CancellationTokenSource();
        var writes = writer.WriteAsync(new byte[50_000_000], patience.Token).AsTask();
        // The other side reads nothing: some of it has gone when nobody waits any longer.
        await Wait.UntilAsync(() => far.Available > 0, "something to arrive");
        writes.IsCompleted.ShouldBeFalse();
        await patience.CancelAsync();
        await Should.ThrowAsync<OperationCanceledException>(() => writes.WaitAsync(TimeSpan.FromSeconds(60)));
        aborted.ShouldHaveSingleItem().InnerException.ShouldBeAssignableTo<OperationCanceledException>();
        (await writer.WriteAsync(new byte[10])).IsCompleted.ShouldBeTrue();
    }

    [Theory]
    [InlineData("1.1")]
    [InlineData("2.0")]
    public async Task Over_tls_a_large_file_comes_whole(string version)
    {
        var (service, address) = await StartAsync();
        await using var _ = service;
        var path = await AgentAsync(service);
        using var plain = new HttpClient { BaseAddress = service.Address };
        using var http = new HttpClient(ApiClient.Handler(new(service.Get<ServiceKey>().Sha256)))
        {
            BaseAddress = address,
            DefaultRequestVersion = Version.Parse(version),
            DefaultVersionPolicy = HttpVersionPolicy.RequestVersionExact,
        };
        var theirs = await Task.WhenAll(Enumerable.Range(0, 4).Select(_ => http.GetByteArrayAsync(path)));
        var whole = SHA256.HashData(await plain.GetByteArrayAsync(path));
        foreach (var bytes in theirs)
        {
            SHA256.HashData(bytes).ShouldBe(whole);
        }
    }

    [Fact]
    public async Task Somebody_who_stops_reading_and_goes_leaves_no_connection_behind()
    {
        var (service, address) = await StartAsync();
        await using var _ = service;
        var path = await AgentAsync(service);
        var open = 0L;
        using var meter = new MeterListener
        {
            InstrumentPublished = (instrument, listener) =>
            {
                if (instrument.Name == "kestrel.active_connections")
                {
                    listener.EnableMeasurementEvents(instrument);
                }
            },
        };
        meter.SetMeasurementEventCallback<long>((_, change, tags, _) =>
        {
            foreach (var tag in tags)
            {
                if (tag is { Key: "server.port", Value: int port } && port == address.Port)
                {
                    Interlocked.Add(ref open, change);
                }
            }
        });
        meter.Start();
        using (var socket = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp) { ReceiveBufferSize = 4096, LingerState = new LingerOption(true, 0) })
        {
            await socket.ConnectAsync(IPAddress.Loopback, address.Port);
            await using var tls = new SslStream(new NetworkStream(socket), false, (_, certificate, _, _) => ServicePinOf(service, certificate!));
            await tls.AuthenticateAsClientAsync("localhost");
            await tls.WriteAsync(Encoding.ASCII.GetBytes($"GET {path} HTTP/1.1\r\nHost: localhost\r\n\r\n"));
            await tls.ReadExactlyAsync(new byte[100_000]);
            Interlocked.Read(ref open).ShouldBe(1);
            socket.Close();
        }
        await Wait.UntilAsync(() => Interlocked.Read(ref open) == 0, "the connection to be over");
    }

    private static bool ServicePinOf(TestService service, System.Security.Cryptography.X509Certificates.X509Certificate certificate) =>
        certificate.GetCertHash().SequenceEqual(service.Get<ServiceKey>().Certificate.GetCertHash());

    private static async Task<(TestService Service, Uri Tls)> StartAsync()
    {
        var port = TestPorts.Next();
        var service = await TestService.StartAsync(adjust: o => o with { Listen = [.. o.Listen, new ListenAddress(IPAddress.Loopback, port, true)] });
        return (service, new Uri($"https://localhost:{port}"));
    }

    private static async Task<string> AgentAsync(TestService service) =>
        $"/get/{(await service.NewInstallerAsync(new NewInstaller(TestService.Group))).Link.Split('/')[^1]}/agent";
}
