using Umbrek.Wire.Desktop;

namespace Umbrek.Agent.Desktop;

/// <summary>A screen as it is shown on one line, until either end goes.</summary>
/// <param name="Line">RFB 3.8, its server at the other end.</param>
/// <param name="Why">Completes when the screen is no longer shown: why.</param>
public sealed record ShownScreen(ScreenInfo Screen, Stream Line, Task<string> Why) : IDisposable
{
    public void Dispose() => Line.Dispose();
}

/// <summary>The screens of this host; the platform's own way.</summary>
public interface IDesktops
{
    /// <summary>What screens there are, those that can't be shown too: with why, and what to do.</summary>
    IReadOnlyList<ScreenInfo> List();

    /// <summary>Why there is none, where that is known.</summary>
    string NoneBecause { get; }

    /// <summary>Why this host can't be given a screen where it has none, and what to do; null where it can.</summary>
    string? NotGivenBecause => "It can't be given one.";

    /// <summary>Gives this host a screen that it has not.</summary>
    /// <returns>False where it has one by now.</returns>
    /// <exception cref="IOException">It has none, and why.</exception>
    Task<bool> GiveAsync(CancellationToken cancel) => throw new IOException(NotGivenBecause);

    /// <summary>Shows a screen.</summary>
    /// <exception cref="IOException">It can't be shown, and why.</exception>
    Task<ShownScreen> ShowAsync(ScreenInfo screen, DesktopWish wish, CancellationToken cancel);

    /// <summary>Why the screens of people can't be locked; null where they can.</summary>
    string? NoLockBecause => "Nothing on this host locks a screen.";

    /// <summary>Locks the screens where somebody is logged in.</summary>
    /// <returns>Why one is not locked, or null.</returns>
    Task<string?> LockAsync(CancellationToken cancel) => Task.FromResult(NoLockBecause);
}
