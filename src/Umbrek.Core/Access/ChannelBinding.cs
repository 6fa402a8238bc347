using System.Security.Cryptography;
using System.Text;

namespace Umbrek.Core.Access;

/// <summary>
/// What a proof is bound to. The two ends of a channel have no common TLS connection whose exporter could be used (the service relays
/// between two of them), so both put together what each knows by itself: which service, which host by its key, which session, which channel.
/// </summary>
public static class ChannelBinding
{
    /// <summary>The name under which a host's permanent secret is proven.</summary>
    public const string AccessKey = "access-key";

    /// <summary>The name under which a host's temporary secret is proven.</summary>
    public const string Passcode = "passcode";

    private const int NonceCharacters = 24;

    /// <param name="serviceKeySha256">SHA-256 of the service's public key, as each end trusts it.</param>
    /// <param name="hostPublicKey">The host's P-256 key as SubjectPublicKeyInfo.</param>
    /// <returns>32 bytes.</returns>
    public static byte[] Of(ReadOnlySpan<byte> serviceKeySha256, Guid hostId, ReadOnlySpan<byte> hostPublicKey, Guid sessionId, Guid channelId)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        hash.AppendData("umbrek channel binding 1\0"u8);
        hash.AppendData(serviceKeySha256);
        hash.AppendData(hostId.ToByteArray(bigEndian: true));
        hash.AppendData(SHA256.HashData(hostPublicKey));
        hash.AppendData(sessionId.ToByteArray(bigEndian: true));
        hash.AppendData(channelId.ToByteArray(bigEndian: true));
        return hash.GetHashAndReset();
    }

    /// <summary>A fresh nonce for one side of an exchange: 24 letters and digits.</summary>
    public static string NewNonce() => RandomNumberGenerator.GetString("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789", NonceCharacters);
}

/// <summary>An act that was ordered inside a session whose technician has proven the host's key, so that nobody on the way can have made or changed it.</summary>
/// <param name="Number">Counts the orders of the session from 1; the host takes each once.</param>
/// <param name="Text">The order itself, as JSON; what the host acts on.</param>
/// <param name="Mac">HMAC-SHA-256 under the session's key.</param>
public sealed record SealedOrder(Guid SessionId, long Number, string Act, string Text, byte[] Mac)
{
    public static SealedOrder Make(byte[] sessionKey, Guid sessionId, long number, HostAct act, string text)
    {
        var word = HostPolicyWords.Word(act);
        return new(sessionId, number, word, text, Sign(sessionKey, sessionId, number, word, text));
    }

    public bool IsOf(byte[] sessionKey, HostAct act) =>
        Act == HostPolicyWords.Word(act) && CryptographicOperations.FixedTimeEquals(Sign(sessionKey, SessionId, Number, Act, Text), Mac);

    private static byte[] Sign(byte[] sessionKey, Guid sessionId, long number, string act, string text) =>
        HMACSHA256.HashData(sessionKey, Encoding.UTF8.GetBytes($"umbrek order 1\n{sessionId:D}\n{number}\n{act}\n{text}"));
}
