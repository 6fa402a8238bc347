using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Desktop;

/// <summary>What has changed of a screen since it was looked at last.</summary>
/// <param name="Damage">Parts of the picture that may differ.</param>
/// <param name="Resized">The picture has another size, or the monitors lie differently: all of it is new.</param>
/// <param name="Cursor">What the pointer looks like now; null where that has not changed.</param>
/// <param name="HasClipboard">Somebody at the host has put a text on the clipboard.</param>
/// <param name="PointerAt">Where the pointer is now, for who does not move it; null where that has not changed.</param>
public sealed record ScreenNews(List<ScreenRect> Damage, bool Resized = false, ScreenCursor? Cursor = null, bool HasClipboard = false, (int X, int Y)? PointerAt = null);

/// <summary>The screen has gone: whoever had it has logged out, or its server has ended.</summary>
public sealed class ScreenGoneException(string message) : IOException(message);

/// <summary>One screen of this host, as one viewer looks at it and acts on it. One looks; acts may come meanwhile.</summary>
public interface IScreen : IAsyncDisposable
{
    /// <summary>What it is called, for people.</summary>
    string Name { get; }

    /// <summary>The picture, as <see cref="TakeAsync"/> took it last.</summary>
    ScreenImage Image { get; }

    /// <summary>Monitors in it; one at least.</summary>
    IReadOnlyList<RfbScreen> Monitors { get; }

    /// <summary>Completes when something has changed since <see cref="TakeAsync"/> was called last.</summary>
    /// <exception cref="ScreenGoneException">It has gone.</exception>
    Task WaitAsync(CancellationToken cancel);

    /// <summary>Takes what has changed into <see cref="Image"/>.</summary>
    /// <exception cref="ScreenGoneException">It has gone.</exception>
    Task<ScreenNews> TakeAsync(CancellationToken cancel);

    /// <param name="keyCode">Of the physical key, in numbers of an XT keyboard; 0 where only <paramref name="keySym"/> is known.</param>
    Task KeyAsync(bool down, uint keySym, uint keyCode, CancellationToken cancel);

    /// <param name="buttons">One bit for each that is pressed; the lowest is the left one.</param>
    Task MouseAsync(int x, int y, byte buttons, CancellationToken cancel);

    /// <summary>The text on the host's clipboard; null where there is none.</summary>
    Task<string?> ReadClipboardAsync(CancellationToken cancel);

    Task WriteClipboardAsync(string text, CancellationToken cancel);

    /// <returns>0 when it has that size now, 1 when it may not have another, 2 when it can't, 3 when it has none such.</returns>
    Task<int> ResizeAsync(int width, int height, CancellationToken cancel);

    /// <summary>Lets go of what is pressed: nobody holds it any more.</summary>
    Task ReleaseAsync(CancellationToken cancel);
}
