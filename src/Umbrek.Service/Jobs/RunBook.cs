using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Jobs;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Jobs;

/// <summary>A run as the service decides about it.</summary>
/// <param name="Held">Its turn has not come; see <see cref="Pacer"/>.</param>
public sealed record RunMark(Guid JobId, Guid HostId, RunStatus Status, DateTimeOffset? CancelRequestedAt, bool Held = false)
{
    public static RunMark Of(RunRow row) => new(row.JobId, row.HostId, row.ToStatus(), row.CancelRequestedAt, row.Held);
}

/// <summary>
/// Unfinished runs in memory, by host. Changed only by the intake, after the database has the change; a finished run is
/// looked up in the database when an agent still speaks of it.
/// </summary>
public sealed class RunBook(IDatabase database)
{
    private readonly ConcurrentDictionary<Guid, RunMark> open = new();
    private readonly ConcurrentDictionary<Guid, ConcurrentDictionary<Guid, byte>> byHost = new();

    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        Add(await db.Runs.AsNoTracking().Where(r => r.State < RunState.Succeeded).ToListAsync(cancel).ConfigureAwait(false));
    }

    public void Add(IEnumerable<RunRow> rows)
    {
        foreach (var row in rows)
        {
            Set(row.Id, RunMark.Of(row));
        }
    }

    public void Set(Guid runId, RunMark mark)
    {
        if (mark.Status.State.IsFinal())
        {
            open.TryRemove(runId, out _);
            if (byHost.TryGetValue(mark.HostId, out var finished))
            {
                finished.TryRemove(runId, out _);
            }
        }
        else
        {
            open[runId] = mark;
            byHost.GetOrAdd(mark.HostId, _ => new()).TryAdd(runId, 0);
        }
    }

    public RunMark? Find(Guid runId)
    {
        if (open.TryGetValue(runId, out var mark))
        {
            return mark;
        }
        using var db = database.Open();
        return db.Runs.AsNoTracking().FirstOrDefault(r => r.Id == runId) is { } row ? RunMark.Of(row) : null;
    }

    /// <summary>Unfinished runs of a host, oldest first (ids are UUIDv7).</summary>
    public List<(Guid RunId, RunMark Mark)> OfHost(Guid hostId) =>
        byHost.TryGetValue(hostId, out var ids)
            ? [.. ids.Keys.Order().Select(id => (id, Mark: open.GetValueOrDefault(id))).Where(p => p.Mark is not null).Select(p => (p.id, p.Mark!))]
            : [];

    public List<(Guid RunId, RunMark Mark)> OfJob(Guid jobId) => [.. open.Where(p => p.Value.JobId == jobId).Select(p => (p.Key, p.Value))];

    /// <summary>Jobs of which a run has not ended.</summary>
    public HashSet<Guid> OpenJobs() => [.. open.Values.Select(m => m.JobId)];

    public List<(Guid RunId, RunMark Mark)> Waiting() => [.. open.Where(p => p.Value.Status.State == RunState.Waiting).Select(p => (p.Key, p.Value))];
}
