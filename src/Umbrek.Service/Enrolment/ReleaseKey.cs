using System.Security.Cryptography;
using Umbrek.Service.Hosting;

namespace Umbrek.Service.Enrolment;

/// <summary>The P-256 key that signs agent updates, made at the first start and kept in release.key. Hosts learn its public half when they join.</summary>
public sealed class ReleaseKey : IDisposable
{
    private readonly ECDsa key = ECDsa.Create();

    /// <exception cref="InvalidDataException">The file is there but holds no such key.</exception>
    public ReleaseKey(ServiceOptions options)
    {
        var file = options.PathOf("release.key");
        try
        {
            if (!File.Exists(file))
            {
                using var made = ECDsa.Create(ECCurve.NamedCurves.nistP256);
                Directory.CreateDirectory(options.DataDirectory);
                var how = new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write };
                if (!OperatingSystem.IsWindows())
                {
                    how.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
                }
                using var writer = new StreamWriter(file, how);
                writer.Write(made.ExportPkcs8PrivateKeyPem());
            }
            key.ImportFromPem(File.ReadAllText(file));
        }
        catch (Exception e) when (e is CryptographicException or ArgumentException)
        {
            throw new InvalidDataException($"{file} holds no key for signing updates: {e.Message} Put it back from a backup; hosts believe no other.", e);
        }
        PublicKey = key.ExportSubjectPublicKeyInfo();
    }

    /// <summary>SubjectPublicKeyInfo, DER.</summary>
    public byte[] PublicKey { get; }

    /// <summary>ECDSA with SHA-256 (FIPS 186-5), r‖s (IEEE P1363).</summary>
    public byte[] Sign(ReadOnlySpan<byte> statement) => key.SignData(statement, HashAlgorithmName.SHA256);

    public void Dispose() => key.Dispose();
}
