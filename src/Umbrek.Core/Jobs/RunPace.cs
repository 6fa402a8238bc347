namespace Umbrek.Core.Jobs;

/// <summary>How a run stands when it is decided whose turn it is.</summary>
/// <param name="Group">The group that its host is in.</param>
/// <param name="Held">Its turn has not come.</param>
/// <param name="Reachable">Its host is linked.</param>
public readonly record struct PacedRun(Guid RunId, string Group, bool Held, bool Reachable);

/// <summary>How the hosts of a job take turns. Nothing said: all at once.</summary>
/// <param name="AtOnce">At most so many at the same time.</param>
/// <param name="OnePerGroup">At most one of each group at the same time.</param>
/// <param name="StopAfterFailures">When so many runs have ended in trouble, none is begun any more.</param>
public sealed record RunPace(int? AtOnce = null, bool OnePerGroup = false, int? StopAfterFailures = null)
{
    private const int Most = 100_000;

    /// <returns>Null, or what is wrong with it.</returns>
    public string? Check() =>
        AtOnce is < 1 or > Most ? $"'At once' is from 1 to {Most} hosts; leave it out for all of them."
        : StopAfterFailures is < 1 or > Most ? $"'Stop after' is from 1 to {Most} failures; leave it out to go on whatever happens."
        : null;

    /// <summary>
    /// The held runs that may begin now. A host that is away takes no place: its turn comes when it has returned.
    /// </summary>
    /// <param name="open">The runs that have not ended, in the order in which they take turns.</param>
    /// <param name="failures">Runs that have ended in trouble.</param>
    /// <returns>Null when the job has to stop.</returns>
    public IReadOnlyList<Guid>? Next(IReadOnlyList<PacedRun> open, int failures)
    {
        if (failures >= StopAfterFailures)
        {
            return null;
        }
        var places = (AtOnce ?? int.MaxValue) - open.Count(r => !r.Held);
        var busy = open.Where(r => !r.Held).Select(r => r.Group).ToHashSet();
        var begin = new List<Guid>();
        foreach (var run in open.Where(r => r.Held && r.Reachable))
        {
            if (begin.Count >= places)
            {
                break;
            }
            if (!OnePerGroup || busy.Add(run.Group))
            {
                begin.Add(run.RunId);
            }
        }
        return begin;
    }
}
