using System.Collections.Concurrent;
using Umbrek.Agent.Platform;
using Umbrek.Core.Access;

namespace Umbrek.Agent.Sessions;

/// <summary>Asks the people at this host before a technician acts, and tells them, as the host policy says. What they agreed to lives in memory alone.</summary>
public sealed class ConsentDesk(IPeopleHere people, TimeProvider time)
{
    public static readonly TimeSpan AnswerWithin = TimeSpan.FromMinutes(2);

    /// <summary>How long an agreement counts for the same technician and the same kind of act.</summary>
    public static readonly TimeSpan GoodFor = TimeSpan.FromMinutes(10);

    /// <summary>Between the word that something begins, and its beginning.</summary>
    public static readonly TimeSpan Warning = TimeSpan.FromSeconds(5);

    /// <summary>Who is said to have agreed where nobody answered, and the policy takes that for consent.</summary>
    public const string Silence = "silence";

    private const int MostOpen = 5;

    private readonly ConcurrentDictionary<(string Technician, HostAct Act), Task<ConsentAnswer?>> open = new();
    private readonly ConcurrentDictionary<(string Technician, HostAct Act), (DateTimeOffset At, string Person, bool WasHere)> agreed = new();

    /// <summary>Whether a person has to be asked for it, or told of it.</summary>
    public static bool Concerns(HostPolicy policy) => policy.Consent != ConsentRule.Never || policy.Notice != NoticeRule.None;

    /// <summary>Whether somebody has agreed to it lately; it counts no longer when he has gone since.</summary>
    public bool HasAgreed(string technician, HostAct act) => agreed.TryGetValue((technician, act), out var before) && time.GetUtcNow() - before.At < GoodFor && (!before.WasHere || people.LoggedIn().Contains(before.Person));

    /// <summary>Asks, unless somebody agreed lately. Those who ask the same at the same time share the question.</summary>
    /// <param name="asking">Called when a person is really asked, with the time until which.</param>
    /// <returns>Why it may not be; null when it may.</returns>
    /// <param name="answered">Called with an answer that a person gave just now.</param>
    /// <param name="question">What is asked; until when is decided here.</param>
    public async Task<string?> AskAsync(HostPolicy policy, ConsentQuestion question, Action<DateTimeOffset> asking, Action<ConsentAnswer> answered, CancellationToken cancel)
    {
        var (technician, act) = (question.Technician, question.Act);
        switch (policy.ConsentWith(people.LoggedIn().Count > 0))
        {
            case ConsentNeed.None:
                return null;
            case ConsentNeed.NobodyToAsk:
                return "A person at this host has to agree each time, and nobody is logged in there. Try again when somebody is; the host policy says so.";
        }
        if (HasAgreed(technician, act))
        {
            return null;
        }
        if (open.Count >= MostOpen && !open.ContainsKey((technician, act)))
        {
            return $"The people at this host are being asked {MostOpen} other things already. Try again in a few minutes.";
        }
        var until = time.GetUtcNow() + AnswerWithin;
        asking(until);
        var silenceAgrees = policy.Consent == ConsentRule.UnlessRefused;
        var answer = await SharedAsync(question with { Until = until, SilenceAgrees = silenceAgrees }, cancel).ConfigureAwait(false) ?? (silenceAgrees ? new ConsentAnswer(true, Silence) : null);
        if (answer is not null)
        {
            answered(answer);
        }
        return answer switch
        {
            null => $"Nobody at this host has agreed within {AnswerWithin.TotalMinutes:0} minutes.",
            { Agreed: false } => $"{answer.Person}, who is logged in there, has refused it.",
            _ => null,
        };
    }

    /// <summary>Tells who is there that something begins, and where they are told before, leaves them a moment.</summary>
    public async Task TellBeginAsync(HostPolicy policy, string technician, string what, CancellationToken cancel)
    {
        if (policy.Notice == NoticeRule.None)
        {
            return;
        }
        var before = policy.Notice == NoticeRule.Before;
        people.Tell($"{technician} {(before ? $"begins in {Warning.TotalSeconds:0} seconds" : "begins now")} on this computer: {what}");
        if (before)
        {
            await Task.Delay(Warning, time, cancel).ConfigureAwait(false);
        }
    }

    /// <summary>Shows who is there that it goes on, where they are to be told.</summary>
    public IDisposable Show(HostPolicy policy, PresenceSign sign, Action<string>? end) => policy.Notice == NoticeRule.None ? NothingShown.Instance : people.Show(sign, end);

    /// <summary>Takes keyboards and mice away from who is there; that is shown whatever the policy says.</summary>
    public IDisposable TakeInput(string technician, Action<int> taken) => people.Show(new PresenceSign(technician, "", time.GetUtcNow(), TakesInput: true, (count, _) => taken(count)), null);

    /// <summary>Hides the screens from who is there.</summary>
    public IDisposable Hide(string technician, Action<string?> hidden) => people.Show(new PresenceSign(technician, "", time.GetUtcNow(), Taken: (_, why) => hidden(why), Hides: true), null);

    public IDisposable HandsOnly() => people.HandsOnly();

    public void TellEnd(string technician, string what) => people.Tell($"{technician} has ended on this computer: {what}");

    /// <summary>The answer to a question that is open already, or else to this one.</summary>
    private async Task<ConsentAnswer?> SharedAsync(ConsentQuestion question, CancellationToken cancel)
    {
        var about = (question.Technician, question.Act);
        while (true)
        {
            var mine = new TaskCompletionSource<ConsentAnswer?>(TaskCreationOptions.RunContinuationsAsynchronously);
            var shared = open.GetOrAdd(about, mine.Task);
            if (shared == mine.Task)
            {
                try
                {
                    var got = await AskOnceAsync(question, cancel).ConfigureAwait(false);
                    if (got is { Agreed: true })
                    {
                        agreed[about] = (time.GetUtcNow(), got.Person, people.LoggedIn().Contains(got.Person));
                    }
                    mine.SetResult(got);
                    return got;
                }
                finally
                {
                    open.TryRemove(about, out _);
                    mine.TrySetCanceled(CancellationToken.None);
                }
            }
            try
            {
                return await shared.WaitAsync(cancel).ConfigureAwait(false);
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                // Whoever asked first has withdrawn; the question is still open for this one.
            }
        }
    }

    /// <returns>Null when nobody answered in time.</returns>
    private async Task<ConsentAnswer?> AskOnceAsync(ConsentQuestion question, CancellationToken cancel)
    {
        using var limit = new CancellationTokenSource(AnswerWithin, time);
        using var either = CancellationTokenSource.CreateLinkedTokenSource(cancel, limit.Token);
        try
        {
            return await people.AskAsync(question, either.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            return null;
        }
    }
}
