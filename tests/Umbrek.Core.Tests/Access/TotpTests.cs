using System.Text;
using CsCheck;
using Umbrek.Core.Access;

namespace Umbrek.Core.Tests.Access;

public sealed class TotpTests
{
    private static readonly byte[] Secret = Encoding.ASCII.GetBytes("12345678901234567890");

    /// <summary>RFC 6238, appendix B; its codes have eight digits, ours are the last six of them.</summary>
    [Theory]
    [InlineData(59, "287082")]
    [InlineData(1111111109, "081804")]
    [InlineData(1111111111, "050471")]
    [InlineData(1234567890, "005924")]
    [InlineData(2000000000, "279037")]
    [InlineData(20000000000, "353130")]
    public void The_codes_are_those_of_the_standard(long seconds, string code) =>
        Totp.Code(Secret, Totp.StepAt(DateTimeOffset.FromUnixTimeSeconds(seconds))).ShouldBe(code);

    /// <summary>RFC 4226, appendix D.</summary>
    [Fact]
    public void So_are_those_by_count() =>
        Enumerable.Range(0, 10).Select(n => Totp.Code(Secret, n)).ShouldBe(["755224", "287082", "359152", "969429", "338314", "254676", "287922", "162583", "399871", "520489"]);

    [Fact]
    public void A_code_is_good_half_a_minute_early_or_late_and_no_longer() => Gen.Long[1_000_000_000, 4_000_000_000].Sample(seconds =>
    {
        var now = DateTimeOffset.FromUnixTimeSeconds(seconds);
        for (var off = -4; off <= 4; off++)
        {
            var taken = Totp.Check(Secret, Totp.Code(Secret, Totp.StepAt(now) + off), now, -1);
            if (Math.Abs(off) <= 1)
            {
                taken.ShouldNotBeNull();
            }
        }
        var hour = Totp.Code(Secret, Totp.StepAt(now.AddHours(1)));
        var near = Enumerable.Range(-1, 3).Select(off => Totp.Code(Secret, Totp.StepAt(now) + off));
        Totp.Check(Secret, hour, now, -1).HasValue.ShouldBe(near.Contains(hour));
    });

    [Fact]
    public void A_code_opens_once()
    {
        var now = DateTimeOffset.FromUnixTimeSeconds(1_800_000_000);
        var code = Totp.Code(Secret, Totp.StepAt(now));
        var step = Totp.Check(Secret, code, now, -1).ShouldNotBeNull();
        Totp.Check(Secret, code, now, step).ShouldBeNull();
        Totp.Check(Secret, code, now.AddSeconds(20), step).ShouldBeNull();
        Totp.Check(Secret, Totp.Code(Secret, step + 1), now.AddSeconds(30), step).ShouldBe(step + 1);
    }

    [Theory]
    [InlineData("")]
    [InlineData("28708")]
    [InlineData("2870822")]
    [InlineData("abcdef")]
    [InlineData("２８７０８２")]
    public void What_is_no_code_is_none(string typed) => Totp.Check(Secret, typed, DateTimeOffset.FromUnixTimeSeconds(59), -1).ShouldBeNull();

    [Fact]
    public void Blanks_between_the_digits_do_not_count() => Totp.Check(Secret, " 287 082 ", DateTimeOffset.FromUnixTimeSeconds(59), -1).ShouldNotBeNull();

    /// <summary>RFC 4648 §10.</summary>
    [Theory]
    [InlineData("", "")]
    [InlineData("f", "MY")]
    [InlineData("fo", "MZXQ")]
    [InlineData("foo", "MZXW6")]
    [InlineData("foob", "MZXW6YQ")]
    [InlineData("fooba", "MZXW6YTB")]
    [InlineData("foobar", "MZXW6YTBOI")]
    public void Secrets_are_written_in_base_32(string text, string written) => Totp.ToBase32(Encoding.ASCII.GetBytes(text)).ShouldBe(written);

    [Fact]
    public void An_app_is_told_whose_it_is() =>
        Totp.Uri(Secret, "Umbrek at care.halyard.example", "Ines Okafor").ShouldBe("otpauth://totp/Umbrek%20at%20care.halyard.example:Ines%20Okafor?secret=GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ&issuer=Umbrek%20at%20care.halyard.example&digits=6&period=30");

    [Fact]
    public void A_recovery_code_is_the_same_however_it_is_typed()
    {
        var code = RecoveryCode.Generate();
        RecoveryCode.Hash(code.ToUpperInvariant().Replace("-", " ")).ShouldBe(RecoveryCode.Hash(code));
        Enumerable.Range(0, 100).Select(_ => RecoveryCode.Generate()).Distinct().Count().ShouldBe(100);
    }
}
