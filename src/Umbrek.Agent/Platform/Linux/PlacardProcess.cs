using System.Text.Json;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>What a process that shows a placard is told first.</summary>
/// <param name="Place">Of several in the same corner: the first is 0.</param>
/// <param name="TakeInput">Whether keyboards and mice of the host are taken away meanwhile.</param>
internal sealed record PlacardOrder(string Socket, byte[]? Cookie, Placard Placard, int Place, bool TakeInput, bool OnlyByHand);

/// <summary>What it is told later on.</summary>
internal sealed record PlacardCare(bool OnlyByHand);

/// <param name="Problem">Why it can't be shown; null with the first answer says that it is.</param>
/// <param name="Pressed">The id of the button that was pressed.</param>
/// <param name="Taken">How many keyboards and mice were taken; of a cover, how many screens are hidden.</param>
internal sealed record PlacardAnswer(string? Problem = null, string? Pressed = null, int? Taken = null);

/// <summary>A <see cref="ScreenHelper"/> that shows one placard, or hides its screen behind it, until a button is pressed, its time is over, or the agent hangs up.</summary>
internal static class PlacardProcess
{
    public const string Command = "placard";

    private const int Done = 0;
    private const int Gone = 3;

    /// <returns>What the process ends with.</returns>
    public static async Task<int> RunAsync(TimeProvider time, CancellationToken cancel)
    {
        using var line = ScreenHelper.Own();
        var order = await ScreenHelper.ReadLineAsync(line, ScreenJson.Default.PlacardOrder, cancel).ConfigureAwait(false);
        if (order.Placard.Kind == PlacardKind.Cover)
        {
            return await CoverAsync(line, order, cancel).ConfigureAwait(false);
        }
        PlacardWindow window;
        try
        {
            window = await PlacardWindow.OpenAsync(order.Socket, order.Cookie, order.Placard, order.Place, order.TakeInput, time, cancel).ConfigureAwait(false);
        }
        catch (IOException e)
        {
            await AnswerAsync(line, new PlacardAnswer(Problem: e.Message), cancel).ConfigureAwait(false);
            return Gone;
        }
        await using (window.ConfigureAwait(false))
        {
            window.OnlyByHand = order.OnlyByHand;
            using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            try
            {
                await AnswerAsync(line, new PlacardAnswer(Taken: window.Taken), cancel).ConfigureAwait(false);
                var hears = HearAsync(line, care => window.OnlyByHand = care.OnlyByHand, over);
                var pressed = await window.PressedAsync(over.Token).ConfigureAwait(false);
                if (pressed is not null)
                {
                    await AnswerAsync(line, new PlacardAnswer(Pressed: pressed), cancel).ConfigureAwait(false);
                }
                return Done;
            }
            catch (Exception e) when (e is IOException or OperationCanceledException)
            {
                return over.IsCancellationRequested ? Done : Gone;
            }
        }
    }

    private static async Task<int> CoverAsync(Stream line, PlacardOrder order, CancellationToken cancel)
    {
        using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        try
        {
            await using var cover = await ScreenCover.OpenAsync(order.Socket, order.Cookie, order.Placard, cancel).ConfigureAwait(false);
            await AnswerAsync(line, new PlacardAnswer(Taken: 1), cancel).ConfigureAwait(false);
            var hears = HearAsync(line, _ => { }, over);
            await cover.HoldAsync(over.Token).ConfigureAwait(false);
            return Done;
        }
        catch (Exception e) when (e is IOException or OperationCanceledException)
        {
            if (!over.IsCancellationRequested)
            {
                await AnswerAsync(line, new PlacardAnswer(Problem: e.Message), cancel).ConfigureAwait(false);
            }
            return over.IsCancellationRequested ? Done : Gone;
        }
    }

    private static async Task HearAsync(Stream line, Action<PlacardCare> take, CancellationTokenSource over)
    {
        try
        {
            while (true)
            {
                take(await ScreenHelper.ReadLineAsync(line, ScreenJson.Default.PlacardCare, over.Token).ConfigureAwait(false));
            }
        }
        catch (Exception e) when (e is IOException or OperationCanceledException or JsonException or ObjectDisposedException)
        {
            // The agent has hung up: there is nothing to show any more.
            await over.CancelAsync().ConfigureAwait(false);
        }
    }

    private static Task AnswerAsync(Stream line, PlacardAnswer answer, CancellationToken cancel) => ScreenHelper.WriteLineAsync(line, answer, ScreenJson.Default.PlacardAnswer, cancel);
}
