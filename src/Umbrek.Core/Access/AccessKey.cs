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

    public static ScramVerifier Create(ReadOnlySpan<byte> key) => Create(key, RandomNumberGenerator.GetBytes(SaltBytes), DefaultIterations);

    public static ScramVerifier Create(string key, byte[] salt, int iterations)
    {
        var bytes = Encoding.UTF8.GetBytes(key);
        var verifier = Create(bytes, salt, iterations);
        CryptographicOperations.ZeroMemory(bytes);
        return verifier;
    }

    /// <summary>SaltedPassword := Hi(key, salt, i); StoredKey := H(HMAC(SaltedPassword, "Client Key")); ServerKey := HMAC(SaltedPassword, "Server Key").</summary>
    public static ScramVerifier Create(ReadOnlySpan<byte> key, byte[] salt, int iterations)
    {
        var salted = Salted(key, salt, iterations);
        var verifier = new ScramVerifier(
            salt, iterations,
            SHA256.HashData(HMACSHA256.HashData(salted, "Client Key"u8)),
            HMACSHA256.HashData(salted, "Server Key"u8));
        CryptographicOperations.ZeroMemory(salted);
        return verifier;
    }

    /// <summary>
    /// SaltedPassword of RFC 5802 §3. A key is made of printable ASCII (<see cref="AccessKey.Check"/>), which SASLprep (RFC 4013) leaves as it is.
    /// </summary>
    public static byte[] Salted(ReadOnlySpan<byte> key, byte[] salt, int iterations) =>
        Rfc2898DeriveBytes.Pbkdf2(key, salt, iterations, HashAlgorithmName.SHA256, SHA256.HashSizeInBytes);

    /// <summary>The client's key, when the proof was made with it for this conversation (RFC 5802 §3: ClientKey = ClientProof XOR ClientSignature).</summary>
    /// <returns>Null for a wrong proof.</returns>
    public byte[]? Open(ReadOnlySpan<byte> authMessage, ReadOnlySpan<byte> clientProof)
    {
        if (clientProof.Length != StoredKey.Length)
        {
            return null;
        }
        var clientKey = HMACSHA256.HashData(StoredKey, authMessage);
        for (var i = 0; i < clientKey.Length; i++)
        {
            clientKey[i] ^= clientProof[i];
        }
        return CryptographicOperations.FixedTimeEquals(SHA256.HashData(clientKey), StoredKey) ? clientKey : null;
    }

    /// <summary>False for what no host of ours would keep.</summary>
    public bool IsUsable() => Salt is { Length: >= 8 and <= 1024 } && Iterations is >= Scram.FewestIterations and <= Scram.MostIterations
        && StoredKey is { Length: SHA256.HashSizeInBytes } && ServerKey is { Length: SHA256.HashSizeInBytes };

    /// <summary>What the host proves back.</summary>
    public byte[] Sign(ReadOnlySpan<byte> authMessage) => HMACSHA256.HashData(ServerKey, authMessage);
}

/// <summary>
/// A mark that hosts with one access key share, so that the same key on two of them is noticed without knowing it. 32 bits of a slow
/// hash: enough to tell keys apart, and a guesser finds millions of keys that fit.
/// </summary>
public static class AccessKeyMark
{
    private const int Iterations = 200_000;
    private const int Bytes = 4;

    /// <param name="serviceKeySha256">Marks of different services have nothing in common.</param>
    /// <returns>Eight hexadecimal digits.</returns>
    public static string Of(ReadOnlySpan<byte> key, ReadOnlySpan<byte> serviceKeySha256) => Convert.ToHexStringLower(
        Rfc2898DeriveBytes.Pbkdf2(key, (byte[])[.. "umbrek key mark\0"u8, .. serviceKeySha256], Iterations, HashAlgorithmName.SHA256, Bytes));
}
