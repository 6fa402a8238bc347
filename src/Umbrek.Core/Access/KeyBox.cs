using System.Security.Cryptography;

namespace Umbrek.Core.Access;

/// <summary>
/// Something for one host's eyes: encrypted to its key (ECDH on P-256, HKDF of RFC 5869, AES-256-GCM) and bound to one channel. With a
/// session key in it nobody but who has proven the host's access key can have made it.
/// </summary>
/// <param name="EphemeralKey">SubjectPublicKeyInfo.</param>
/// <param name="Cipher">The encrypted text with its 16-byte tag behind it.</param>
public sealed record KeyBox(byte[] EphemeralKey, byte[] Nonce, byte[] Cipher)
{
    private const int TagBytes = 16;
    private const int NonceBytes = 12;

    /// <exception cref="CryptographicException">The host's key is none.</exception>
    public static KeyBox Seal(ReadOnlySpan<byte> plain, byte[] hostPublicKey, byte[] binding, byte[]? sessionKey)
    {
        using var host = ECDiffieHellman.Create();
        host.ImportSubjectPublicKeyInfo(hostPublicKey, out _);
        using var ephemeral = ECDiffieHellman.Create(ECCurve.NamedCurves.nistP256);
        var key = Derive(ephemeral, host.PublicKey, binding, sessionKey);
        var nonce = RandomNumberGenerator.GetBytes(NonceBytes);
        var cipher = new byte[plain.Length + TagBytes];
        using var aes = new AesGcm(key, TagBytes);
        aes.Encrypt(nonce, plain, cipher.AsSpan(0, plain.Length), cipher.AsSpan(plain.Length));
        CryptographicOperations.ZeroMemory(key);
        return new KeyBox(ephemeral.ExportSubjectPublicKeyInfo(), nonce, cipher);
    }

    /// <param name="hostKey">The host's private key.</param>
    /// <exception cref="CryptographicException">It was not made for this host, this channel and this session.</exception>
    public byte[] Open(ECDiffieHellman hostKey, byte[] binding, byte[]? sessionKey)
    {
        if (EphemeralKey is null || Nonce is not { Length: NonceBytes } || Cipher is not { Length: >= TagBytes })
        {
            throw new CryptographicException("The box is malformed.");
        }
        using var ephemeral = ECDiffieHellman.Create();
        ephemeral.ImportSubjectPublicKeyInfo(EphemeralKey, out _);
        var key = Derive(hostKey, ephemeral.PublicKey, binding, sessionKey);
        var plain = new byte[Cipher.Length - TagBytes];
        using var aes = new AesGcm(key, TagBytes);
        aes.Decrypt(Nonce, Cipher.AsSpan(0, plain.Length), Cipher.AsSpan(plain.Length), plain);
        CryptographicOperations.ZeroMemory(key);
        return plain;
    }

    private static byte[] Derive(ECDiffieHellman own, ECDiffieHellmanPublicKey other, byte[] binding, byte[]? sessionKey)
    {
        var shared = own.DeriveRawSecretAgreement(other);
        var key = HKDF.DeriveKey(HashAlgorithmName.SHA256, [.. shared, .. sessionKey ?? []], 32, binding, sessionKey is null ? "umbrek key box 1"u8.ToArray() : "umbrek key box 1, proven"u8.ToArray());
        CryptographicOperations.ZeroMemory(shared);
        return key;
    }
}
