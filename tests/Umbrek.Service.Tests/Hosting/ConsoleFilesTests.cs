using System.IO.Compression;
using System.Net;
using Umbrek.Service.Hosting;
using Umbrek.Tests;

namespace Umbrek.Service.Tests.Hosting;

public sealed class ConsoleFilesTests : IDisposable
{
    private readonly TestDirectory directory = new();

    public void Dispose() => directory.Dispose();

    [Fact]
    public async Task Hashed_files_are_cached_for_ever_and_compressed_as_built_and_the_page_is_fresh_with_a_nonce_each_time()
    {
        Directory.CreateDirectory(directory.In("assets"));
        var script = string.Concat(Enumerable.Repeat("console.log('umbrek');\n", 200));
        await File.WriteAllTextAsync(directory.In("assets/index-abc123.js"), script);
        await using (var packed = new BrotliStream(File.Create(directory.In("assets/index-abc123.js.br")), CompressionLevel.Fastest))
        {
            await packed.WriteAsync(System.Text.Encoding.UTF8.GetBytes(script));
        }
        await File.WriteAllTextAsync(directory.In("index.html"), "<meta name=\"csp-nonce\" content=\"UMBREK-NONCE\">");
        var files = new ConsoleFiles(new ServiceOptions { DataDirectory = directory.Path, ConsoleDirectory = directory.Path });

        var asset = await GetAsync(files, "/assets/index-abc123.js", ("Accept-Encoding", "gzip, br"));
        asset.Response.Headers.CacheControl.ToString().ShouldContain("immutable");
        asset.Response.Headers.ContentEncoding.ToString().ShouldBe("br");
        using (var unpacked = new StreamReader(new BrotliStream(asset.Response.Body, CompressionMode.Decompress)))
        {
            (await unpacked.ReadToEndAsync()).ShouldBe(script);
        }
        // The build put no copy of the other kind beside it.
        (await GetAsync(files, "/assets/index-abc123.js", ("Accept-Encoding", "gzip"))).Response.Headers.ContentEncoding.ShouldBeEmpty();
        (await GetAsync(files, "/assets/index-abc123.js.br")).Response.StatusCode.ShouldBe((int)HttpStatusCode.NotFound);
        var known = await GetAsync(files, "/assets/index-abc123.js", ("If-None-Match", asset.Response.Headers.ETag.ToString()));
        known.Response.StatusCode.ShouldBe((int)HttpStatusCode.NotModified);
        (await GetAsync(files, "/assets/gone.js")).Response.StatusCode.ShouldBe((int)HttpStatusCode.NotFound);

        var nonces = new HashSet<string>();
        for (var i = 0; i < 3; i++)
        {
            var page = await GetAsync(files, "/hosts/some-host");
            var html = await new StreamReader(page.Response.Body).ReadToEndAsync();
            var nonce = html.Split("content=\"")[1].Split('"')[0];
            page.Response.Headers.ContentSecurityPolicy.ToString().ShouldContain($"'nonce-{nonce}'");
            page.Response.Headers.CacheControl.ToString().ShouldBe("no-store");
            nonces.Add(nonce).ShouldBeTrue();
        }
    }

    [Fact]
    public async Task Pages_and_files_reach_a_stranger_and_nothing_else_does()
    {
        Directory.CreateDirectory(directory.In("assets"));
        await File.WriteAllTextAsync(directory.In("assets/index-abc123.css"), "a { color: red }");
        await File.WriteAllTextAsync(directory.In("index.html"), "the page");
        await using var service = await TestService.StartAsync(adjust: o => o with { ConsoleDirectory = directory.Path });
        foreach (var (path, type, body) in new[] { ("/", "text/html", "the page"), ("/hosts/plover.log", "text/html", "the page"), ("/assets/index-abc123.css", "text/css", "a { color: red }") })
        {
            var got = await service.SendAsync(HttpMethod.Get, path, signedIn: false);
            (got.Status, got.Response.Content.Headers.ContentType!.MediaType, got.Body).ShouldBe((HttpStatusCode.OK, type, body), path);
        }
        (await service.SendAsync(HttpMethod.Post, "/hosts", signedIn: false)).Status.ShouldBe(HttpStatusCode.NotFound);
        (await service.SendAsync(HttpMethod.Get, "/api/v1/none", signedIn: false)).Status.ShouldBe(HttpStatusCode.NotFound);
    }

    [Fact]
    public async Task The_page_says_whether_somebody_is_signed_in_and_what_to_ask_first()
    {
        await File.WriteAllTextAsync(directory.In("index.html"), "<head><!--UMBREK-SIGNED-IN--></head>");
        await using var service = await TestService.StartAsync(adjust: o => o with { ConsoleDirectory = directory.Path });
        (await service.SendAsync(HttpMethod.Get, "/hosts", signedIn: false)).Body.ShouldBe("<head></head>");
        var page = (await service.SendAsync(HttpMethod.Get, "/hosts", signedIn: true)).Body;
        page.ShouldContain("id=\"signed-in\"");
        var asked = page.Split("href=\"")[1].Split('"')[0];
        (await service.SendAsync(HttpMethod.Get, asked, signedIn: true)).Body.ShouldContain(TestService.Name);
    }

    private static async Task<HttpContext> GetAsync(ConsoleFiles files, string path, params (string Name, string Value)[] headers)
    {
        var context = new DefaultHttpContext();
        context.Request.Method = "GET";
        context.Request.Path = path;
        foreach (var (name, value) in headers)
        {
            context.Request.Headers[name] = value;
        }
        context.Response.Body = new MemoryStream();
        await files.ServeAsync(context);
        context.Response.Body.Position = 0;
        return context;
    }
}
