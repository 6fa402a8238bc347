namespace Umbrek.Core.Health;

/// <summary>When a file system will be full if it goes on like this: a straight line by least squares.</summary>
public static class FillTrend
{
    /// <summary>Fewer points say nothing.</summary>
    public const int LeastPoints = 6;

    /// <summary>The line must explain so much of what was seen (r²): a disk that goes up and down has no trend.</summary>
    private const double LeastFit = 0.6;

    private static readonly TimeSpan Farthest = TimeSpan.FromDays(365);

    /// <param name="used">How full it was, in percent.</param>
    /// <returns>When the line reaches 100 %, or null when it does not within a year.</returns>
    public static DateTimeOffset? FullAt(IReadOnlyList<(DateTimeOffset At, double UsedPercent)> used)
    {
        if (used.Count < LeastPoints)
        {
            return null;
        }
        var last = used.Max(u => u.At);
        // Hours before the last point: figures of one size, so that squares lose nothing.
        var points = used.Select(u => (X: (u.At - last).TotalHours, Y: u.UsedPercent)).ToList();
        var (meanX, meanY) = (points.Average(p => p.X), points.Average(p => p.Y));
        var (xx, xy, yy) = (points.Sum(p => (p.X - meanX) * (p.X - meanX)), points.Sum(p => (p.X - meanX) * (p.Y - meanY)), points.Sum(p => (p.Y - meanY) * (p.Y - meanY)));
        if (xx <= 0 || yy <= 0 || xy <= 0 || xy * xy / (xx * yy) < LeastFit)
        {
            return null;
        }
        var slope = xy / xx;
        var now = meanY - slope * meanX;
        var hours = (100 - now) / slope;
        return hours > Farthest.TotalHours ? null : last.AddHours(Math.Max(0, hours));
    }
}
