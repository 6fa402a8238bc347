namespace Umbrek.Agent.Sessions;

/// <summary>
/// The sessions that ended last: what was begun in one may only now come to stand where its end would have found it.
/// </summary>
internal sealed class EndedSessions
{
    private const int Most = 1024;

    private readonly HashSet<Guid> all = [];
    private readonly Queue<Guid> inTurn = new();

    public void Add(Guid sessionId)
    {
        lock (all)
        {
            if (!all.Add(sessionId))
            {
                return;
            }
            inTurn.Enqueue(sessionId);
            if (inTurn.Count > Most)
            {
                all.Remove(inTurn.Dequeue());
            }
        }
    }

    public bool Has(Guid sessionId)
    {
        lock (all)
        {
            return all.Contains(sessionId);
        }
    }
}
