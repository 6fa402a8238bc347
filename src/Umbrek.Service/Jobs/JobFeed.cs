using System.Collections.Concurrent;
using Umbrek.Service.Estate;

namespace Umbrek.Service.Jobs;

/// <summary>Tells live views which runs of a job changed, and everybody which jobs did.</summary>
public sealed class JobFeed
{
    private readonly ConcurrentDictionary<Guid, ChangeFeed<Guid>> perJob = new();

    /// <summary>Ids of jobs that are new or changed.</summary>
    public ChangeFeed<Guid> Jobs { get; } = new();

    /// <summary>Ids of the runs of one job that changed.</summary>
    public ChangeFeed<Guid> OfJob(Guid jobId) => perJob.GetOrAdd(jobId, _ => new ChangeFeed<Guid>());

    public void JobAdded(Guid jobId) => Jobs.Publish(jobId);

    public void RunChanged(Guid jobId, Guid runId)
    {
        Jobs.Publish(jobId);
        if (perJob.TryGetValue(jobId, out var feed))
        {
            feed.Publish(runId);
            if (!feed.HasReaders)
            {
                perJob.TryRemove(KeyValuePair.Create(jobId, feed));
            }
        }
    }
}
