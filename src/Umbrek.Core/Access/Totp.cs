using System.Buffers.Binary;
using System.Globalization;
using System.Security.Cryptography;

namespace Umbrek.Core.Access;

/// <summary>Time-based one-time passwords as authenticator apps make them: HMAC-SHA-1, six digits, 30 seconds (RFC 6238 §4, RFC 4226 §5.3).</summary>
public static class Totp
{
    public const int Digits = 6;

    /// <summary>RFC 4226 §4 asks for 128 bits at least and recommends 160.</summary>
    public const int SecretBytes = 20;
    public static readonly TimeSpan Step = TimeSpan.FromSeconds(30);

    /// <summary>Steps before and after the present one that are good too: a phone's clock is seldom exact (RFC 6238 §5.2).</summary>
    private const int Tolerance = 1;
    private const string Letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567";

    public static long StepAt(DateTimeOffset time) => time.ToUnixTimeSeconds() / (long)Step.TotalSeconds;

    /// <summary>HOTP(K, T) with T the number of steps since 1970 (RFC 6238 §4.2).</summary>
    [System.Diagnostics.CodeAnalysis.SuppressMessage("Security", "CA5350", Justification = "Authenticator apps know no other hash; as a keyed hash SHA-1 is unbroken (RFC 6194 §3.3).")]
    public static string Code(ReadOnlySpan<byte> secret, long step)
    {
        Span<byte> counter = stackalloc byte[sizeof(long)];
        BinaryPrimitives.WriteInt64BigEndian(counter, step);
        Span<byte> hash = stackalloc byte[HMACSHA1.HashSizeInBytes];
        HMACSHA1.HashData(secret, counter, hash);
        var offset = hash[^1] & 0xF;
        var number = BinaryPrimitives.ReadInt32BigEndian(hash[offset..]) & 0x7FFF_FFFF;
        return (number % 1_000_000).ToString("D6", CultureInfo.InvariantCulture);
    }

    /// <summary>The step that a typed code belongs to, if it is good now and was not used before.</summary>
    /// <param name="lastStep">The latest step whose code was taken: each is good once (RFC 6238 §5.2).</param>
    /// <returns>Null when the code is wrong, of another time, or used.</returns>
    public static long? Check(ReadOnlySpan<byte> secret, string typed, DateTimeOffset now, long lastStep)
    {
        var code = string.Concat(typed.Where(char.IsAsciiDigit));
        var present = StepAt(now);
        long? found = null;
        for (var step = present - Tolerance; step <= present + Tolerance; step++)
        {
            // All are compared, whichever fits: the time taken tells nothing.
            var same = CryptographicOperations.FixedTimeEquals(System.Text.Encoding.ASCII.GetBytes(code), System.Text.Encoding.ASCII.GetBytes(Code(secret, step)));
            found = same && step > lastStep ? step : found;
        }
        return code.Length == Digits ? found : null;
    }

    /// <summary>What an app reads from a picture: the secret with whose it is.</summary>
    public static string Uri(ReadOnlySpan<byte> secret, string issuer, string account) =>
        $"otpauth://totp/{System.Uri.EscapeDataString(issuer)}:{System.Uri.EscapeDataString(account)}?secret={ToBase32(secret)}&issuer={System.Uri.EscapeDataString(issuer)}&digits={Digits}&period={Step.TotalSeconds}";

    /// <summary>RFC 4648 §6, without padding: as apps take a secret that is typed.</summary>
    public static string ToBase32(ReadOnlySpan<byte> bytes)
    {
        var text = new System.Text.StringBuilder();
        var (bits, held) = (0, 0);
        foreach (var b in bytes)
        {
            held = (held << 8) | b;
            for (bits += 8; bits >= 5; bits -= 5)
            {
                text.Append(Letters[(held >> (bits - 5)) & 31]);
            }
            held &= (1 << bits) - 1;
        }
        return bits > 0 ? text.Append(Letters[(held << (5 - bits)) & 31]).ToString() : text.ToString();
    }
}

/// <summary>Codes for the day on which the phone is lost: each opens once.</summary>
public static class RecoveryCode
{
    public const int Count = 10;

    /// <summary>Without 0/o and 1/l/i: they are written on paper.</summary>
    private const string Letters = "abcdefghjkmnpqrstuvwxyz23456789";

    /// <summary>Ten letters and digits in two groups: 49 bits, and tries are limited.</summary>
    public static string Generate() => $"{RandomNumberGenerator.GetString(Letters, 5)}-{RandomNumberGenerator.GetString(Letters, 5)}";

    /// <summary>What is kept of one.</summary>
    public static byte[] Hash(string code) => SHA256.HashData(System.Text.Encoding.ASCII.GetBytes(string.Concat(code.Where(char.IsAsciiLetterOrDigit)).ToLowerInvariant()));
}
