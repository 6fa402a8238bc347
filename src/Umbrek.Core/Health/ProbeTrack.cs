using Umbrek.Core.Text;

namespace Umbrek.Core.Health;

/// <summary>
/// How one probe goes on: a failure counts when the look after it fails too, and not while the host or what helps has just started; help is tried a few times
/// an hour and then left to people.
/// </summary>
/// <param name="Doubts">Whether the last look failed and the one before did not: it looks again at once.</param>
/// <param name="Acted">When it helped, in the last hour.</param>
/// <param name="GaveUp">Whether it has said that it does not help any more.</param>
public sealed record ProbeTrack(ProbeState State, DateTimeOffset Since, bool Doubts, IReadOnlyList<DateTimeOffset> Acted, bool GaveUp)
{
    public const int MostActs = 3;
    public static readonly TimeSpan ActsWithin = TimeSpan.FromHours(1);

    /// <summary>After help that has no grace of its own.</summary>
    public static readonly TimeSpan LeastRest = TimeSpan.FromSeconds(30);

    /// <summary>To the look that confirms a failure.</summary>
    public static readonly TimeSpan AgainAfter = TimeSpan.FromSeconds(5);

    public static ProbeTrack Begin(DateTimeOffset now) => new(ProbeState.Unknown, now, false, [], false);

    /// <param name="bootedAt">When the host started; null when it is not known.</param>
    /// <param name="happened">What to tell, or null.</param>
    /// <param name="act">Whether to help now.</param>
    public ProbeTrack Step(Probe probe, ProbeReading reading, DateTimeOffset? bootedAt, DateTimeOffset now, out string? happened, out bool act)
    {
        (happened, act) = (null, false);
        var grace = TimeSpan.FromSeconds(probe.GraceSeconds);
        var acted = Acted.Where(a => a <= now && now - a < ActsWithin).ToList();
        var rest = probe.Act != ProbeAct.None && grace < LeastRest ? LeastRest : grace;
        var next = reading.State;
        if (next == ProbeState.Failed)
        {
            if ((bootedAt is { } booted && booted <= now && now - booted < grace) || (acted.Count > 0 && now - acted[^1] < rest))
            {
                next = ProbeState.Starting;
            }
            else if (State != ProbeState.Failed && !Doubts)
            {
                // One look proves nothing.
                return this with { Doubts = true, Acted = acted };
            }
        }
        var gaveUp = GaveUp && next is ProbeState.Failed or ProbeState.Starting;
        if (next == ProbeState.Failed)
        {
            act = probe.Act != ProbeAct.None && acted.Count < MostActs;
            var tired = probe.Act != ProbeAct.None && !act && !gaveUp;
            gaveUp |= tired;
            happened = tired ? $"{reading.Says} It was helped {MostActs} times within {Units.Span(ActsWithin)}; now it is left to people."
                : State != ProbeState.Failed && (State != ProbeState.Starting || acted.Count == 0) ? reading.Says : null;
        }
        else if (next == ProbeState.Well && State is ProbeState.Failed or ProbeState.Starting)
        {
            happened = $"Well again: {reading.Says}";
        }
        return new ProbeTrack(next, next == State ? Since : now, false, act ? [.. acted, now] : acted, gaveUp);
    }
}
