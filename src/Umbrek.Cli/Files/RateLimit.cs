namespace Umbrek.Cli.Files;

/// <summary>Keeps a transfer below so many bytes a second.</summary>
/// <param name="most">Null for as many as there are.</param>
public sealed class RateLimit(long? most, TimeProvider time)
{
    public const long Least = 1024;

    private static readonly TimeSpan Shortest = TimeSpan.FromMilliseconds(20);

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
        var now = time.GetElapsedTime(began);
        // What was not used is not saved up: a line that stood still begins slowly again.
        ahead = Math.Max(0, ahead - (now - counted).TotalSeconds * rate) + bytes;
        counted = now;
        var wait = TimeSpan.FromSeconds(ahead / rate);
        return wait > Shortest ? Task.Delay(wait, time, cancel) : Task.CompletedTask;
    }
}
