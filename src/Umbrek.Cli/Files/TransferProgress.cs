using System.Diagnostics;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;

namespace Umbrek.Cli.Files;

/// <summary>Shows on a terminal how far a transfer is, how fast it goes and how long it takes yet; elsewhere nothing.</summary>
/// <param name="quiet">Nothing on a terminal either: many are under way at once.</param>
internal sealed class TransferProgress(string what, long bytes, TimeProvider time, bool quiet = false)
{
    private static readonly TimeSpan Between = TimeSpan.FromMilliseconds(200);
    private static readonly TimeSpan RateOver = TimeSpan.FromSeconds(5);

    private readonly bool shows = !quiet && !Console.IsErrorRedirected;
    private readonly Queue<(long At, long Moved)> recent = new();
    private readonly long began = time.GetTimestamp();
    private long shownAt;
    private long moved;
    private bool isShown;

    /// <summary>Bytes that are here, those that were here before among them.</summary>
    public long Here { get; private set; }

    public TimeSpan Took => time.GetElapsedTime(began);

    /// <summary>On a line that has just been opened so much is here, and the rest is counted anew.</summary>
    public void Begin(long here) => Here = here;

    /// <param name="came">They came over the line, and count for the rate.</param>
    public void Add(long more, bool came)
    {
        Here += more;
        moved += came ? more : 0;
        if (shows && (!isShown || Stopwatch.GetElapsedTime(shownAt) >= Between))
        {
            Show();
        }
    }

    /// <summary>Takes the line away, for something else to be said.</summary>
    public void Clear()
    {
        if (isShown)
        {
            Terminal.Progress("");
            isShown = false;
        }
    }

    /// <summary>How fast, over the last seconds, in bytes a second.</summary>
    private double Rate()
    {
        var now = time.GetTimestamp();
        recent.Enqueue((now, moved));
        while (recent.Count > 2 && time.GetElapsedTime(recent.Peek().At, now) > RateOver)
        {
            recent.Dequeue();
        }
        var (since, before) = recent.Peek();
        return time.GetElapsedTime(since, now).TotalSeconds is > 0 and var seconds ? (moved - before) / seconds : 0;
    }

    private void Show()
    {
        var rate = Rate();
        var left = rate > 0 && bytes > Here ? $", {Units.Span(TimeSpan.FromSeconds(Math.Min((bytes - Here) / rate, 1e8)))} left" : "";
        var share = bytes > 0 ? $"{Math.Min(100, 100 * Here / bytes)} % of {Units.Bytes(bytes)}" : Units.Bytes(Here);
        Terminal.Progress($"{what}: {share}, {Units.Bytes(rate)}/s{left}");
        (isShown, shownAt) = (true, Stopwatch.GetTimestamp());
    }
}
