using System.Security.Cryptography;
using System.Text;
using CsCheck;
using Umbrek.Core.Access;

namespace Umbrek.Core.Tests.Access;

public sealed class ScramTests
{
    private const string Key = "harbour lamp seven gulls";
    private static readonly byte[] Binding = SHA256.HashData("this channel"u8);
    private static readonly ScramVerifier Verifier = ScramVerifier.Create(Key);

    /// <summary>RFC 7677 §3, message by message.</summary>
    [Fact]
    public void The_exchange_of_the_standard_is_ours_to_the_letter()
    {
        var prover = new ScramProver("user", "pencil"u8.ToArray(), "rOprNGfwEbeRWgbNEkqO", null);
        var keeper = new ScramKeeper(n => n == "user" ? ScramVerifier.Create("pencil", Convert.FromBase64String("W22ZaJ0SNY7soEsUEjb6gQ=="), 4096) : null, "%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0", null);
        prover.First.ShouldBe("n,,n=user,r=rOprNGfwEbeRWgbNEkqO");
        var first = keeper.Answer(prover.First);
        first.ShouldBe("r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096");
        var proof = prover.Prove(first);
        proof.ShouldBe("c=biws,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,p=dHzbZapWIk4jUhN+Ute9ytag9zjfMHgsqmmiz7AndVQ=");
        var (final, kept) = keeper.Finish(proof);
        final.ShouldBe("v=6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4=");
        prover.Check(final).SessionKey.ShouldBe(kept.SessionKey);
    }

    [Fact]
    public void Both_know_one_session_key_that_the_messages_do_not_hold()
    {
        var (prover, keeper) = Pair();
        var (said, own, kept) = Run(prover, keeper);
        own.ShouldBe(kept);
        own.Length.ShouldBe(32);
        // Another exchange with the same key leaves another.
        var (otherProver, otherKeeper) = Pair();
        Run(otherProver, otherKeeper).Own.ShouldNotBe(own);
        said.ShouldAllBe(m => !m.Contains(Convert.ToBase64String(own), StringComparison.Ordinal) && !m.Contains(Key, StringComparison.Ordinal));
    }

    [Fact]
    public void A_wrong_key_proves_nothing_and_its_holder_is_told()
    {
        var (prover, keeper) = Pair("harbour lamp eight gulls");
        var proof = prover.Prove(keeper.Answer(prover.First));
        Should.Throw<ScramException>(() => keeper.Finish(proof)).Word.ShouldBe("invalid-proof");
        Should.Throw<ScramException>(() => prover.Check("e=invalid-proof")).Message.ShouldBe("The access key is wrong.");
    }

    [Fact]
    public void What_was_recorded_on_one_channel_is_worthless_on_another_and_the_second_time()
    {
        var (prover, keeper) = Pair();
        var first = prover.First;
        var proof = prover.Prove(keeper.Answer(first));
        _ = keeper.Finish(proof);
        // The same proof again, to the same exchange.
        Should.Throw<ScramException>(() => keeper.Finish(proof));
        // To a fresh exchange on the same channel: its nonce is another.
        var again = Keeper(Binding);
        _ = again.Answer(first);
        Should.Throw<ScramException>(() => again.Finish(proof)).Message.ShouldContain("another exchange");
        // On another channel, even with the host's nonce of before.
        var elsewhere = Keeper(SHA256.HashData("that channel"u8), "fixed-nonce-of-the-host-0001");
        var here = Keeper(Binding, "fixed-nonce-of-the-host-0001");
        var fresh = Prover(Key, Binding);
        var answer = here.Answer(fresh.First);
        elsewhere.Answer(fresh.First).ShouldBe(answer);
        Should.Throw<ScramException>(() => elsewhere.Finish(fresh.Prove(answer))).Word.ShouldBe("channel-bindings-dont-match");
    }

