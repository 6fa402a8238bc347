using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Umbrek.Service.Hosting;
using Umbrek.Tests;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Tests.Hosting;

public sealed class ServiceKeyTests : IDisposable
{
    private readonly TestDirectory directory = new();

    public void Dispose() => directory.Dispose();

    [Fact]
    public void A_key_is_made_once_kept_and_its_owners_alone()
    {
        var options = new ServiceOptions { DataDirectory = directory.Path };
        var first = ServiceKey.LoadOrCreate(options, TimeProvider.System);
        ServiceKey.LoadOrCreate(options, TimeProvider.System).Fingerprint.ShouldBe(first.Fingerprint);
        File.GetUnixFileMode(directory.In("tls.key")).ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite);
        first.Certificate.HasPrivateKey.ShouldBeTrue();
    }

    [Fact]
    public void Files_of_ones_own_are_taken_and_bad_ones_named()
    {
        using var key = RSA.Create(2048);
        using var own = new CertificateRequest("CN=care.halyard.example", key, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1).CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(30));
        File.WriteAllText(directory.In("own.pem"), own.ExportCertificatePem());
        File.WriteAllText(directory.In("own.key"), key.ExportPkcs8PrivateKeyPem());
        var options = new ServiceOptions { DataDirectory = directory.Path, CertificateFile = directory.In("own.pem"), CertificateKeyFile = directory.In("own.key") };
        ServiceKey.LoadOrCreate(options, TimeProvider.System).Sha256.ShouldBe(ServicePin.Of(own));

        File.WriteAllText(directory.In("own.key"), "no key");
        Should.Throw<InvalidDataException>(() => ServiceKey.LoadOrCreate(options, TimeProvider.System)).Message.ShouldContain("own.key");
        Should.Throw<InvalidDataException>(() => ServiceKey.LoadOrCreate(options with { CertificateFile = directory.In("missing") }, TimeProvider.System)).Message.ShouldContain("missing");
    }
}
