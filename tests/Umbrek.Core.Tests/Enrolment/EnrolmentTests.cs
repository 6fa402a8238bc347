using System.Security.Cryptography;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Links;

namespace Umbrek.Core.Tests.Enrolment;

public sealed class EnrolmentTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);
    private static readonly byte[] ServiceKey = SHA256.HashData("service"u8);

    [Fact]
    public void A_token_is_read_as_it_was_written_and_starts_with_no_sign()
    {
        for (var i = 0; i < 200; i++)
        {
            var token = EnrolmentTokenText.Create(ServiceKey);
            char.IsAsciiLetterOrDigit(token.ToString()[0]).ShouldBeTrue();
            var read = EnrolmentTokenText.Parse($"  {token}\n").ShouldNotBeNull();
            read.Secret.ShouldBe(token.Secret);
            read.ServiceKeySha256.ShouldBe(ServiceKey);
        }
    }

    [Theory]
    [InlineData(null)]
    [InlineData("")]
    [InlineData("abc.def")]
    [InlineData("!!!!.????")]
    [InlineData("a.b.c")]
    public void What_is_no_token_is_refused(string? text) => EnrolmentTokenText.Parse(text).ShouldBeNull();

    [Fact]
    public void A_cut_token_is_refused() =>
        EnrolmentTokenText.Parse(EnrolmentTokenText.Create(ServiceKey).ToString()[..^1]).ShouldBeNull();

    [Fact]
    public void Terms_end_a_token_in_every_way()
    {
        new TokenTerms(null, null, 99, null).Check(Noon).ShouldBe(TokenRefusal.None);
        new TokenTerms(Noon, null, 0, null).Check(Noon).ShouldBe(TokenRefusal.Expired);
        new TokenTerms(Noon.AddSeconds(1), 2, 1, null).Check(Noon).ShouldBe(TokenRefusal.None);
        new TokenTerms(null, 2, 2, null).Check(Noon).ShouldBe(TokenRefusal.UsedUp);
        new TokenTerms(null, null, 0, Noon).Check(Noon).ShouldBe(TokenRefusal.Revoked);
        foreach (var refusal in Enum.GetValues<TokenRefusal>().Where(r => r != TokenRefusal.None))
        {
            EnrolmentRules.Explain(refusal).ShouldNotBeEmpty();
        }
    }

    [Fact]
    public void A_proof_holds_for_one_host_one_service_and_one_nonce()
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var spki = key.ExportSubjectPublicKeyInfo();
        var host = Guid.CreateVersion7();
        var nonce = RandomNumberGenerator.GetBytes(LinkProof.NonceBytes);
        var proof = LinkProof.Sign(key, host, ServiceKey, nonce);

        LinkProof.Verify(spki, host, ServiceKey, nonce, proof).ShouldBeTrue();
        LinkProof.Verify(spki, Guid.CreateVersion7(), ServiceKey, nonce, proof).ShouldBeFalse();
        LinkProof.Verify(spki, host, SHA256.HashData("other"u8), nonce, proof).ShouldBeFalse();
        LinkProof.Verify(spki, host, ServiceKey, RandomNumberGenerator.GetBytes(32), proof).ShouldBeFalse();
        LinkProof.VerifyEnrolment(spki, ServiceKey, nonce, proof).ShouldBeFalse();
        LinkProof.Verify([1, 2, 3], host, ServiceKey, nonce, proof).ShouldBeFalse();
    }

    [Fact]
    public void Only_the_right_curve_is_taken()
    {
        using var other = ECDsa.Create(ECCurve.NamedCurves.nistP384);
        LinkProof.VerifyEnrolment(other.ExportSubjectPublicKeyInfo(), ServiceKey, [1], LinkProof.SignEnrolment(other, ServiceKey, [1])).ShouldBeFalse();
    }
}
