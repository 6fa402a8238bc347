namespace Umbrek.Wire.Files;

/// <summary>Keeps transfers below so many bytes a second, all together that spend of it.</summary>
/// <param name="most">Null for as many as there are.</param>
public sealed class RateLimit(long? most, TimeProvider time)
{
    public const long Least = 1024;

    private static readonly TimeSpan Shortest = TimeSpan.FromMilliseconds(20);

    private readonly Lock gate = new();
    private readonly long began = time.GetTimestamp();
    private double ahead;
    private TimeSpan counted;

    /// <summary>Waits until so many bytes may have gone.</summary>
    public Task SpendAsync(int bytes, CancellationToken cancel)
    {
        if (most is not { } rate)
        {
            return Task.CompletedTask;
        }
        TimeSpan wait;
        lock (gate)
        {
            var now = time.GetElapsedTime(began);
            // What was not used is not saved up: a line that stood still begins slowly again.
            ahead = Math.Max(0, ahead - (now - counted).TotalSeconds * rate) + bytes;
            counted = now;
            wait = TimeSpan.FromSeconds(ahead / rate);
        }
        return wait > Shortest ? Task.Delay(wait, time, cancel) : Task.CompletedTask;
    }
}
