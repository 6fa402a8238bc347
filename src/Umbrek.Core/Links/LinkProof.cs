using System.Security.Cryptography;
using System.Text;

namespace Umbrek.Core.Links;

/// <summary>
/// What a host signs to prove itself at each connect: a fixed purpose, its id, the service it means to talk to, and
/// the service's fresh nonce. ECDSA over P-256 with SHA-256 (FIPS 186-5), signature as r‖s (IEEE P1363), 64 bytes.
/// </summary>
public static class LinkProof
{
    public const int NonceBytes = 32;

    public static byte[] Sign(ECDsa hostKey, Guid hostId, ReadOnlySpan<byte> serviceKeySha256, ReadOnlySpan<byte> nonce) =>
        hostKey.SignData(Statement("link", hostId.ToString(), serviceKeySha256, nonce), HashAlgorithmName.SHA256);

    /// <param name="hostKey">SubjectPublicKeyInfo (RFC 5280 §4.1), DER.</param>
    public static bool Verify(ReadOnlySpan<byte> hostKey, Guid hostId, ReadOnlySpan<byte> serviceKeySha256, ReadOnlySpan<byte> nonce, ReadOnlySpan<byte> signature) =>
        Check(hostKey, Statement("link", hostId.ToString(), serviceKeySha256, nonce), signature);

    /// <summary>Proof, at enrolment, that the asker holds the private key; bound to the token's secret.</summary>
    public static byte[] SignEnrolment(ECDsa hostKey, ReadOnlySpan<byte> serviceKeySha256, ReadOnlySpan<byte> tokenSecret) =>
        hostKey.SignData(Statement("enrol", "", serviceKeySha256, tokenSecret), HashAlgorithmName.SHA256);

    public static bool VerifyEnrolment(ReadOnlySpan<byte> hostKey, ReadOnlySpan<byte> serviceKeySha256, ReadOnlySpan<byte> tokenSecret, ReadOnlySpan<byte> signature) =>
        Check(hostKey, Statement("enrol", "", serviceKeySha256, tokenSecret), signature);

    private static byte[] Statement(string purpose, string host, ReadOnlySpan<byte> serviceKeySha256, ReadOnlySpan<byte> fresh) =>
        Encoding.UTF8.GetBytes($"umbrek {purpose} 1\n{host}\n{Convert.ToHexStringLower(serviceKeySha256)}\n{Convert.ToHexStringLower(fresh)}");

    private static bool Check(ReadOnlySpan<byte> hostKey, byte[] statement, ReadOnlySpan<byte> signature)
    {
        try
        {
            using var key = ECDsa.Create();
            key.ImportSubjectPublicKeyInfo(hostKey, out _);
            return key.KeySize == 256 && key.VerifyData(statement, signature, HashAlgorithmName.SHA256);
        }
        catch (CryptographicException)
        {
            return false;
        }
    }
}
