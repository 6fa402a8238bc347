using Umbrek.Core.Access;
using Umbrek.Core.Files;
using Umbrek.Core.Jobs;

namespace Umbrek.Wire.Jobs;

/// <summary>What the hosts of a job answered, equal answers as one: the rarest first.</summary>
/// <param name="PassedOver">What did not count, as <see cref="AnswerMasks"/> writes it.</param>
/// <param name="Open">Runs that have not ended.</param>
/// <param name="Hidden">Runs on hosts whose output one may not read.</param>
/// <param name="Gone">Runs whose output is not kept any longer.</param>
public sealed record JobAnswers(string PassedOver, IReadOnlyList<FoldedAnswer> Folds, int Open, int Hidden, int Gone = 0);

/// <param name="Variants">How many different outputs there are among them, to the byte.</param>
/// <param name="Lines">Of the first host's output, stdout and stderr together.</param>
/// <param name="Runs">By their hosts' names; the first stands for all of them.</param>
/// <param name="Cut">Only the beginning was compared, for some output is very long.</param>
public sealed record FoldedAnswer(RunState State, int? ExitStatus, string? Reason, int Variants, long Lines, long Bytes, IReadOnlyList<Guid> Runs, bool Cut);

/// <summary>Two answers line by line.</summary>
/// <param name="Streams">Stdout and stderr, where either host wrote something there.</param>
/// <param name="Cut">Only the beginning was compared.</param>
public sealed record AnswerComparison(RunInfo First, RunInfo Second, string PassedOver, IReadOnlyList<StreamComparison> Streams, bool Cut);

public sealed record StreamComparison(RunEventKind Stream, IReadOnlyList<AnswerLine> Lines);

/// <param name="Line">Its number in that stream, from 1.</param>
/// <param name="Text">The line, or the part around what was found when it is long.</param>
public sealed record FoundLine(Guid RunId, string HostLabel, RunEventKind Stream, long Line, string Text);

/// <param name="Hosts">How many hosts have such a line, among those that were looked at.</param>
/// <param name="More">There are more lines; not all hosts may have been looked at.</param>
/// <param name="Gone">Runs whose output is not kept any longer.</param>
public sealed record FoundLines(IReadOnlyList<FoundLine> Lines, int Hosts, bool More, int Gone = 0);

/// <summary>The same again, on some of the hosts.</summary>
/// <param name="Runs">Runs of the job whose hosts are to do it again; null means those that ended in trouble.</param>
/// <param name="Seals">As for a new job; see <see cref="NewJob"/>.</param>
/// <param name="Existing">Of a job that puts files somewhere: what becomes of files that are in the way, this time.</param>
public sealed record NewJobAgain(IReadOnlyList<Guid>? Runs = null, long? ExpiresInSeconds = null, IReadOnlyList<SealedOrder>? Seals = null, bool UsesVault = false, Existing? Existing = null)
{
    /// <summary>The command as it is done again.</summary>
    /// <returns>Null where files are spoken of and the command puts none anywhere.</returns>
    public CommandSpec? CommandOf(CommandSpec before) =>
        Existing is not { } existing ? before
        : before.Action?.Deliver is { } deliver ? before with { Action = new HostAction { Deliver = deliver with { Existing = existing } } }
        : null;
}
