using System.Globalization;
using System.Net;
using System.Net.NetworkInformation;

namespace Umbrek.Wire.Jobs;

/// <summary>A network card with one of its addresses, written "52:54:00:12:34:56 10.20.1.15/24".</summary>
public sealed record NetworkCard(PhysicalAddress Hardware, IPAddress Address, IPNetwork Network)
{
    /// <returns>Null when it is no such text, or the address is none that a neighbour could have beside it.</returns>
    public static NetworkCard? Read(string? text)
    {
        if (text?.Split(' ') is not [var hardware, var place] || place.Split('/') is not [var address, var length]
            || !PhysicalAddress.TryParse(hardware.Replace(':', '-').ToUpperInvariant(), out var card) || card.GetAddressBytes() is not { Length: 6 } bytes || bytes.All(b => b == 0)
            || !IPAddress.TryParse(address, out var ip) || !int.TryParse(length, NumberStyles.None, CultureInfo.InvariantCulture, out var prefix) || prefix < 1 || prefix > 8 * ip.GetAddressBytes().Length)
        {
            return null;
        }
        return new NetworkCard(card, ip, new IPNetwork(Cut(ip, prefix), prefix));
    }

    public static string Write(PhysicalAddress hardware, IPAddress address, int prefix) => string.Create(CultureInfo.InvariantCulture, $"{Write(hardware)} {address}/{prefix}");

    public static string Write(PhysicalAddress hardware) => string.Join(':', hardware.GetAddressBytes().Select(b => b.ToString("x2", CultureInfo.InvariantCulture)));

    public override string ToString() => Write(Hardware, Address, Network.PrefixLength);

    private static IPAddress Cut(IPAddress address, int prefix)
    {
        var bytes = address.GetAddressBytes();
        for (var bit = prefix; bit < 8 * bytes.Length; bit++)
        {
            bytes[bit / 8] &= (byte)~(0x80 >> (bit % 8));
        }
        return new IPAddress(bytes);
    }
}
