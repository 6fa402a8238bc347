using Umbrek.Core.Health;

namespace Umbrek.Service.Health;

/// <summary>Which parts of time have samples that no roll-up counts yet. A sample that comes late has its part made anew.</summary>
public sealed class RollupQueue
{
    private readonly Lock gate = new();
    private HashSet<(Guid HostId, RollupSpan Span, DateTimeOffset At)> waiting = [];

    /// <summary>A sample was stored.</summary>
    public void Note(Guid hostId, DateTimeOffset at) => Add(hostId, RollupSpan.FiveMinutes, RollupSpan.FiveMinutes.Floor(at));

    public void Add(Guid hostId, RollupSpan span, DateTimeOffset at)
    {
        lock (gate)
        {
            waiting.Add((hostId, span, at));
        }
    }

    /// <summary>Takes the parts that are over, the shorter first; the others stay.</summary>
    /// <param name="before">They ended before this.</param>
    public List<(Guid HostId, RollupSpan Span, DateTimeOffset At)> Take(DateTimeOffset before)
    {
        lock (gate)
        {
            var over = waiting.Where(w => w.At + w.Span.Length() <= before).OrderBy(w => w.Span).ThenBy(w => w.HostId).ThenBy(w => w.At).ToList();
            waiting.ExceptWith(over);
            return over;
        }
    }
}
