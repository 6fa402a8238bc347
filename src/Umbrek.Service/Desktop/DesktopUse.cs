using System.Net.WebSockets;
using Umbrek.Service.Relay;

namespace Umbrek.Service.Desktop;

/// <summary>
/// Tells when somebody does something at a desktop: a key, the mouse, a clipboard, another size (RFC 6143, 7.5), or a word beside RFB. That
/// pictures come, and that a viewer measures its line, is no use: a session that nobody uses ends.
/// </summary>
/// <param name="next">Sees it too; null where nobody does.</param>
internal sealed class DesktopUse(Action used, IChannelTap? next) : IChannelTap
{
    private const byte Key = 4;
    private const byte Mouse = 5;
    private const byte CutText = 6;
    private const byte Size = 251;
    private const byte ExtendedKey = 255;

    public void See(bool fromHost, WebSocketMessageType type, ReadOnlySpan<byte> bytes, bool endOfMessage)
    {
        if (!fromHost && (type == WebSocketMessageType.Text || bytes is [Key or Mouse or CutText or Size or ExtendedKey, ..]))
        {
            used();
        }
        next?.See(fromHost, type, bytes, endOfMessage);
    }

    public void Over() => next?.Over();
}
