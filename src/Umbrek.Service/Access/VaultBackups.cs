using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Umbrek.Core.Access;
using Umbrek.Service.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Access;

namespace Umbrek.Service.Access;

/// <summary>A backup of the vault as a file: never in clear, whoever comes by it.</summary>
public static class VaultBackups
{
    public const string Format = "umbrek vault backup";
    private const int FormatVersion = 1;

    /// <summary>OWASP's advice for PBKDF2 with HMAC-SHA-256.</summary>
    private const int Iterations = 600_000;
    private const int MostIterations = 10_000_000;
    private const int FewestCharacters = 16;
    private const int SaltBytes = 16;

    /// <exception cref="ProblemException">The passphrase is too short.</exception>
    public static VaultBackup Make(List<SavedSecret> saved, string passphrase)
    {
        if (passphrase.Length < FewestCharacters)
        {
            throw ProblemException.Invalid($"The passphrase has {passphrase.Length} characters; a backup needs {FewestCharacters} at least. Several words that nobody would guess together do well.");
        }
        var salt = RandomNumberGenerator.GetBytes(SaltBytes);
        var plain = JsonSerializer.SerializeToUtf8Bytes(saved, WireJson.Default.ListSavedSecret);
        var key = Derive(passphrase, salt, Iterations);
        var backup = new VaultBackup(Format, FormatVersion, Iterations, salt, VaultSeal.Seal(key, plain, Header(Iterations, salt)));
        CryptographicOperations.ZeroMemory(plain);
        CryptographicOperations.ZeroMemory(key);
        return backup;
    }

    /// <exception cref="ProblemException">It is no backup, or the passphrase is another.</exception>
    public static List<SavedSecret> Read(VaultBackup? backup, string passphrase)
    {
        if (backup is not { Format: Format, Salt.Length: >= 8, Data: not null } || backup.Iterations is < 1000 or > MostIterations)
        {
            throw ProblemException.Invalid("This is no backup of a vault. Give the file that 'umbrek vault backup' wrote.");
        }
        if (backup.FormatVersion != FormatVersion)
        {
            throw ProblemException.Invalid($"The backup is of format {backup.FormatVersion}; this service reads {FormatVersion}. Update the service.");
        }
        var key = Derive(passphrase, backup.Salt, backup.Iterations);
        try
        {
            var plain = VaultSeal.Open(key, backup.Data, Header(backup.Iterations, backup.Salt));
            var saved = JsonSerializer.Deserialize(plain, WireJson.Default.ListSavedSecret)!;
            CryptographicOperations.ZeroMemory(plain);
            return saved;
        }
        catch (CryptographicException)
        {
            throw ProblemException.Invalid("The passphrase is not the one of this backup, or the file was changed. Nothing was restored.");
        }
        finally
        {
            CryptographicOperations.ZeroMemory(key);
        }
    }

    private static byte[] Derive(string passphrase, byte[] salt, int iterations) => Rfc2898DeriveBytes.Pbkdf2(passphrase, salt, iterations, HashAlgorithmName.SHA256, VaultSeal.KeyBytes);

    private static byte[] Header(int iterations, byte[] salt) => Encoding.ASCII.GetBytes($"{Format} {FormatVersion} {iterations} {Convert.ToBase64String(salt)}");
}
