using System.Collections.Concurrent;
using Umbrek.Core.Access;

namespace Umbrek.Service.Sessions;

/// <summary>
/// Orders that were sealed for a host, by run, for as long as their sessions are open: in memory alone, because a host takes one only in
/// the session in which its key was proven.
/// </summary>
public sealed class SealedOrders
{
    private readonly ConcurrentDictionary<Guid, SealedOrder> byRun = new();

    public void Keep(Guid runId, SealedOrder order) => byRun[runId] = order;

    public SealedOrder? Find(Guid runId) => byRun.GetValueOrDefault(runId);

    /// <summary>The session is over: no host takes its orders any more.</summary>
    public void Forget(Guid sessionId)
    {
        foreach (var (runId, _) in byRun.Where(o => o.Value.SessionId == sessionId))
        {
            byRun.TryRemove(runId, out _);
        }
    }
}
