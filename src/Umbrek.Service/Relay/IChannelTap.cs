using System.Net.WebSockets;

namespace Umbrek.Service.Relay;

/// <summary>What goes over a channel can't be written down, so it does not go on.</summary>
public sealed class ChannelTapException(string message) : Exception(Short(message))
{
    /// <summary>A reason for closing is 123 bytes at most (RFC 6455, 5.5).</summary>
    private const int MostBytes = 123;

    private static string Short(string text)
    {
        var runes = text.EnumerateRunes();
        var (bytes, length) = (0, 0);
        foreach (var rune in runes)
        {
            bytes += rune.Utf8SequenceLength;
            if (bytes > MostBytes)
            {
                return text[..length];
            }
            length += rune.Utf16SequenceLength;
        }
        return text;
    }
}

/// <summary>Sees what goes over a channel before its other end does.</summary>
public interface IChannelTap
{
    /// <summary>A message, or a part of one. Called by both directions, at once too.</summary>
    /// <exception cref="ChannelTapException">The channel ends with this for a reason, and the other end does not get what was to be seen.</exception>
    void See(bool fromHost, WebSocketMessageType type, ReadOnlySpan<byte> bytes, bool endOfMessage);

    /// <summary>Nobody comes to the channel any more. Called once or more.</summary>
    void Over();
}
