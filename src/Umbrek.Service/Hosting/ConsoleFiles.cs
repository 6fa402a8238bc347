using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.StaticFiles;

namespace Umbrek.Service.Hosting;

/// <summary>
/// The console's built files, read once at start with the compressed copies that the build put beside them (NAME.br, NAME.gz).
/// Files with a hash in their name are cached by browsers for ever; the page itself is requested each time and carries a fresh
/// nonce for its style sheets and whether somebody is signed in.
/// </summary>
public sealed class ConsoleFiles
{
    private const string NonceMark = "UMBREK-NONCE";
    private const string SignedInMark = "<!--UMBREK-SIGNED-IN-->";

    /// <summary>Who is signed in is the first thing that the console asks: browsers ask it while they still read the scripts.</summary>
    private const string SignedIn = """<link id="signed-in" rel="preload" as="fetch" href="/api/v1/me" crossorigin>""";
    private readonly Dictionary<string, Asset> assets = new(StringComparer.Ordinal);
    private readonly string? page;

    private sealed record Asset(string ContentType, string ETag, bool Immutable, byte[] Plain, byte[]? Brotli, byte[]? Gzip);

    public ConsoleFiles(ServiceOptions options)
    {
        var root = options.ConsoleDirectory ?? Path.Combine(AppContext.BaseDirectory, "console");
        if (!Directory.Exists(root))
        {
            return;
        }
        var types = new FileExtensionContentTypeProvider();
        foreach (var file in Directory.EnumerateFiles(root, "*", SearchOption.AllDirectories))
        {
            if (file.EndsWith(".br", StringComparison.Ordinal) || file.EndsWith(".gz", StringComparison.Ordinal))
            {
                continue;
            }
            var path = "/" + Path.GetRelativePath(root, file).Replace('\\', '/');
            var bytes = File.ReadAllBytes(file);
            if (path == "/index.html")
            {
                page = Encoding.UTF8.GetString(bytes);
                continue;
            }
            var type = types.TryGetContentType(path, out var known) ? known : "application/octet-stream";
            assets[path] = new Asset(
                type, $"\"{Convert.ToHexStringLower(SHA256.HashData(bytes))[..20]}\"", path.StartsWith("/assets/", StringComparison.Ordinal), bytes,
                Compressed(file + ".br"), Compressed(file + ".gz"));
        }
    }

    public async Task ServeAsync(HttpContext context)
    {
        var path = context.Request.Path.Value ?? "/";
        if (assets.TryGetValue(path, out var asset))
        {
            await ServeAsync(context, asset).ConfigureAwait(false);
        }
        else if (page is null)
        {
            context.Response.ContentType = "text/plain; charset=utf-8";
            await context.Response.WriteAsync("The console's files are not beside this program. Build them (make build), or name their directory with --console.\n").ConfigureAwait(false);
        }
        else if (path.StartsWith("/assets/", StringComparison.Ordinal))
        {
            context.Response.StatusCode = StatusCodes.Status404NotFound;
        }
        else
        {
            var nonce = Convert.ToBase64String(RandomNumberGenerator.GetBytes(16));
            context.Response.Headers.ContentSecurityPolicy = SecurityHeaders.Policy(nonce);
            context.Response.Headers.CacheControl = "no-store";
            context.Response.ContentType = "text/html; charset=utf-8";
            await context.Response.WriteAsync(page
                .Replace(NonceMark, nonce, StringComparison.Ordinal)
                .Replace(SignedInMark, context.User.Identity is { IsAuthenticated: true } ? SignedIn : "", StringComparison.Ordinal)).ConfigureAwait(false);
        }
    }

    private static async Task ServeAsync(HttpContext context, Asset asset)
    {
        var headers = context.Response.Headers;
        headers.ETag = asset.ETag;
        headers.Vary = "Accept-Encoding";
        headers.CacheControl = asset.Immutable ? "public, max-age=31536000, immutable" : "no-cache";
        if (context.Request.Headers.IfNoneMatch.ToString().Contains(asset.ETag, StringComparison.Ordinal))
        {
            context.Response.StatusCode = StatusCodes.Status304NotModified;
            return;
        }
        var accepts = context.Request.Headers.AcceptEncoding.ToString();
        var (body, encoding) =
            asset.Brotli is not null && accepts.Contains("br", StringComparison.Ordinal) ? (asset.Brotli, "br")
            : asset.Gzip is not null && accepts.Contains("gzip", StringComparison.Ordinal) ? (asset.Gzip, "gzip")
            : (asset.Plain, null);
        if (encoding is not null)
        {
            headers.ContentEncoding = encoding;
        }
        context.Response.ContentType = asset.ContentType;
        context.Response.ContentLength = body.Length;
        if (!HttpMethods.IsHead(context.Request.Method))
        {
            await context.Response.Body.WriteAsync(body, context.RequestAborted).ConfigureAwait(false);
        }
    }

    private static byte[]? Compressed(string file) => File.Exists(file) ? File.ReadAllBytes(file) : null;
}