    [Fact]
    public void A_proof_that_is_bound_to_nothing_is_not_taken_on_a_channel()
    {
        var unbound = new ScramProver(ChannelBinding.AccessKey, Encoding.UTF8.GetBytes(Key), ChannelBinding.NewNonce(), null);
        Should.Throw<ScramException>(() => Keeper(Binding).Answer(unbound.First)).Message.ShouldContain("not bound");
        Should.Throw<ScramException>(() => Keeper(Binding).Answer("y,," + unbound.First[3..]));
    }

    [Theory]
    [InlineData(1)]
    [InlineData(4096)]
    [InlineData(1_000_000_000)]
    public void Few_or_endless_iterations_are_refused_before_anything_is_computed(int iterations)
    {
        var prover = Prover(Key, Binding);
        var nonce = prover.First[(prover.First.LastIndexOf("r=", StringComparison.Ordinal) + 2)..];
        Should.Throw<ScramException>(() => prover.Prove($"r={nonce}answer,s=c2FsdHNhbHQ=,i={iterations}")).Message.ShouldContain("iterations");
    }

    [Fact]
    public void Messages_out_of_order_and_of_another_conversation_end_it()
    {
        var (prover, keeper) = Pair();
        Should.Throw<ScramException>(() => keeper.Finish("c=biws,r=x,p=eA==")).Message.ShouldContain("before the exchange began");
        var answer = keeper.Answer(prover.First);
        Should.Throw<ScramException>(() => keeper.Answer(prover.First)).Message.ShouldContain("begins once");
        Should.Throw<ScramException>(() => prover.Prove("r=somebody-elses-nonce-altogether,s=c2FsdHNhbHQ=,i=60000")).Message.ShouldContain("repeats an earlier exchange");
        Should.Throw<ScramException>(() => prover.Check("v=AAAA"));
        _ = prover.Prove(answer);
        Should.Throw<ScramException>(() => prover.Check("v=" + Convert.ToBase64String(new byte[32]))).Message.ShouldContain("not the host");
    }

    [Fact]
    public void No_message_whatever_it_holds_does_more_than_end_the_exchange() => Gen.String[Gen.Char[",=nrscipv/+AZaz09 \u0000\u00e9"], 0, 60].Sample(text =>
    {
        foreach (var act in new Action[]
        {
            () => Keeper(Binding).Answer(text),
            () => Keeper(Binding).Answer($"p={Scram.BindingName},,{text}"),
            () => Prover(Key, Binding).Prove(text),
            () => Begun().Finish(text),
        })
        {
            Should.Throw<ScramException>(act);
        }
    }, iter: 300);

    [Fact]
    public void A_sealed_order_is_of_one_session_one_act_one_text()
    {
        var key = RandomNumberGenerator.GetBytes(32);
        var order = SealedOrder.Make(key, Guid.CreateVersion7(), 1, HostAct.Run, """{"line":"uptime"}""");
        order.IsOf(key, HostAct.Run).ShouldBeTrue();
        order.IsOf(key, HostAct.Power).ShouldBeFalse();
        order.IsOf(RandomNumberGenerator.GetBytes(32), HostAct.Run).ShouldBeFalse();
        (order with { Text = """{"line":"reboot"}""" }).IsOf(key, HostAct.Run).ShouldBeFalse();
        (order with { Number = 2 }).IsOf(key, HostAct.Run).ShouldBeFalse();
        (order with { SessionId = Guid.CreateVersion7() }).IsOf(key, HostAct.Run).ShouldBeFalse();
    }

    [Fact]
    public void A_new_key_is_for_the_host_and_the_channel_and_whoever_has_proven_the_old_one()
    {
        using var host = ECDiffieHellman.Create(ECCurve.NamedCurves.nistP256);
        using var other = ECDiffieHellman.Create(ECCurve.NamedCurves.nistP256);
        var session = RandomNumberGenerator.GetBytes(32);
        var box = KeyBox.Seal("another key"u8, host.ExportSubjectPublicKeyInfo(), Binding, session);
        Encoding.UTF8.GetString(box.Open(host, Binding, session)).ShouldBe("another key");
        Should.Throw<CryptographicException>(() => box.Open(other, Binding, session));
        Should.Throw<CryptographicException>(() => box.Open(host, SHA256.HashData("that channel"u8), session));
        Should.Throw<CryptographicException>(() => box.Open(host, Binding, RandomNumberGenerator.GetBytes(32)));
        Should.Throw<CryptographicException>(() => box.Open(host, Binding, null));
        box.Cipher[0] ^= 1;
        Should.Throw<CryptographicException>(() => box.Open(host, Binding, session));
        Should.Throw<CryptographicException>(() => new KeyBox(null!, null!, null!).Open(host, Binding, null));
    }

