using System.Globalization;
using System.Security.Cryptography;
using System.Text;

namespace Umbrek.Core.Health;

/// <summary>
/// Signs what a web hook gets: the body's digest (RFC 9530) and a signature over method, address, digest and content type with HMAC-SHA-256 (RFC 9421 §3.3.3), so
/// that a receiver knows who sent it, that nothing was changed, and when.
/// </summary>
public static class HookSignature
{
    public const int SecretBytes = 32;

    /// <summary>Name of the signature in its two header fields.</summary>
    private const string Label = "sig1";

    /// <summary>The field Content-Digest (RFC 9530 §2).</summary>
    public static string Digest(ReadOnlySpan<byte> body) => $"sha-256=:{Convert.ToBase64String(SHA256.HashData(body))}:";

    /// <summary>The fields Signature-Input and Signature (RFC 9421 §4).</summary>
    /// <param name="target">The request's address as it is sent.</param>
    /// <param name="digest">Of <see cref="Digest"/>.</param>
    /// <param name="keyId">Names the secret to the receiver.</param>
    public static (string Input, string Signature) Sign(ReadOnlySpan<byte> secret, string method, Uri target, string contentType, string digest, string keyId, DateTimeOffset at)
    {
        var input = string.Create(CultureInfo.InvariantCulture, $"(\"@method\" \"@target-uri\" \"content-type\" \"content-digest\");created={at.ToUnixTimeSeconds()};keyid=\"{keyId}\";alg=\"hmac-sha256\"");
        var signed = Base([("\"@method\"", method), ("\"@target-uri\"", target.AbsoluteUri), ("\"content-type\"", contentType), ("\"content-digest\"", digest)], input);
        return ($"{Label}={input}", $"{Label}=:{Convert.ToBase64String(HMACSHA256.HashData(secret, signed))}:");
    }

    /// <summary>The signature base (RFC 9421 §2.5).</summary>
    public static byte[] Base(IEnumerable<(string Component, string Value)> components, string parameters)
    {
        var text = new StringBuilder();
        foreach (var (component, value) in components)
        {
            text.Append(component).Append(": ").Append(value).Append('\n');
        }
        return Encoding.ASCII.GetBytes(text.Append("\"@signature-params\": ").Append(parameters).ToString());
    }
}
