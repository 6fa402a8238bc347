using System.Net.Security;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace Umbrek.Wire.Links;

/// <summary>
/// Trust in one public key: the SHA-256 of its SubjectPublicKeyInfo (RFC 7469 §2.4 computes it alike). Names and
/// issuing authorities play no part, so neither side depends on a name alone.
/// </summary>
public sealed class ServicePin(byte[] sha256)
{
    public byte[] Sha256 { get; } = sha256;

    /// <summary>The pin that the peer showed last, for a message that names both.</summary>
    public string? Seen { get; private set; }

    public override string ToString() => Convert.ToHexStringLower(Sha256);

    public static byte[] Of(X509Certificate2 certificate) => SHA256.HashData(certificate.PublicKey.ExportSubjectPublicKeyInfo());

    /// <returns>The pin, or null when the text is not 64 hexadecimal digits (colons are passed over).</returns>
    public static ServicePin? Parse(string text)
    {
        try
        {
            var bytes = Convert.FromHexString(text.Trim().Replace(":", ""));
            return bytes.Length == SHA256.HashSizeInBytes ? new ServicePin(bytes) : null;
        }
        catch (FormatException)
        {
            return null;
        }
    }

    public bool Accepts(X509Certificate2? certificate)
    {
        if (certificate is null)
        {
            return false;
        }
        var seen = Of(certificate);
        Seen = Convert.ToHexStringLower(seen);
        return CryptographicOperations.FixedTimeEquals(seen, Sha256);
    }

    public bool Validate(object sender, X509Certificate? certificate, X509Chain? chain, SslPolicyErrors errors)
    {
        _ = sender;
        _ = chain;
        _ = errors;
        return Accepts(certificate as X509Certificate2);
    }
}
