using System.Text;
using Umbrek.Core.Access;

namespace Umbrek.Core.Tests.Access;

public sealed class AccessKeyTests
{
    /// <summary>RFC 7677 §3: user "user", password "pencil".</summary>
    [Fact]
    public void The_verifier_takes_the_proof_of_the_standard_and_answers_with_its_signature()
    {
        const string auth = "n=user,r=rOprNGfwEbeRWgbNEkqO,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096,c=biws,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0";
        var verifier = ScramVerifier.Create("pencil", Convert.FromBase64String("W22ZaJ0SNY7soEsUEjb6gQ=="), 4096);
        var message = Encoding.UTF8.GetBytes(auth);
        var proof = Convert.FromBase64String("dHzbZapWIk4jUhN+Ute9ytag9zjfMHgsqmmiz7AndVQ=");
        verifier.Open(message, proof).ShouldNotBeNull();
        Convert.ToBase64String(verifier.Sign(message)).ShouldBe("6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4=");

        verifier.Open(Encoding.UTF8.GetBytes(auth + "x"), proof).ShouldBeNull();
        proof[0] ^= 1;
        verifier.Open(message, proof).ShouldBeNull();
        verifier.Open(message, proof.AsSpan(1)).ShouldBeNull();
    }

    [Fact]
    public void Made_keys_pass_the_check_and_differ_and_verifiers_of_one_key_do_too()
    {
        var keys = Enumerable.Range(0, 100).Select(_ => AccessKey.Generate()).ToList();
        keys.ShouldAllBe(k => AccessKey.Check(k) == null);
        keys.Distinct().Count().ShouldBe(100);
        ScramVerifier.Create(keys[0]).StoredKey.ShouldNotBe(ScramVerifier.Create(keys[0]).StoredKey);
    }

    [Theory]
    [InlineData("short", "at least")]
    [InlineData("aaaaaaaaaaaaaaaa", "repeats itself")]
    [InlineData("käse-im-reifelager", "US keyboard")]
    [InlineData("tab\tin the middle", "US keyboard")]
    public void Weak_or_ambiguous_keys_are_refused_with_a_reason(string key, string word) => AccessKey.Check(key).ShouldNotBeNull().ShouldContain(word);

    [Fact]
    public void A_key_has_an_end() => AccessKey.Check(string.Concat(Enumerable.Repeat("abcdefg ", 2000))).ShouldNotBeNull().ShouldContain("the most");

    [Fact]
    public void A_policy_names_each_act_once_and_takes_no_unknown_ones()
    {
        new HostPolicy([HostAct.Run, HostAct.Watch, HostAct.Run], ConsentRule.Always).Normalise()!.Allowed.ShouldBe([HostAct.Watch, HostAct.Run]);
        new HostPolicy([(HostAct)99], ConsentRule.Always).Normalise().ShouldBeNull();
        new HostPolicy(null!, ConsentRule.Always).Normalise().ShouldBeNull();
        HostPolicy.Everything.Allowed.ShouldAllBe(a => HostPolicy.Everything.Allows(a));
        foreach (var act in HostPolicy.Everything.Allowed)
        {
            HostPolicyWords.Describe(act).ShouldNotBe(act.ToString());
        }
    }
}
