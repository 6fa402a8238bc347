using System.Collections.Concurrent;
using Umbrek.Service.Estate;

namespace Umbrek.Service.Jobs;

/// <summary>Tells live views which runs of a job changed, and everybody which jobs did.</summary>
public sealed class JobFeed
{
    private readonly ConcurrentDictionary<Guid, ChangeFeed<Guid>> watched = new();
    private readonly Lock gate = new();

    /// <summary>Ids of jobs that are new or changed.</summary>
    public ChangeFeed<Guid> Jobs { get; } = new();

    /// <summary>Ids of the runs of one job that change from now on; dispose to stop.</summary>
    public JobReaderHandle Watch(Guid jobId)
    {
        lock (gate)
        {
            return new JobReaderHandle(this, jobId, watched.GetOrAdd(jobId, _ => new ChangeFeed<Guid>()).Subscribe());
        }
    }

    public void JobAdded(Guid jobId) => Jobs.Publish(jobId);

    public void RunChanged(Guid jobId, Guid runId)
    {
        Jobs.Publish(jobId);
        if (watched.TryGetValue(jobId, out var feed))
        {
            feed.Publish(runId);
        }
    }

    /// <summary>One live view of a job.</summary>
    public sealed class JobReaderHandle(JobFeed owner, Guid jobId, ChangeFeed<Guid>.Reader reader) : IDisposable
    {
        public Task<IReadOnlyCollection<Guid>> TakeAsync(CancellationToken cancel) => reader.TakeAsync(cancel);

        public void Dispose()
        {
            reader.Dispose();
            lock (owner.gate)
            {
                if (owner.watched.TryGetValue(jobId, out var feed) && !feed.HasReaders)
                {
                    owner.watched.TryRemove(jobId, out _);
                }
            }
        }
    }
}
