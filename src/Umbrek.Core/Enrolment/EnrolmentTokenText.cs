using System.Buffers.Text;
using System.Security.Cryptography;

namespace Umbrek.Core.Enrolment;

/// <summary>
/// An enrolment token as it is written: 24 random bytes and, behind a full stop, the SHA-256 of the service's public
/// key (SubjectPublicKeyInfo, RFC 5280 §4.1), both base64url (RFC 4648 §5). So the one text that a person passes on
/// lets the service know the host and the host know the service.
/// </summary>
public sealed record EnrolmentTokenText(byte[] Secret, byte[] ServiceKeySha256)
{
    public const int SecretBytes = 24;

    public static EnrolmentTokenText Create(byte[] serviceKeySha256)
    {
        // Its text starts with a letter or digit, so that no command line takes it for an option.
        EnrolmentTokenText token;
        do
        {
            token = new EnrolmentTokenText(RandomNumberGenerator.GetBytes(SecretBytes), serviceKeySha256);
        }
        while (!char.IsAsciiLetterOrDigit(token.ToString()[0]));
        return token;
    }

    /// <returns>The token, or null when the text has not the shape of one.</returns>
    public static EnrolmentTokenText? Parse(string? text)
    {
        var parts = (text ?? "").Trim().Split('.');
        return parts is [var secret, var key]
            && TryDecode(secret, SecretBytes) is { } secretBytes
            && TryDecode(key, SHA256.HashSizeInBytes) is { } keyBytes
            ? new EnrolmentTokenText(secretBytes, keyBytes)
            : null;
    }

    /// <summary>What the service keeps: a hash is enough, for the secret has 192 random bits.</summary>
    public byte[] SecretSha256() => SHA256.HashData(Secret);

    public override string ToString() => $"{Base64Url.EncodeToString(Secret)}.{Base64Url.EncodeToString(ServiceKeySha256)}";

    private static byte[]? TryDecode(string text, int length)
    {
        try
        {
            return Base64Url.DecodeFromChars(text) is { } bytes && bytes.Length == length ? bytes : null;
        }
        catch (FormatException)
        {
            return null;
        }
    }
}
