using System.Security.Cryptography;
using Umbrek.Core.Enrolment;

namespace Umbrek.Core.Tests.Enrolment;

public sealed class RolloutTests
{
    [Theory]
    [InlineData("1, 10%, rest", 60, new[] { 1, 6, 53 })]
    [InlineData("1, 10%, rest", 1, new[] { 1 })]
    [InlineData("1,10%,rest", 3, new[] { 1, 1, 1 })]
    [InlineData("5", 12, new[] { 5, 7 })]
    [InlineData("100%", 7, new[] { 7 })]
    [InlineData("", 7, new[] { 7 })]
    [InlineData("50, 50", 7, new[] { 7 })]
    public void Waves_add_up_to_all_hosts(string text, int hosts, int[] sizes) => Rollout.Sizes(text, hosts, out _).ShouldBe(sizes);

    [Theory]
    [InlineData("0")]
    [InlineData("-1")]
    [InlineData("101%")]
    [InlineData("some")]
    [InlineData("1.5")]
    public void What_is_no_wave_is_named(string text)
    {
        Rollout.Sizes(text, 10, out var problem).ShouldBeNull();
        problem.ShouldContain(text);
    }

    [Fact]
    public void A_wave_begins_when_the_one_before_is_back_and_hosts_that_are_away_hold_up_nobody()
    {
        var hosts = new[] { Host(1, 1), Host(2, 2), Host(3, 2, linked: false), Host(4, 3) };
        Step(hosts).ShouldBe((RolloutState.Running, 1, "1"));
        hosts[0] = hosts[0] with { State = UpdateState.Told };
        Step(hosts).ShouldBe((RolloutState.Running, 1, ""));
        hosts[0] = hosts[0] with { State = UpdateState.Updated };
        Step(hosts).ShouldBe((RolloutState.Running, 2, "2"));
        hosts[1] = hosts[1] with { State = UpdateState.Updated };
        Step(hosts).ShouldBe((RolloutState.Running, 3, "4"));
        hosts[3] = hosts[3] with { State = UpdateState.Updated };
        Step(hosts).ShouldBe((RolloutState.Running, 3, ""));
        hosts[2] = hosts[2] with { Linked = true };
        Step(hosts).ShouldBe((RolloutState.Running, 2, "3"));
        hosts[2] = hosts[2] with { State = UpdateState.Updated };
        Step(hosts).State.ShouldBe(RolloutState.Done);
    }

    [Fact]
    public void More_failures_than_allowed_stop_it_and_fewer_do_not()
    {
        var hosts = new[] { Host(1, 1) with { State = UpdateState.WentBack }, Host(2, 2) };
        Step(hosts).State.ShouldBe(RolloutState.Stopped);
        Step(hosts, failuresAllowed: 1).ShouldBe((RolloutState.Running, 2, "2"));
    }

    [Fact]
    public void A_signature_holds_for_one_manifest_and_one_key()
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        using var other = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        using var wide = ECDsa.Create(ECCurve.NamedCurves.nistP384);
        var manifest = new ReleaseManifest("0.2.0", "linux-x64", 100, new string('a', 64));
        var signature = key.SignData(manifest.Statement(), HashAlgorithmName.SHA256);
        var spki = key.ExportSubjectPublicKeyInfo();
        manifest.IsSignedBy(spki, signature).ShouldBeTrue();
        (manifest with { Version = "0.2.1" }).IsSignedBy(spki, signature).ShouldBeFalse();
        (manifest with { Size = 101 }).IsSignedBy(spki, signature).ShouldBeFalse();
        (manifest with { Sha256 = new string('b', 64) }).IsSignedBy(spki, signature).ShouldBeFalse();
        (manifest with { System = "linux-arm64" }).IsSignedBy(spki, signature).ShouldBeFalse();
        manifest.IsSignedBy(other.ExportSubjectPublicKeyInfo(), signature).ShouldBeFalse();
        manifest.IsSignedBy(wide.ExportSubjectPublicKeyInfo(), wide.SignData(manifest.Statement(), HashAlgorithmName.SHA256)).ShouldBeFalse();
        manifest.IsSignedBy([1, 2, 3], signature).ShouldBeFalse();
        ReleaseManifest.CheckVersion("0.2.0-rc.1").ShouldBeNull();
        ReleaseManifest.CheckVersion("../../etc").ShouldNotBeNull();
        ReleaseManifest.CheckVersion("1/2").ShouldNotBeNull();
    }

    private static RolloutHost Host(int number, int wave, bool linked = true) => new(new Guid(number, 0, 0, new byte[8]), wave, UpdateState.Waiting, linked);

    private static (RolloutState State, int Wave, string Tell) Step(RolloutHost[] hosts, int failuresAllowed = 0)
    {
        var step = Rollout.Next(hosts, failuresAllowed);
        return (step.State, step.Wave, string.Join(',', step.Tell.Select(t => int.Parse(t.ToString()[..8], System.Globalization.NumberStyles.HexNumber))));
    }
}
