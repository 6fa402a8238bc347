using System.Collections.Concurrent;
using Umbrek.Agent.Access;
using Umbrek.Core.Access;

namespace Umbrek.Agent.Sessions;

/// <summary>Sessions in which the host's key was proven. They live in memory alone: an agent that starts anew has them prove again.</summary>
public sealed class SessionTable(HostKeys keys, TimeProvider time)
{
    /// <summary>How long a proof counts at most.</summary>
    public static readonly TimeSpan Longest = TimeSpan.FromHours(12);

    private readonly ConcurrentDictionary<Guid, Proven> proven = new();

    private sealed class Proven(byte[] key, DateTimeOffset at)
    {
        public byte[] Key { get; } = key;
        public DateTimeOffset At { get; } = at;
        public long LastNumber { get; set; }
    }

    public void Add(Guid sessionId, byte[] sessionKey) => proven[sessionId] = new Proven(sessionKey, time.GetUtcNow());

    public void End(Guid sessionId) => proven.TryRemove(sessionId, out _);

    /// <summary>Takes a sealed order, once.</summary>
    /// <returns>Null, or why it is not taken.</returns>
    public string? Take(SealedOrder? order, HostAct act)
    {
        if (order is null)
        {
            return $"This host asks for its access key to {HostPolicyWords.Describe(act)}, and it was not proven. Give it with --access-key or, if the vault keeps it, --from-vault; in the console where the act is begun.";
        }
        if (Find(order.SessionId) is not { } session)
        {
            return "The session in which the access key was proven has ended. Prove it again.";
        }
        lock (session)
        {
            if (!order.IsOf(session.Key, act))
            {
                return "The order was not sealed by whoever proved the access key, or was changed on its way. Nothing was done.";
            }
            if (order.Number <= session.LastNumber)
            {
                return "The order came a second time. Nothing was done.";
            }
            session.LastNumber = order.Number;
            return null;
        }
    }

    private Proven? Find(Guid sessionId)
    {
        if (proven.TryGetValue(sessionId, out var session) && time.GetUtcNow() - session.At < Longest && !(session.At <= keys.Key()?.SessionsFrom))
        {
            return session;
        }
        End(sessionId);
        return null;
    }
}
