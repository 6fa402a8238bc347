using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>Monitors of a screen, as its users see them (RANDR 1.5).</summary>
internal static class XMonitors
{
    /// <returns>One at least; all of them within the screen.</returns>
    public static async Task<IReadOnlyList<RfbScreen>> FindAsync(XConnection connection)
    {
        var geometry = await connection.AskAsync(new XRequest(14).U32(connection.Setup.Root)).ConfigureAwait(false);
        var whole = new RfbScreen(1, new ScreenRect(0, 0, XReply.U16(geometry, 16), XReply.U16(geometry, 18)), 0);
        if (await connection.FindAsync("RANDR").ConfigureAwait(false) is not { } randr)
        {
            return [whole];
        }
        try
        {
            // GetMonitors, the active ones.
            var reply = await connection.AskAsync(new XRequest(randr, 42).U32(connection.Setup.Root).U8(1).Skip(3)).ConfigureAwait(false);
            var monitors = new List<RfbScreen>();
            var at = 32;
            for (var i = XReply.U32(reply, 12); i > 0 && at + 24 <= reply.Length; i--)
            {
                var part = new ScreenRect(XReply.S16(reply, at + 8), XReply.S16(reply, at + 10), XReply.U16(reply, at + 12), XReply.U16(reply, at + 14)).Intersect(whole.Part);
                if (!part.IsEmpty)
                {
                    monitors.Add(new RfbScreen((uint)monitors.Count + 1, part, 0));
                }
                at += 24 + 4 * XReply.U16(reply, at + 6);
            }
            return monitors.Count > 0 ? monitors : [whole];
        }
        catch (XErrorException)
        {
            return [whole];
        }
    }
}
