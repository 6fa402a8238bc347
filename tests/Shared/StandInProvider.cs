using System.Buffers.Text;
using System.Collections.Concurrent;
using System.Net;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json.Nodes;

namespace Umbrek.Tests;

/// <summary>A provider of OpenID Connect (Core 1.0, code flow, PKCE of RFC 7636) in which whoever comes is who the test says.</summary>
internal sealed class StandInProvider : IAsyncDisposable
{
    public const string ClientId = "umbrek";
    public const string Secret = "a secret of the client";

    private readonly RSA key = RSA.Create(2048);
    private readonly HttpListener listener = new();
    private readonly ConcurrentDictionary<string, (string Nonce, string Challenge, string Return)> codes = new();
    private readonly Task serving;

    public StandInProvider()
    {
        Issuer = $"http://localhost:{TestPorts.Next()}";
        listener.Prefixes.Add(Issuer + "/");
        listener.Start();
        serving = ServeAsync();
    }

    public string Issuer { get; }

    /// <summary>Who signs in there: subject and name.</summary>
    public (string Subject, string Name) Who { get; set; } = ("1001", "ines");

    /// <summary>Signs with another key than it publishes.</summary>
    public bool Lies { get; set; }

    public async ValueTask DisposeAsync()
    {
        // Once: stopped first, it would take its port again to give it up, and that may be somebody else's by then.
        listener.Close();
        await serving;
        key.Dispose();
    }

    private async Task ServeAsync()
    {
        while (true)
        {
            HttpListenerContext http;
            try
            {
                http = await listener.GetContextAsync();
            }
            catch (Exception e) when (e is HttpListenerException or ObjectDisposedException)
            {
                return;
            }
            var answer = http.Request.Url!.AbsolutePath switch
            {
                "/.well-known/openid-configuration" => new JsonObject
                {
                    ["issuer"] = Issuer,
                    ["authorization_endpoint"] = $"{Issuer}/authorize",
                    ["token_endpoint"] = $"{Issuer}/token",
                    ["jwks_uri"] = $"{Issuer}/keys",
                },
                "/keys" => Keys(),
                "/authorize" => Authorize(http),
                "/token" => Token(http),
                _ => null,
            };
            if (answer is not null)
            {
                http.Response.ContentType = "application/json";
                await http.Response.OutputStream.WriteAsync(Encoding.UTF8.GetBytes(answer.ToJsonString()));
            }
            http.Response.Close();
        }
    }

    private JsonObject Keys()
    {
        var p = key.ExportParameters(false);
        return new JsonObject { ["keys"] = new JsonArray(new JsonObject { ["kty"] = "RSA", ["use"] = "sig", ["alg"] = "RS256", ["kid"] = "one", ["n"] = Base64Url.EncodeToString(p.Modulus), ["e"] = Base64Url.EncodeToString(p.Exponent) }) };
    }

    private JsonObject? Authorize(HttpListenerContext http)
    {
        var q = http.Request.QueryString;
        if ((q["client_id"], q["response_type"], q["code_challenge_method"]) != (ClientId, "code", "S256"))
        {
            http.Response.StatusCode = 400;
            return null;
        }
        var code = Guid.NewGuid().ToString("N");
        codes[code] = (q["nonce"] ?? "", q["code_challenge"] ?? "", q["redirect_uri"] ?? "");
        http.Response.Redirect($"{q["redirect_uri"]}?code={code}&state={Uri.EscapeDataString(q["state"] ?? "")}");
        return null;
    }

    private JsonObject? Token(HttpListenerContext http)
    {
        using var reader = new StreamReader(http.Request.InputStream);
        var form = reader.ReadToEnd().Split('&').Select(p => p.Split('=', 2)).ToDictionary(p => p[0], p => WebUtility.UrlDecode(p[1]));
        if (form["client_secret"] != Secret || !codes.TryRemove(form["code"], out var begun) || form["redirect_uri"] != begun.Return
            || Base64Url.EncodeToString(SHA256.HashData(Encoding.ASCII.GetBytes(form["code_verifier"]))) != begun.Challenge)
        {
            http.Response.StatusCode = 400;
            return new JsonObject { ["error"] = "invalid_grant" };
        }
        var now = DateTimeOffset.UtcNow.ToUnixTimeSeconds();
        var header = new JsonObject { ["alg"] = "RS256", ["kid"] = "one", ["typ"] = "JWT" };
        var claims = new JsonObject
        {
            ["iss"] = Issuer,
            ["aud"] = ClientId,
            ["iat"] = now,
            ["exp"] = now + 300,
            ["sub"] = Who.Subject,
            ["preferred_username"] = Who.Name,
            ["nonce"] = begun.Nonce,
        };
        var signed = $"{Base64Url.EncodeToString(Encoding.UTF8.GetBytes(header.ToJsonString()))}.{Base64Url.EncodeToString(Encoding.UTF8.GetBytes(claims.ToJsonString()))}";
        using var other = RSA.Create(2048);
        var signature = (Lies ? other : key).SignData(Encoding.ASCII.GetBytes(signed), HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
        return new JsonObject { ["access_token"] = "none", ["token_type"] = "Bearer", ["expires_in"] = 60, ["id_token"] = $"{signed}.{Base64Url.EncodeToString(signature)}" };
    }
}
