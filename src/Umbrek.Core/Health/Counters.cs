namespace Umbrek.Core.Health;

/// <summary>Processor time since boot, in ticks: all of it, and the part that was idle (waiting for disks counts as idle).</summary>
public readonly record struct ProcessorTicks(long Total, long Idle)
{
    /// <summary>Busy share between two readings, 0 to 100. A counter that went back (a restart) gives 0.</summary>
    public static double BusyPercent(ProcessorTicks before, ProcessorTicks after)
    {
        var total = after.Total - before.Total;
        var idle = after.Idle - before.Idle;
        return total <= 0 || idle < 0 ? 0 : Math.Clamp(100.0 * (total - idle) / total, 0, 100);
    }
}

/// <summary>A counter that only grows, turned into a rate.</summary>
public static class CounterRate
{
    /// <summary>Units per second between two readings; a counter that was reset gives 0.</summary>
    public static double PerSecond(long before, long after, TimeSpan elapsed) =>
        elapsed <= TimeSpan.Zero || after < before ? 0 : (after - before) / elapsed.TotalSeconds;
}
