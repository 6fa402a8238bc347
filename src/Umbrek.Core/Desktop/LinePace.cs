namespace Umbrek.Core.Desktop;

/// <summary>
/// Measures the way to a viewer by marks that it sends back, and says how much may be on it: about what it carries in one round
/// trip, so that what is new never stands behind much that is old.
/// </summary>
public sealed class LinePace
{
    /// <summary>So much may always be on its way.</summary>
    public const int LeastWindow = 8 * 1024;

    /// <summary>What a line carries in so long may always be on it: nobody feels that, and the next picture is made meanwhile.</summary>
    private static readonly TimeSpan Unfelt = TimeSpan.FromMilliseconds(20);

    private static readonly TimeSpan Remember = TimeSpan.FromSeconds(5);

    /// <summary>So often the line is let run empty, to learn how long it takes by itself.</summary>
    private static readonly TimeSpan Drain = TimeSpan.FromSeconds(2);

    private readonly Queue<Mark> marks = new();
    private readonly Queue<(TimeSpan At, double Rate)> rates = new();
    private readonly Queue<(TimeSpan At, TimeSpan Trip)> trips = new();
    private long sent;
    private long arrived;
    private TimeSpan arrivedAt;
    private TimeSpan emptyAt;

    private sealed record Mark(uint Number, TimeSpan At, long SentWith, long ArrivedThen, TimeSpan ArrivedThenAt, bool Alone);

    /// <summary>The last round trip that was measured; null before the first.</summary>
    public TimeSpan? RoundTrip { get; private set; }

    /// <summary>The shortest of the last seconds, of what went over an empty line.</summary>
    public TimeSpan? Shortest { get; private set; }

    /// <summary>The most that was carried in the last seconds, in bytes per second; null before that is known. What is sent may be less than the line could carry.</summary>
    public double? BytesPerSecond { get; private set; }

    public long OnItsWay => sent - arrived;

    /// <summary>How much may be on its way: a third more than is known to go, as nobody learns otherwise that more does.</summary>
    public long Window => BytesPerSecond is { } rate && Shortest is { } trip ? Math.Max(LeastWindow, (long)(1.3 * rate * Math.Max(trip.TotalSeconds, Unfelt.TotalSeconds))) : LeastWindow;

    public bool MaySend(TimeSpan now) => OnItsWay == 0 || (OnItsWay < Window && now - emptyAt < Drain);

    /// <summary>Whether something that nobody waits for may be sent: half of the line is left to what comes meanwhile.</summary>
    public bool MayRepair(TimeSpan now) => OnItsWay == 0 || (OnItsWay < Window / 2 && MaySend(now));

    /// <summary>How large the next picture may be: what the line carries in a fortieth of a second, as far as that is known.</summary>
    public int Share => BytesPerSecond is { } rate && marks.Count + rates.Count > 0 ? (int)Math.Clamp(rate / 40, LeastWindow, 4_000_000) : 256 * 1024;

    /// <summary>How good pictures are sent that lose something: less good ones where the line carries less.</summary>
    public int Quality => BytesPerSecond switch
    {
        null => 70,
        < 100_000 => 25,
        < 400_000 => 40,
        < 1_500_000 => 60,
        _ => 80,
    };

    /// <summary>Something was sent, with a mark behind it.</summary>
    public void Sent(uint number, int bytes, TimeSpan now)
    {
        if (OnItsWay == 0)
        {
            // A line that lay idle has carried nothing since.
            (arrivedAt, emptyAt) = (now, now);
        }
        marks.Enqueue(new Mark(number, now, sent + bytes, arrived, arrivedAt, OnItsWay == 0));
        sent += bytes;
    }

    /// <summary>A mark has come back. One that was not sent is left alone.</summary>
    public void CameBack(uint number, TimeSpan now)
    {
        while (marks.TryPeek(out var mark) && (int)(mark.Number - number) <= 0)
        {
            marks.Dequeue();
            arrived = mark.SentWith;
            arrivedAt = now;
            var trip = now - mark.At;
            RoundTrip = trip;
            if (mark.Alone)
            {
                // Less what its own bytes took, as far as that is known.
                var own = BytesPerSecond is { } rate ? TimeSpan.FromSeconds((mark.SentWith - mark.ArrivedThen) / rate) : TimeSpan.Zero;
                Shortest = Lowest(trips, now, trip - own > trip / 4 ? trip - own : trip / 4);
            }
            // Over the time in which it was carried: from when the one before it had arrived.
            var took = now - mark.ArrivedThenAt;
            if (took > TimeSpan.Zero)
            {
                BytesPerSecond = Highest(rates, now, (mark.SentWith - mark.ArrivedThen) / took.TotalSeconds);
            }
        }
    }

    private static TimeSpan Lowest(Queue<(TimeSpan At, TimeSpan Trip)> of, TimeSpan now, TimeSpan next)
    {
        of.Enqueue((now, next));
        while (of.Count > 1 && now - of.Peek().At > Remember)
        {
            of.Dequeue();
        }
        return of.Min(o => o.Trip);
    }

    private static double Highest(Queue<(TimeSpan At, double Rate)> of, TimeSpan now, double next)
    {
        of.Enqueue((now, next));
        while (of.Count > 1 && now - of.Peek().At > Remember)
        {
            of.Dequeue();
        }
        return of.Max(o => o.Rate);
    }
}
