using System.Net.Sockets;
using System.Text;
using System.Text.Json;
using System.Text.Json.Serialization;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>What the process that shows a screen is told first.</summary>
/// <param name="Cookie">That lets it in; it is told and not looked up, as it may be in a file that only the agent reads.</param>
/// <param name="Small">How wide a small picture of it is to be; null is the whole of it.</param>
internal sealed record ScreenOrder(string Socket, byte[]? Cookie, string Name, bool Control, int? Small);

/// <param name="Problem">Null, or why it can't show it.</param>
internal sealed record ScreenAnswer(string? Problem);

[JsonSerializable(typeof(ScreenOrder))]
[JsonSerializable(typeof(ScreenAnswer))]
internal sealed partial class ScreenJson : JsonSerializerContext;

/// <summary>
/// A process that shows one screen to one viewer: it runs as whose screen it is, speaks RFB on its standard input, which is a socket, and
/// takes nothing else of the agent down when it ends. Both sides say one line first.
/// </summary>
internal static class ScreenProcess
{
    public const string Command = "screen";

    private const int WentAway = 0;
    private const int Gone = 3;
    private const int Rubbish = 4;
    private const int MostLine = 8 * 1024;

    /// <summary>The agent's side: tells what to show, and hears whether that is so.</summary>
    /// <exception cref="IOException">It can't be shown.</exception>
    public static async Task OrderAsync(Stream line, ScreenOrder order, TimeSpan within, CancellationToken cancel)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(within);
        await WriteLineAsync(line, JsonSerializer.SerializeToUtf8Bytes(order, ScreenJson.Default.ScreenOrder), limit.Token).ConfigureAwait(false);
        if (JsonSerializer.Deserialize(await ReadLineAsync(line, limit.Token).ConfigureAwait(false), ScreenJson.Default.ScreenAnswer)?.Problem is { } problem)
        {
            throw new IOException(problem);
        }
    }

    /// <returns>What the process ends with.</returns>
    public static async Task<int> RunAsync(TimeProvider time, CancellationToken cancel)
    {
        using var line = new NetworkStream(new Socket(new SafeSocketHandle(0, false)), ownsSocket: false);
        var order = JsonSerializer.Deserialize(await ReadLineAsync(line, cancel).ConfigureAwait(false), ScreenJson.Default.ScreenOrder)!;
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

    private static Task AnswerAsync(Stream line, string? problem, CancellationToken cancel) => WriteLineAsync(line, JsonSerializer.SerializeToUtf8Bytes(new ScreenAnswer(problem), ScreenJson.Default.ScreenAnswer), cancel);

    private static async Task WriteLineAsync(Stream line, byte[] text, CancellationToken cancel) => await line.WriteAsync((byte[])[.. text, (byte)'\n'], cancel).ConfigureAwait(false);

    /// <summary>Byte for byte: what follows is not ours.</summary>
    private static async Task<string> ReadLineAsync(Stream line, CancellationToken cancel)
    {
        var (text, one) = (new List<byte>(), new byte[1]);
        while (true)
        {
            await line.ReadExactlyAsync(one, cancel).ConfigureAwait(false);
            if (one[0] == '\n')
            {
                return Encoding.UTF8.GetString([.. text]);
            }
            text.Add(one[0]);
            if (text.Count > MostLine)
            {
                throw new JsonException("a line without an end");
            }
        }
    }
}
