using System.Collections.Concurrent;
using System.Net;
using System.Text;
using Umbrek.Core.Health;
using Umbrek.Service.Health;
using Umbrek.Service.Links;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.Service.Tests.Health;

/// <summary>Figures sent to a collector, a stand-in of the test's own that keeps what comes.</summary>
public sealed class OtlpTests
{
    [Fact]
    public async Task Figures_of_hosts_and_service_reach_a_collector_with_their_labels_and_the_header_it_wants()
    {
        using var collector = new HttpListener();
        var address = new Uri($"http://127.0.0.1:{TestPorts.Next()}/");
        collector.Prefixes.Add(address.AbsoluteUri);
        collector.Start();
        var came = new ConcurrentQueue<(string Path, string? Type, string? Authorization, byte[] Body)>();
        var serving = ServeAsync(collector, came);
        await using (var service = await TestService.StartAsync(adjust: o => o with { Otlp = new OtlpTarget(address, "authorization=Bearer%20tide", 1) }))
        {
            await service.EnrolAsync("quay-ticket-01");
            var host = await service.HostAsync("quay-ticket-01");
            await service.Get<Intake>().SamplesAsync(host.Id, [new Sample { At = DateTimeOffset.UtcNow, ProcessorPercent = 42.5, MemoryTotalBytes = 8L << 30, MemoryAvailableBytes = 2L << 30, FileSystems = [new FileSystemSample("/", "ext4", 100L << 30, 60L << 30, 40L << 30, 3)] }]);
            await Wait.UntilAsync(() => came.Any(c => Holds(c.Body, "umbrek_host_storage_used_percent")), "figures of the host");
            var last = came.Last(c => Holds(c.Body, "umbrek_host_storage_used_percent"));
            (last.Path, last.Type, last.Authorization).ShouldBe(("/v1/metrics", "application/x-protobuf", "Bearer tide"));
            foreach (var text in new[] { "umbrek_host_linked", "quay-ticket-01", "Saltmarsh Ferry/Quay", "umbrek_host_processor_percent", "umbrek_links", "process_cpu_seconds", "service.name" })
            {
                Holds(last.Body, text).ShouldBeTrue(text);
            }
            // A figure is a double in eight bytes (opentelemetry/proto/metrics, NumberDataPoint.as_double).
            last.Body.AsSpan().IndexOf(BitConverter.GetBytes(42.5)).ShouldBeGreaterThan(0);
        }
        collector.Stop();
        await serving;
    }

    private static bool Holds(byte[] body, string text) => body.AsSpan().IndexOf(Encoding.UTF8.GetBytes(text)) >= 0;

    private static async Task ServeAsync(HttpListener collector, ConcurrentQueue<(string, string?, string?, byte[])> came)
    {
        try
        {
            while (true)
            {
                var call = await collector.GetContextAsync();
                var body = new MemoryStream();
                await call.Request.InputStream.CopyToAsync(body);
                came.Enqueue((call.Request.Url!.AbsolutePath, call.Request.ContentType, call.Request.Headers["authorization"], body.ToArray()));
                call.Response.ContentType = "application/x-protobuf";
                call.Response.Close();
            }
        }
        catch (Exception e) when (e is HttpListenerException or ObjectDisposedException)
        {
            // It was stopped.
        }
    }
}
