using System.Globalization;
using System.Security.Cryptography;
using System.Text;

namespace Umbrek.Core.Enrolment;

/// <summary>What an agent program is, as its signature covers it.</summary>
/// <param name="System">A runtime identifier such as <c>linux-x64</c>.</param>
/// <param name="Size">In bytes.</param>
/// <param name="Sha256">Of the whole program, hex in lower case.</param>
public sealed record ReleaseManifest(string Version, string System, long Size, string Sha256)
{
    public const long MaxSize = 200L << 20;

    /// <summary>The signed text: a fixed purpose and one value a line, so that no two manifests share one.</summary>
    public byte[] Statement() =>
        Encoding.UTF8.GetBytes($"umbrek release 1\n{Version}\n{System}\n{Size.ToString(CultureInfo.InvariantCulture)}\n{Sha256}");

    /// <summary>ECDSA over P-256 with SHA-256 (FIPS 186-5), signature as r‖s (IEEE P1363).</summary>
    /// <param name="releaseKey">SubjectPublicKeyInfo, DER: the key that the host learnt when it joined.</param>
    public bool IsSignedBy(ReadOnlySpan<byte> releaseKey, ReadOnlySpan<byte> signature)
    {
        try
        {
            using var key = ECDsa.Create();
            key.ImportSubjectPublicKeyInfo(releaseKey, out _);
            return key.KeySize == 256 && key.VerifyData(Statement(), signature, HashAlgorithmName.SHA256);
        }
        catch (CryptographicException)
        {
            return false;
        }
    }

    /// <returns>Null, or a sentence that says what is wrong with a version's name.</returns>
    public static string? CheckVersion(string? version) =>
        string.IsNullOrEmpty(version) || version.Length > 40 || !char.IsAsciiDigit(version[0]) || version.Any(c => !char.IsAsciiLetterOrDigit(c) && c is not ('.' or '-' or '+'))
            ? "A version starts with a digit and has up to 40 letters, digits, '.', '-' and '+', like 0.2.0 or 0.2.0-rc.1."
            : null;
}