    [Fact]
    public void Wrong_attempts_bar_further_ones_for_longer_each_time()
    {
        var now = new DateTimeOffset(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);
        var state = Lockout.None;
        for (var i = 1; i < Lockout.Free; i++)
        {
            (state = state.Fail(now)).Bars(now).ShouldBeFalse();
        }
        state = state.Fail(now);
        (state.Bars(now), state.Bars(now.AddSeconds(59)), state.Bars(now.AddSeconds(60))).ShouldBe((true, true, false));
        Lockout.Length(6).ShouldBe(TimeSpan.FromMinutes(2));
        Lockout.Length(1000).ShouldBe(TimeSpan.FromHours(1));
    }

    [Fact]
    public void Hosts_with_one_key_share_a_mark_that_tells_little_and_differs_between_services()
    {
        var (here, there) = (SHA256.HashData("a"u8), SHA256.HashData("b"u8));
        var mark = AccessKeyMark.Of("harbour lamp seven gulls"u8, here);
        mark.Length.ShouldBe(8);
        AccessKeyMark.Of("harbour lamp seven gulls"u8, here).ShouldBe(mark);
        AccessKeyMark.Of("harbour lamp seven gulls"u8, there).ShouldNotBe(mark);
        AccessKeyMark.Of("harbour lamp eight gulls"u8, here).ShouldNotBe(mark);
    }

    [Fact]
    public void The_vaults_seal_holds_a_text_to_its_place()
    {
        var key = RandomNumberGenerator.GetBytes(VaultSeal.KeyBytes);
        var cipher = VaultSeal.Seal(key, "a secret"u8, "its place"u8);
        VaultSeal.Open(key, cipher, "its place"u8).ShouldBe("a secret"u8.ToArray());
        VaultSeal.Seal(key, "a secret"u8, "its place"u8).ShouldNotBe(cipher);
        Should.Throw<CryptographicException>(() => VaultSeal.Open(key, cipher, "another place"u8));
        Should.Throw<CryptographicException>(() => VaultSeal.Open(RandomNumberGenerator.GetBytes(VaultSeal.KeyBytes), cipher, "its place"u8));
        Should.Throw<CryptographicException>(() => VaultSeal.Open(key, cipher.AsSpan(0, 20), "its place"u8));
        cipher[^1] ^= 1;
        Should.Throw<CryptographicException>(() => VaultSeal.Open(key, cipher, "its place"u8));
    }

    private static ScramProver Prover(string key, byte[]? binding) => new(ChannelBinding.AccessKey, Encoding.UTF8.GetBytes(key), ChannelBinding.NewNonce(), binding);

    private static ScramKeeper Keeper(byte[]? binding, string? nonce = null) => new(n => n == ChannelBinding.AccessKey ? Verifier : null, nonce ?? ChannelBinding.NewNonce(), binding);

    private static ScramKeeper Begun()
    {
        var keeper = Keeper(Binding);
        _ = keeper.Answer(Prover(Key, Binding).First);
        return keeper;
    }

    private static (ScramProver Prover, ScramKeeper Keeper) Pair(string key = Key) => (Prover(key, Binding), Keeper(Binding));

    private static (string[] Said, byte[] Own, byte[] Kept) Run(ScramProver prover, ScramKeeper keeper)
    {
        var first = keeper.Answer(prover.First);
        var proof = prover.Prove(first);
        var (final, kept) = keeper.Finish(proof);
        return ([prover.First, first, proof, final], prover.Check(final).SessionKey, kept.SessionKey);
    }
}
