using System.Net;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Hosting;

/// <summary>
/// The service's certificate and the SHA-256 of its public key, which agents and clients pin. Made at the first start and
/// kept; agents trust the key, not the dates or the names.
/// </summary>
public sealed class ServiceKey(X509Certificate2 certificate)
{
    public X509Certificate2 Certificate { get; } = certificate;
    public byte[] Sha256 { get; } = ServicePin.Of(certificate);
    public string Fingerprint => Convert.ToHexStringLower(Sha256);

    /// <exception cref="InvalidDataException">The files are there but can't be used; the message says which and why.</exception>
    public static ServiceKey LoadOrCreate(ServiceOptions options, TimeProvider time)
    {
        var certificateFile = options.CertificateFile ?? options.PathOf("tls.crt");
        var keyFile = options.CertificateKeyFile ?? options.PathOf("tls.key");
        if (options.CertificateFile is null && !File.Exists(certificateFile))
        {
            Create(certificateFile, keyFile, time.GetUtcNow());
        }
        try
        {
            using var pem = X509Certificate2.CreateFromPemFile(certificateFile, keyFile);
            return new ServiceKey(X509CertificateLoader.LoadPkcs12(pem.Export(X509ContentType.Pkcs12), null));
        }
        catch (Exception e) when (e is CryptographicException or IOException or UnauthorizedAccessException)
        {
            throw new InvalidDataException($"The certificate {certificateFile} with key {keyFile} can't be used: {e.Message}", e);
        }
    }

    private static void Create(string certificateFile, string keyFile, DateTimeOffset now)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest("CN=Umbrek service", key, HashAlgorithmName.SHA256);
        var names = new SubjectAlternativeNameBuilder();
        names.AddDnsName("localhost");
        names.AddDnsName(Dns.GetHostName());
        names.AddIpAddress(IPAddress.Loopback);
        names.AddIpAddress(IPAddress.IPv6Loopback);
        request.CertificateExtensions.Add(names.Build());
        request.CertificateExtensions.Add(new X509BasicConstraintsExtension(false, false, 0, true));
        request.CertificateExtensions.Add(new X509KeyUsageExtension(X509KeyUsageFlags.DigitalSignature, true));
        // RFC 5280 §4.2.1.12: server authentication.
        request.CertificateExtensions.Add(new X509EnhancedKeyUsageExtension([new Oid("1.3.6.1.5.5.7.3.1")], false));
        using var certificate = request.CreateSelfSigned(now.AddDays(-1), now.AddYears(10));
        var options = new FileStreamOptions { Mode = FileMode.Create, Access = FileAccess.Write };
        if (!OperatingSystem.IsWindows())
        {
            options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        }
        using (var writer = new StreamWriter(keyFile, options))
        {
            writer.Write(key.ExportPkcs8PrivateKeyPem());
        }
        File.WriteAllText(certificateFile, certificate.ExportCertificatePem());
    }
}
