using System.Security.Cryptography;
using System.Text;

namespace Umbrek.Core.Access;

/// <summary>A host's access key as text: what may be chosen, and one made by chance.</summary>
public static class AccessKey
{
    public const int MinLength = 12;
    public const int MaxLength = 200;
    private const int MinDifferent = 6;
    private const int Groups = 5;
    private const int GroupLength = 5;

    /// <summary>No 0/o, 1/l/i: a key may be read aloud.</summary>
    private const string Letters = "abcdefghjkmnpqrstuvwxyz23456789";

    /// <summary>25 letters and digits in five groups: 123 bits.</summary>
    public static string Generate() =>
        string.Join('-', Enumerable.Range(0, Groups).Select(_ => RandomNumberGenerator.GetString(Letters, GroupLength)));

    /// <returns>Null, or a sentence that says what is wrong with a chosen key.</returns>
    public static string? Check(string key) =>
        key.Any(c => c is < ' ' or > '~') ? "An access key is made of the letters, digits, signs and blanks of a US keyboard; others look alike or come out differently on other keyboards."
        : key.Length < MinLength ? $"The access key has {key.Length} characters; it needs {MinLength} at least. Four words that nobody would guess together do well."
        : key.Length > MaxLength ? $"The access key has {key.Length} characters; {MaxLength} is the most."
        : key.Distinct().Count() < MinDifferent ? $"The access key repeats itself; use {MinDifferent} different characters at least."
        : null;
}

/// <summary>
/// What a host keeps of its access key: enough to check a proof, not enough to make one (RFC 5802 §3, SCRAM-SHA-256 of RFC 7677).
/// </summary>
public sealed record ScramVerifier(byte[] Salt, int Iterations, byte[] StoredKey, byte[] ServerKey)
{
    /// <summary>RFC 7677 §4 asks for 4096 at least; a host proves seldom and can spend more.</summary>
    public const int DefaultIterations = 60_000;
    private const int SaltBytes = 16;

    public static ScramVerifier Create(string key) => Create(key, RandomNumberGenerator.GetBytes(SaltBytes), DefaultIterations);

    /// <summary>SaltedPassword := Hi(key, salt, i); StoredKey := H(HMAC(SaltedPassword, "Client Key")); ServerKey := HMAC(SaltedPassword, "Server Key").</summary>
    public static ScramVerifier Create(string key, byte[] salt, int iterations)
    {
        var salted = Rfc2898DeriveBytes.Pbkdf2(Encoding.UTF8.GetBytes(key), salt, iterations, HashAlgorithmName.SHA256, SHA256.HashSizeInBytes);
        var verifier = new ScramVerifier(
            salt, iterations,
            SHA256.HashData(HMACSHA256.HashData(salted, "Client Key"u8)),
            HMACSHA256.HashData(salted, "Server Key"u8));
        CryptographicOperations.ZeroMemory(salted);
        return verifier;
    }

    /// <summary>True when the proof was made with the key, for this conversation (RFC 5802 §3: ClientKey = ClientProof XOR ClientSignature).</summary>
    public bool Verify(ReadOnlySpan<byte> authMessage, ReadOnlySpan<byte> clientProof)
    {
        if (clientProof.Length != StoredKey.Length)
        {
            return false;
        }
        var clientKey = HMACSHA256.HashData(StoredKey, authMessage);
        for (var i = 0; i < clientKey.Length; i++)
        {
            clientKey[i] ^= clientProof[i];
        }
        return CryptographicOperations.FixedTimeEquals(SHA256.HashData(clientKey), StoredKey);
    }

    /// <summary>What the host proves back.</summary>
    public byte[] Sign(ReadOnlySpan<byte> authMessage) => HMACSHA256.HashData(ServerKey, authMessage);
}
