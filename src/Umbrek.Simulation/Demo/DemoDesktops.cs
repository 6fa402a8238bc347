using System.Net.WebSockets;
using Umbrek.Core.Desktop;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Sessions;

namespace Umbrek.Simulation.Demo;

/// <summary>A technician who controls a desktop: he moves its notes to where there is room, and types into them.</summary>
internal static class DemoDesktops
{
    private static readonly TimeSpan Keystroke = TimeSpan.FromMilliseconds(60);
    private static readonly TimeSpan Step = TimeSpan.FromMilliseconds(40);
    private static readonly TimeSpan Thinking = TimeSpan.FromSeconds(1.5);
    private const int Steps = 25;

    public static async Task WorkAsync(DemoWorld world, ApiClient api, SessionInfo session, IReadOnlyList<string> lines, CancellationToken cancel)
    {
        var (socket, _) = await ChannelSocket.OpenAsync(api, world.Pin, session.Id, new NewChannel(ChannelKinds.Desktop, Desktop: new DesktopWish(Control: true)), cancel).ConfigureAwait(false);
        using var open = socket;
        await using var line = await DesktopStream.OpenAsync(socket, null, cancel).ConfigureAwait(false);
        using var viewer = new RfbViewer(line);
        await viewer.BeginAsync(shared: true, cancel).ConfigureAwait(false);
        await viewer.TakeAsync([RfbEncoding.CopyRect, RfbEncoding.Zrle, RfbEncoding.Cursor, RfbEncoding.ExtendedDesktopSize], cancel).ConfigureAwait(false);
        using var leaving = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var looking = LookAsync(viewer, leaving.Token);
        await ActAsync(viewer, lines, cancel).ConfigureAwait(false);
        await leaving.CancelAsync().ConfigureAwait(false);
        await looking.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        if (socket.State == WebSocketState.Open)
        {
            await socket.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    private static async Task LookAsync(RfbViewer viewer, CancellationToken cancel)
    {
        await viewer.AskAsync(incremental: false, cancel).ConfigureAwait(false);
        while (true)
        {
            if (await viewer.HearAsync(cancel).ConfigureAwait(false) == RfbHeard.Picture)
            {
                await viewer.AskAsync(incremental: true, cancel).ConfigureAwait(false);
            }
        }
    }

    private static async Task ActAsync(RfbViewer viewer, IReadOnlyList<string> lines, CancellationToken cancel)
    {
        await Task.Delay(Thinking, cancel).ConfigureAwait(false);
        for (var i = 0; i <= Steps; i++)
        {
            await viewer.MouseAsync(400 + 460 * i / Steps, 300 + 132 * i / Steps, 0, cancel).ConfigureAwait(false);
            await Task.Delay(Step, cancel).ConfigureAwait(false);
        }
        for (var i = 0; i <= Steps; i++)
        {
            await viewer.MouseAsync(860 - 30 * i / Steps, 432 - 140 * i / Steps, 1, cancel).ConfigureAwait(false);
            await Task.Delay(Step, cancel).ConfigureAwait(false);
        }
        await viewer.MouseAsync(830, 292, 0, cancel).ConfigureAwait(false);
        foreach (var line in lines)
        {
            await Task.Delay(Thinking, cancel).ConfigureAwait(false);
            foreach (var letter in line + "\r")
            {
                // Letters of Latin-1 are their own numbers (RFC 6143, 7.5.4); the key Return is not.
                var sym = letter == '\r' ? 0xFF0D : letter;
                await viewer.KeyAsync(true, (uint)sym, cancel).ConfigureAwait(false);
                await viewer.KeyAsync(false, (uint)sym, cancel).ConfigureAwait(false);
                await Task.Delay(Keystroke, cancel).ConfigureAwait(false);
            }
        }
        await Task.Delay(Thinking, cancel).ConfigureAwait(false);
    }
}
