using System.Security.Cryptography;

namespace Umbrek.Core.Access;

/// <summary>
/// How the vault encrypts: AES-256-GCM (NIST SP 800-38D) with a random nonce of 12 bytes in front and the tag of 16 behind. What a
/// text belongs to is authenticated with it, so that none can be put in another's place.
/// </summary>
public static class VaultSeal
{
    public const int KeyBytes = 32;
    private const int NonceBytes = 12;
    private const int TagBytes = 16;

    /// <param name="key">32 bytes.</param>
    /// <param name="belongsTo">What the text belongs to.</param>
    public static byte[] Seal(ReadOnlySpan<byte> key, ReadOnlySpan<byte> plain, ReadOnlySpan<byte> belongsTo)
    {
        var cipher = new byte[NonceBytes + plain.Length + TagBytes];
        RandomNumberGenerator.Fill(cipher.AsSpan(0, NonceBytes));
        using var aes = new AesGcm(key, TagBytes);
        aes.Encrypt(cipher.AsSpan(0, NonceBytes), plain, cipher.AsSpan(NonceBytes, plain.Length), cipher.AsSpan(NonceBytes + plain.Length), belongsTo);
        return cipher;
    }

    /// <returns>The text; whoever has it wipes it.</returns>
    /// <exception cref="CryptographicException">It was encrypted with another key, belongs to something else, or was changed.</exception>
    public static byte[] Open(ReadOnlySpan<byte> key, ReadOnlySpan<byte> cipher, ReadOnlySpan<byte> belongsTo)
    {
        if (cipher.Length < NonceBytes + TagBytes)
        {
            throw new CryptographicException("The encrypted text is too short.");
        }
        var plain = new byte[cipher.Length - NonceBytes - TagBytes];
        using var aes = new AesGcm(key, TagBytes);
        aes.Decrypt(cipher[..NonceBytes], cipher.Slice(NonceBytes, plain.Length), cipher[^TagBytes..], plain, belongsTo);
        return plain;
    }
}
