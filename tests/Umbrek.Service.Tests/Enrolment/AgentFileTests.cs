using System.Net;
using System.Net.Http.Headers;
using System.Security.Cryptography;
using Umbrek.Service.Enrolment;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Service.Tests.Enrolment;

/// <summary>The agent program as whoever holds a link fetches it.</summary>
public sealed class AgentFileTests
{
    [Fact]
    public async Task It_comes_whole_or_in_part_and_not_again_to_whoever_has_it()
    {
        await using var service = await TestService.StartAsync();
        var path = $"/get/{(await service.NewInstallerAsync(new NewInstaller(TestService.Group))).Link.Split('/')[^1]}/agent";
        var agent = service.Get<AgentPrograms>().Needed();
        using var http = new HttpClient { BaseAddress = service.Address };

        using var whole = await http.GetAsync(path);
        whole.StatusCode.ShouldBe(HttpStatusCode.OK);
        var tag = whole.Headers.ETag!;
        tag.ShouldBe(new EntityTagHeaderValue($"\"{agent.Sha256}\""));
        whole.Headers.AcceptRanges.ShouldContain("bytes");
        whole.Content.Headers.ContentLength.ShouldBe(agent.Size);
        whole.Content.Headers.ContentDisposition!.FileName.ShouldBe("umbrek-agent");
        Convert.ToHexStringLower(SHA256.HashData(await whole.Content.ReadAsByteArrayAsync())).ShouldBe(agent.Sha256);

        using var part = await SendAsync(h => h.Range = new RangeHeaderValue(agent.Size - 10, null));
        part.StatusCode.ShouldBe(HttpStatusCode.PartialContent);
        (await part.Content.ReadAsByteArrayAsync()).ShouldBe(agent.Content[^10..]);
        (part.Content.Headers.ContentDisposition, part.Content.Headers.ContentType).ShouldBe((whole.Content.Headers.ContentDisposition, whole.Content.Headers.ContentType));

        using var known = await SendAsync(h => h.IfNoneMatch.Add(tag));
        known.StatusCode.ShouldBe(HttpStatusCode.NotModified);
        using var beyond = await SendAsync(h => h.Range = new RangeHeaderValue(agent.Size, null));
        beyond.StatusCode.ShouldBe(HttpStatusCode.RequestedRangeNotSatisfiable);

        async Task<HttpResponseMessage> SendAsync(Action<HttpRequestHeaders> adjust)
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, path);
            adjust(request.Headers);
            return await http.SendAsync(request);
        }
    }
}
