using System.Net.NetworkInformation;

namespace Umbrek.Wire.Jobs;

/// <summary>What a network card that listens while its computer sleeps wakes it for: six bytes of 0xFF, then its own address sixteen times (AMD, Magic Packet Technology, publication 20213).</summary>
public static class MagicPacket
{
    public const int Length = 6 + 16 * 6;

    /// <summary>The discard port (RFC 863): nobody answers there.</summary>
    public const int Port = 9;

    public static byte[] For(PhysicalAddress card)
    {
        var own = card.GetAddressBytes();
        var packet = new byte[Length];
        packet.AsSpan(0, 6).Fill(0xFF);
        for (var n = 0; n < 16; n++)
        {
            own.CopyTo(packet, 6 + n * 6);
        }
        return packet;
    }

    /// <returns>The card that the packet wakes; null when it is none.</returns>
    public static PhysicalAddress? Read(ReadOnlySpan<byte> packet)
    {
        var own = packet.Length == Length ? new PhysicalAddress(packet[6..12].ToArray()) : null;
        return own is not null && packet.SequenceEqual(For(own)) ? own : null;
    }
}
