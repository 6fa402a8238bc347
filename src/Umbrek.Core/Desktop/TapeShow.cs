namespace Umbrek.Core.Desktop;

/// <summary>
/// Shows a recorded screen picture by picture, from its beginning on: what stood there at a time, with the pointer.
/// </summary>
/// <param name="jpeg">Unpacks what was sent with losses.</param>
/// <param name="longestPause">Longer ones are shortened to this; null leaves them.</param>
public sealed class TapeShow(TapeReader tape, IJpegDecoder jpeg, TimeSpan? longestPause) : IDisposable
{
    private readonly TapeStream stream = new(tape);
    private RfbViewer? viewer;
    private TimeSpan shownAt;
    private TimeSpan readAt;
    private bool isOver;

    /// <summary>What is shown; null as long as there was nothing.</summary>
    public ScreenImage? Image { get; private set; }

    public ScreenCursor? Cursor => viewer?.Cursor;

    public (int X, int Y)? PointerAt { get; private set; }

    /// <summary>When the next thing happens, pauses shortened; null at the end.</summary>
    public TimeSpan? Next { get; private set; }

    /// <summary>Learns when the first thing happens.</summary>
    public Task BeginAsync(CancellationToken cancel) => LookAsync(cancel);

    /// <summary>Goes on by one thing.</summary>
    /// <exception cref="InvalidDataException">It can't be read.</exception>
    public async Task GoOnAsync(CancellationToken cancel)
    {
        if (isOver || stream.Ahead is not { } entry)
        {
            Next = null;
            return;
        }
        try
        {
            switch (entry.Kind)
            {
                case TapeKinds.Opened:
                    stream.Skip();
                    viewer?.Dispose();
                    viewer = new RfbViewer(stream, jpeg);
                    PointerAt = null;
                    await viewer.BeginAsync(shared: true, cancel).ConfigureAwait(false);
                    Image = viewer.Image;
                    break;
                case TapeKinds.Rfb when viewer is not null:
                    var before = viewer.PointerAt;
                    await viewer.HearAsync(cancel).ConfigureAwait(false);
                    Image = viewer.Image;
                    PointerAt = viewer.PointerAt != before ? viewer.PointerAt : PointerAt;
                    break;
                case TapeKinds.Mouse:
                    stream.Skip();
                    PointerAt = entry.Number("x") is { } x && entry.Number("y") is { } y ? (x, y) : PointerAt;
                    break;
                default:
                    stream.Skip();
                    break;
            }
        }
        catch (EndOfStreamException)
        {
            // It was cut off in the middle of a picture.
            isOver = true;
        }
        catch (RfbException e)
        {
            throw new InvalidDataException($"What was recorded can't be shown: {e.Message}", e);
        }
        await LookAsync(cancel).ConfigureAwait(false);
    }

    public void Dispose()
    {
        viewer?.Dispose();
        stream.Dispose();
    }

    private async Task LookAsync(CancellationToken cancel)
    {
        var entry = isOver ? null : await stream.LookAsync(cancel).ConfigureAwait(false);
        if (entry is null)
        {
            Next = null;
            return;
        }
        var pause = entry.At - readAt;
        shownAt += longestPause is { } most && pause > most ? most : pause;
        readAt = entry.At;
        Next = shownAt;
    }
}
