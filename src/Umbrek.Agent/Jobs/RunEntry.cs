using Umbrek.Core.Jobs;

namespace Umbrek.Agent.Jobs;

/// <summary>
/// What of one run's journal has been sent and what the service keeps. Sending runs ahead of acknowledgement by at most
/// <see cref="Window"/>; after a broken link it starts again behind the last acknowledged event.
/// </summary>
public sealed class RunEntry(RunDirectory directory) : IDisposable
{
    /// <summary>Most bytes on their way without acknowledgement.</summary>
    public const int Window = 256 * 1024;

    /// <summary>Most bytes of one message, in its encoded form; well below the link's own limit.</summary>
    private const int MessageBudget = 28 * 1024;
    private const int EventOverhead = 260;

    private readonly Lock gate = new();
    private readonly Queue<(long Sequence, long Offset, int Cost, bool IsEnd)> underWay = new();
    private JournalReader? reader;
    private RunEvent? peeked;
    private long keptSequence = -1;
    private long keptOffset;
    private int underWayBytes;

    public RunDirectory Directory { get; } = directory;

    /// <summary>True once the service keeps everything up to the run's end.</summary>
    public bool Finished { get; private set; }

    /// <summary>The next events to send, or an empty list when there are none or the window is full.</summary>
    public List<RunEvent> NextBatch()
    {
        lock (gate)
        {
            var batch = new List<RunEvent>();
            var cost = 0;
            while (!Finished && underWayBytes < Window)
            {
                reader ??= new JournalReader(Directory, keptOffset);
                if ((peeked ??= reader.Read()) is not { } next)
                {
                    break;
                }
                var nextCost = EventOverhead + ((next.Data?.Length ?? 0) * 4 / 3) + ((next.End?.Reason ?? next.Step?.Reason)?.Length ?? 0) * 2;
                if (cost > 0 && cost + nextCost > MessageBudget)
                {
                    break;
                }
                peeked = null;
                if (next.Sequence <= keptSequence)
                {
                    keptOffset = reader.Offset;
                    Finished |= next.Kind == RunEventKind.Ended;
                    continue;
                }
                batch.Add(next);
                cost += nextCost;
                underWay.Enqueue((next.Sequence, reader.Offset, nextCost, next.Kind == RunEventKind.Ended));
                underWayBytes += nextCost;
            }
            return batch;
        }
    }

    /// <summary>The service keeps everything up to this sequence.</summary>
    public void Kept(long sequence)
    {
        lock (gate)
        {
            keptSequence = Math.Max(keptSequence, sequence);
            while (underWay.TryPeek(out var first) && first.Sequence <= keptSequence)
            {
                underWay.Dequeue();
                underWayBytes -= first.Cost;
                keptOffset = first.Offset;
                Finished |= first.IsEnd;
            }
        }
    }

    /// <summary>A new link: what was under way on the old one is sent again.</summary>
    public void Rewind()
    {
        lock (gate)
        {
            underWay.Clear();
            underWayBytes = 0;
            peeked = null;
            reader?.Dispose();
            reader = null;
        }
    }

    public void Dispose() => Rewind();
}
