using System.Collections.Concurrent;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
using Umbrek.Core.Access;
using Umbrek.Tests;

namespace Umbrek.Agent.Tests.Sessions;

public sealed class ConsentDeskTests
{
    private static readonly HostPolicy Asking = HostPolicy.Everything with { Consent = ConsentRule.WhenSomebodyIsLoggedIn };
    private readonly FakeTimeProvider time = new(DateTimeOffset.UtcNow);
    private readonly People people = new();

    [Fact]
    public async Task Those_who_ask_the_same_share_one_question_and_its_answer()
    {
        var desk = new ConsentDesk(people, time);
        var (first, second) = (AskAsync(desk, "Ines Okafor"), AskAsync(desk, "Ines Okafor"));
        people.Open.Count.ShouldBe(1);
        people.Answer("Ines Okafor", true);
        (await first, await second).ShouldBe((null, null));
        desk.HasAgreed("Ines Okafor", HostAct.Run).ShouldBeTrue();
        // It is hers alone, for this act, for a while.
        (desk.HasAgreed("Tomasz Vail", HostAct.Run), desk.HasAgreed("Ines Okafor", HostAct.Shell)).ShouldBe((false, false));
        time.Advance(ConsentDesk.GoodFor);
        desk.HasAgreed("Ines Okafor", HostAct.Run).ShouldBeFalse();
    }

    [Fact]
    public async Task What_somebody_has_agreed_to_ends_when_he_goes()
    {
        var desk = new ConsentDesk(people, time);
        var asked = AskAsync(desk, "Ines Okafor");
        people.Answer("Ines Okafor", true);
        (await asked).ShouldBeNull();
        people.Here.Add("jo");
        desk.HasAgreed("Ines Okafor", HostAct.Run).ShouldBeTrue();
        people.Here.Remove("elin");
        desk.HasAgreed("Ines Okafor", HostAct.Run).ShouldBeFalse();
        var again = AskAsync(desk, "Ines Okafor");
        people.Answer("Ines Okafor", false);
        (await again).ShouldNotBeNull();
    }

    [Fact]
    public async Task Silence_is_consent_where_the_policy_says_so_and_a_refusal_stays_one()
    {
        var desk = new ConsentDesk(people, time);
        var policy = HostPolicy.Everything with { Consent = ConsentRule.UnlessRefused };
        Task<string?> Ask(List<ConsentAnswer> heard) => desk.AskAsync(policy, new ConsentQuestion("Ines Okafor", HostAct.Run, "uptime", default), _ => { }, heard.Add, default);
        var heard = new List<ConsentAnswer>();
        var silent = Ask(heard);
        people.Last!.SilenceAgrees.ShouldBeTrue();
        silent.IsCompleted.ShouldBeFalse();
        time.Advance(ConsentDesk.AnswerWithin);
        (await silent).ShouldBeNull();
        heard.ShouldBe([new ConsentAnswer(true, ConsentDesk.Silence)]);
        // It is no agreement that counts for the next time.
        var refused = Ask(heard);
        people.Answer("Ines Okafor", false);
        (await refused)!.ShouldContain("has refused it");
        // Where nobody is logged in there is nobody to ask.
        people.Here.Clear();
        (await Ask(heard)).ShouldBeNull();
        heard.Count.ShouldBe(2);
    }

    [Fact]
    public async Task Who_asked_first_may_withdraw_and_the_others_are_asked_for_anew()
    {
        var desk = new ConsentDesk(people, time);
        using var withdrawn = new CancellationTokenSource();
        var first = AskAsync(desk, "Ines Okafor", withdrawn.Token);
        var second = AskAsync(desk, "Ines Okafor");
        await withdrawn.CancelAsync();
        await Should.ThrowAsync<OperationCanceledException>(() => first);
        await Wait.UntilAsync(() => people.Asked == 2, "the question anew");
        people.Answer("Ines Okafor", false);
        (await second)!.ShouldContain("elin, who is logged in there, has refused it");
    }

    [Fact]
    public async Task Nobody_is_drowned_in_questions()
    {
        var desk = new ConsentDesk(people, time);
        var asked = Enumerable.Range(1, 5).Select(n => AskAsync(desk, $"technician {n}")).ToList();
        (await AskAsync(desk, "one too many"))!.ShouldContain("being asked 5 other things already");
        time.Advance(ConsentDesk.AnswerWithin);
        (await Task.WhenAll(asked)).ShouldAllBe(a => a!.StartsWith("Nobody at this host has agreed within 2 minutes", StringComparison.Ordinal));
    }

    private static Task<string?> AskAsync(ConsentDesk desk, string technician, CancellationToken cancel = default) =>
        desk.AskAsync(Asking, new ConsentQuestion(technician, HostAct.Run, "uname -r", default), _ => { }, _ => { }, cancel);

    private sealed class People : IPeopleHere
    {
        private int asked;

        public ConcurrentDictionary<string, TaskCompletionSource<ConsentAnswer>> Open { get; } = new();
        public ConsentQuestion? Last { get; private set; }
        public int Asked => Volatile.Read(ref asked);

        public void Answer(string technician, bool agreed) => Open[technician].SetResult(new ConsentAnswer(agreed, "elin"));

        public List<string> Here { get; } = ["elin"];

        public IReadOnlyList<string> LoggedIn() => Here;

        public void Tell(string text)
        {
            // Nobody listens in this test.
        }

        public Task<PutOff> WarnAsync(PowerWarning warning, CancellationToken cancel) => throw new NotSupportedException();

        public Task<ConsentAnswer> AskAsync(ConsentQuestion question, CancellationToken cancel)
        {
            var answer = Open[question.Technician] = new TaskCompletionSource<ConsentAnswer>(TaskCreationOptions.RunContinuationsAsynchronously);
            Last = question;
            Interlocked.Increment(ref asked);
            return answer.Task.WaitAsync(cancel);
        }
    }
}
