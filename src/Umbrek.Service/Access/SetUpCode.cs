using System.Security.Cryptography;

namespace Umbrek.Service.Access;

/// <summary>The one-time code for the first technician; it lives as long as this start of the service.</summary>
public sealed class SetUpCode
{
    // Without 0/O, 1/I/L: it is read from one screen and typed at another.
    private const string Letters = "ABCDEFGHJKMNPQRSTUVWXYZ23456789";

    public string Text { get; } = $"{RandomNumberGenerator.GetString(Letters, 4)}-{RandomNumberGenerator.GetString(Letters, 4)}-{RandomNumberGenerator.GetString(Letters, 4)}";

    public bool Matches(string typed) => CryptographicOperations.FixedTimeEquals(Bytes(typed), Bytes(Text));

    private static byte[] Bytes(string text) => System.Text.Encoding.UTF8.GetBytes(new string([.. text.Where(char.IsLetterOrDigit)]).ToUpperInvariant());
}

