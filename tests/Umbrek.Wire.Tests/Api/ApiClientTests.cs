using System.Net;
using System.Net.Sockets;
using Umbrek.Wire.Api;

namespace Umbrek.Wire.Tests.Api;

public sealed class ApiClientTests
{
    [Fact]
    public async Task Nobody_at_the_address_is_said_in_a_sentence_that_helps()
    {
        using var taken = new TcpListener(IPAddress.Loopback, 0);
        taken.Start();
        var port = ((IPEndPoint)taken.LocalEndpoint).Port;
        taken.Stop();
        using var api = new ApiClient(new Uri($"http://127.0.0.1:{port}"), null);
        var e = await Should.ThrowAsync<UnreachableException>(() => api.GetAsync("hosts", WireJson.Default.PageHostSummary, default));
        e.Message.ShouldContain($"127.0.0.1:{port} can't be reached");
        e.Message.ShouldContain("Check the address");
    }

    [Fact]
    public async Task An_answer_that_is_not_ours_is_said_so()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var answering = AnswerOnceAsync(listener);
        using var api = new ApiClient(new Uri($"http://127.0.0.1:{((IPEndPoint)listener.LocalEndpoint).Port}"), null);
        var e = await Should.ThrowAsync<ApiException>(() => api.GetAsync("hosts", WireJson.Default.PageHostSummary, default));
        e.Message.ShouldContain("not as an Umbrek service does");
        await answering;
    }

    private static async Task AnswerOnceAsync(TcpListener listener)
    {
        using var client = await listener.AcceptTcpClientAsync();
        var stream = client.GetStream();
        _ = await stream.ReadAsync(new byte[4096]);
        await stream.WriteAsync("HTTP/1.1 404 Not Found\r\nContent-Length: 2\r\nConnection: close\r\n\r\nno"u8.ToArray());
    }
}
