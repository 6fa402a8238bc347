using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Umbrek.Wire.Links;

namespace Umbrek.Wire.Tests.Links;

public sealed class ServicePinTests
{
    [Fact]
    public void A_pin_takes_its_own_key_under_any_certificate_and_no_other()
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        using var first = Certificate(key, "CN=one");
        using var renewed = Certificate(key, "CN=two");
        using var otherKey = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        using var other = Certificate(otherKey, "CN=one");
        var pin = new ServicePin(ServicePin.Of(first));

        pin.Accepts(first).ShouldBeTrue();
        pin.Accepts(renewed).ShouldBeTrue();
        pin.Accepts(other).ShouldBeFalse();
        pin.Seen.ShouldBe(Convert.ToHexStringLower(ServicePin.Of(other)));
        pin.Accepts(null).ShouldBeFalse();
    }

    [Fact]
    public void A_pin_is_read_as_it_is_printed_with_or_without_colons()
    {
        var pin = new ServicePin(SHA256.HashData("x"u8));
        ServicePin.Parse(pin.ToString())!.Sha256.ShouldBe(pin.Sha256);
        ServicePin.Parse(string.Join(':', pin.ToString().Chunk(2).Select(c => new string(c))))!.Sha256.ShouldBe(pin.Sha256);
        ServicePin.Parse("abcd").ShouldBeNull();
        ServicePin.Parse("not hexadecimal").ShouldBeNull();
    }

    private static X509Certificate2 Certificate(ECDsa key, string name) =>
        new CertificateRequest(name, key, HashAlgorithmName.SHA256).CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(1));
}
