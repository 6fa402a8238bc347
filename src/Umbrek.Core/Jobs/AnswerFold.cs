namespace Umbrek.Core.Jobs;

/// <summary>How one host answered.</summary>
/// <param name="Reason">Why it ended so, where a sentence says it; as it counts, without what is passed over.</param>
public sealed record Answer(Guid RunId, string HostLabel, RunState State, int? ExitStatus, string? Reason, AnswerMark Mark);

/// <summary>Hosts that gave the same answer: same end, same output but for what is passed over.</summary>
/// <param name="Variants">How many different outputs there are among them, to the byte.</param>
/// <param name="Answers">By the hosts' names; the first stands for all of them.</param>
public sealed record AnswerFold(IReadOnlyList<Answer> Answers, int Variants)
{
    public Answer First => Answers[0];

    /// <summary>Folds equal answers: the rarest first, trouble first among equally rare ones.</summary>
    public static IReadOnlyList<AnswerFold> Fold(IEnumerable<Answer> answers) =>
    [
        .. answers.GroupBy(a => (a.State, a.ExitStatus, a.Reason, a.Mark.Like))
            .Select(g => new AnswerFold([.. g.OrderBy(a => a.HostLabel, StringComparer.OrdinalIgnoreCase).ThenBy(a => a.RunId)], g.Select(a => a.Mark.Exact).Distinct().Count()))
            .OrderBy(f => f.Answers.Count)
            .ThenBy(f => f.First.State == RunState.Succeeded)
            .ThenBy(f => f.First.HostLabel, StringComparer.OrdinalIgnoreCase)
            .ThenBy(f => f.First.RunId),
    ];
}
