namespace Umbrek.Core.Shell;

/// <summary>When the events of a recording are shown: faster or slower than they came, and without its long pauses.</summary>
/// <param name="longestPause">Of the recording; what is longer is shortened to it. Null leaves pauses as they were.</param>
public sealed class CastClock(TimeSpan? longestPause)
{
    private TimeSpan before;

    public const double Fastest = 64;
    public const double Slowest = 1 / 8d;

    /// <summary>How many seconds of the recording pass in one.</summary>
    public double Pace { get; private set; } = 1;

    /// <summary>Goes on at another pace, within what can be followed.</summary>
    public void GoAt(double pace) => Pace = Math.Clamp(pace, Slowest, Fastest);

    /// <summary>How long after its forerunner an event is shown, at the pace at which it went. One that lies before that comes with it.</summary>
    public TimeSpan Pause(TimeSpan at)
    {
        var pause = at > before ? at - before : TimeSpan.Zero;
        before += pause;
        return longestPause is { } most && pause > most ? most : pause;
    }
}
