using System.Text.Json;
using Umbrek.Core.Health;
using Umbrek.Wire;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Health;

/// <summary>
/// Samples that the service does not keep yet, oldest first, for at most 24 hours. Held as JSON bytes: a day of them is
/// about two megabytes.
/// </summary>
public sealed class SampleBacklog
{
    private readonly Lock gate = new();
    private readonly Queue<(DateTimeOffset At, byte[] Json)> waiting = new();

    public int Count
    {
        get
        {
            lock (gate)
            {
                return waiting.Count;
            }
        }
    }

    public void Add(Sample sample)
    {
        var json = JsonSerializer.SerializeToUtf8Bytes(sample, LinkJson.Default.Sample);
        lock (gate)
        {
            waiting.Enqueue((sample.At, json));
            while (sample.At - waiting.Peek().At > SampleRules.Backlog)
            {
                waiting.Dequeue();
            }
        }
    }

    /// <summary>The oldest samples that fit into one message; they stay until <see cref="Kept"/>.</summary>
    public SampleBatch? Oldest()
    {
        lock (gate)
        {
            var bytes = 0;
            var samples = new List<Sample>();
            foreach (var (_, json) in waiting)
            {
                bytes += json.Length;
                if (samples.Count == SampleBatch.MaxCount || (bytes > LinkProtocol.MaxMessageBytes - 4096 && samples.Count > 0))
                {
                    break;
                }
                samples.Add(JsonSerializer.Deserialize(json, LinkJson.Default.Sample)!);
            }
            return samples.Count == 0 ? null : new SampleBatch(samples);
        }
    }

    public void Kept(DateTimeOffset upTo)
    {
        lock (gate)
        {
            while (waiting.TryPeek(out var first) && first.At <= upTo)
            {
                waiting.Dequeue();
            }
        }
    }
}
