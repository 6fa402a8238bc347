using Umbrek.Wire.Api;

namespace Umbrek.Service.Hosting;

/// <summary>What every answer says to browsers, and which requests of browsers are refused.</summary>
public static class SecurityHeaders
{
    /// <summary>Content Security Policy Level 3: nothing from elsewhere, no inline scripts, style sheets only with the page's nonce.</summary>
    public static string Policy(string? styleNonce) =>
        $"default-src 'self'; script-src 'self'; style-src 'self'{(styleNonce is null ? "" : $" 'nonce-{styleNonce}'")}; img-src 'self' data:; font-src 'self'; " +
        "connect-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

    public static async Task ApplyAsync(HttpContext context, RequestDelegate next)
    {
        var headers = context.Response.Headers;
        headers.ContentSecurityPolicy = Policy(null);
        headers.XContentTypeOptions = "nosniff";
        headers["Referrer-Policy"] = "no-referrer";
        headers["Cross-Origin-Opener-Policy"] = "same-origin";
        headers["Cross-Origin-Resource-Policy"] = "same-origin";
        headers["Permissions-Policy"] = "camera=(), microphone=(), geolocation=(), payment=(), usb=()";
        if (IsForeign(context.Request))
        {
            await ProblemWriter.WriteAsync(context, new ProblemException(403, ProblemTypes.ForeignPage, "A page from another address asked for this; only the console itself may.").Problem, context.RequestAborted).ConfigureAwait(false);
            return;
        }
        if (context.Request.Path.StartsWithSegments("/api"))
        {
            headers.CacheControl = "no-store";
        }
        await next(context).ConfigureAwait(false);
    }

    /// <summary>
    /// Cross-site request forgery: a browser names the page that asks (Fetch Metadata, Origin); programs name none. It covers
    /// everything that changes something and every WebSocket.
    /// </summary>
    private static bool IsForeign(HttpRequest request)
    {
        var changes = !HttpMethods.IsGet(request.Method) && !HttpMethods.IsHead(request.Method) && !HttpMethods.IsOptions(request.Method);
        if (!changes && !request.Headers.ContainsKey("Upgrade") && !request.Path.StartsWithSegments("/live"))
        {
            return false;
        }
        if (request.Headers["Sec-Fetch-Site"].ToString() is { Length: > 0 } site && site is not ("same-origin" or "none"))
        {
            return true;
        }
        return request.Headers.Origin.ToString() is { Length: > 0 } origin
            && !(Uri.TryCreate(origin, UriKind.Absolute, out var from) && string.Equals(from.Authority, request.Host.Value, StringComparison.OrdinalIgnoreCase));
    }
}
