using Umbrek.Agent.Desktop;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>What the process that shows a screen is told first.</summary>
/// <param name="Cookie">That lets it in; it is told and not looked up, as it may be in a file that only the agent reads.</param>
/// <param name="Given">The file by which a given screen hears that somebody is there; null of others, and of who looks on from afar.</param>
/// <param name="Small">How wide a small picture of it is to be; null is the whole of it.</param>
internal sealed record ScreenOrder(string Socket, byte[]? Cookie, string Name, bool Control, int? Small, string? Given);

/// <param name="Problem">Null, or why it can't show it.</param>
internal sealed record ScreenAnswer(string? Problem);

/// <summary>
/// A <see cref="ScreenHelper"/> that shows one screen to one viewer: both sides say one line first, and RFB follows.
/// </summary>
internal static class ScreenProcess
{
    public const string Command = "screen";

    private const int WentAway = 0;
    private const int Gone = 3;
    private const int Rubbish = 4;

    /// <summary>The agent's side: tells what to show, and hears whether that is so.</summary>
    /// <exception cref="IOException">It can't be shown.</exception>
    public static async Task OrderAsync(ScreenHelper helper, ScreenOrder order, TimeSpan within, CancellationToken cancel)
    {
        if ((await helper.OrderAsync(order, ScreenJson.Default.ScreenOrder, ScreenJson.Default.ScreenAnswer, within, cancel).ConfigureAwait(false)).Problem is { } problem)
        {
            throw new IOException(problem);
        }
    }

    /// <returns>What the process ends with.</returns>
    public static async Task<int> RunAsync(TimeProvider time, CancellationToken cancel)
    {
        using var line = ScreenHelper.Own();
        var order = await ScreenHelper.ReadLineAsync(line, ScreenJson.Default.ScreenOrder, cancel).ConfigureAwait(false);
        IScreen screen;
        try
        {
            screen = await XScreen.OpenAsync(order.Socket, order.Cookie, order.Name, order.Control, time, cancel).ConfigureAwait(false);
        }
        catch (IOException e)
        {
            await AnswerAsync(line, e.Message, cancel).ConfigureAwait(false);
            return Gone;
        }
        screen = order.Small is { } width ? new SmallScreen(screen, width, time) : screen;
        await using (screen.ConfigureAwait(false))
        {
            await AnswerAsync(line, null, cancel).ConfigureAwait(false);
            using var touch = order.Given is { } file ? GivenScreen.Touch(file, time) : null;
            using var jpeg = TurboJpeg.TryCreate();
            await using var server = new RfbServer(screen, line, order.Control, jpeg, time, repairs: order.Small is null);
            try
            {
                await server.ServeAsync(cancel).ConfigureAwait(false);
                return WentAway;
            }
            catch (ScreenGoneException)
            {
                return Gone;
            }
            catch (RfbException e)
            {
                await Console.Error.WriteLineAsync(e.Message).ConfigureAwait(false);
                return Rubbish;
            }
            catch (Exception e) when (e is IOException or OperationCanceledException)
            {
                return WentAway;
            }
        }
    }

    /// <summary>Why it ended, from what it ended with.</summary>
    public static string Why(int status) => status switch
    {
        Gone => "The screen has gone: whoever had it has logged out, or its X server has ended.",
        Rubbish => "The viewer said something that is no RFB.",
        WentAway => "The viewer has gone.",
        _ => "What shows the screen has ended unexpectedly.",
    };

    private static Task AnswerAsync(Stream line, string? problem, CancellationToken cancel) => ScreenHelper.WriteLineAsync(line, new ScreenAnswer(problem), ScreenJson.Default.ScreenAnswer, cancel);
}
