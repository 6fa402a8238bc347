namespace Umbrek.Core.Desktop;

/// <summary>How large a recorded screen was at most, and how long it takes to show it.</summary>
/// <param name="Width">Pixels; 0 where nothing was shown.</param>
/// <param name="Took">With pauses shortened, where that was wished.</param>
public sealed record TapeLength(int Width, int Height, TimeSpan Took)
{
    /// <summary>Goes through a recording without unpacking it.</summary>
    /// <exception cref="InvalidDataException">It is none.</exception>
    public static async Task<TapeLength> OfAsync(TapeReader tape, TimeSpan? longestPause, CancellationToken cancel)
    {
        var (width, height) = (0, 0);
        var (took, last) = (TimeSpan.Zero, TimeSpan.Zero);
        var walk = new RfbWalk(8);
        var pictures = new List<Range>();
        await tape.ReadHeaderAsync(cancel).ConfigureAwait(false);
        while (await tape.ReadAsync(cancel).ConfigureAwait(false) is { } entry)
        {
            took += longestPause is { } most && entry.At - last > most ? most : entry.At - last;
            last = entry.At;
            if (entry.Kind == TapeKinds.Opened)
            {
                walk = new RfbWalk(8);
            }
            if (entry.Kind != TapeKinds.Rfb)
            {
                continue;
            }
            try
            {
                pictures.Clear();
                walk.Walk(entry.Bytes.Span, pictures);
            }
            catch (RfbException e)
            {
                throw new InvalidDataException($"What was recorded can't be shown: {e.Message}", e);
            }
            (width, height) = (Math.Max(width, walk.Width), Math.Max(height, walk.Height));
        }
        return new TapeLength(width, height, took);
    }
}
