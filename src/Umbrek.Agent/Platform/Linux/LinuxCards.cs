using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;
using Umbrek.Core.Jobs;
using Umbrek.Wire.Jobs;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>The network cards of this host that neighbours can reach it by, and what is sent from them.</summary>
internal static class LinuxCards
{
    private const int Most = 16;

    /// <summary>A packet may be lost, and nobody answers it.</summary>
    private const int Times = 3;

    public static IReadOnlyList<NetworkCard> Read() =>
        [.. NetworkInterface.GetAllNetworkInterfaces()
            .Where(i => i.NetworkInterfaceType != NetworkInterfaceType.Loopback && !LeadsNowhere(i.Name))
            .SelectMany(i => i.GetIPProperties().UnicastAddresses.Where(a => !a.Address.IsIPv6LinkLocal).Select(a => NetworkCard.Read(NetworkCard.Write(i.GetPhysicalAddress(), a.Address, a.PrefixLength))))
            .OfType<NetworkCard>()
            .OrderBy(c => $"{c}", StringComparer.Ordinal)
            .Take(Most)];

    /// <summary>Sends a packet for a card to everybody in the network of one of our own: by broadcast, or to all nodes of a link (RFC 4291, 2.7.1).</summary>
    public static void Send(NetworkCard from, PhysicalAddress card)
    {
        using var socket = new Socket(from.Address.AddressFamily, SocketType.Dgram, ProtocolType.Udp) { EnableBroadcast = true };
        socket.Bind(new IPEndPoint(from.Address, 0));
        var to = new IPEndPoint(from.Address.AddressFamily == AddressFamily.InterNetworkV6 ? IPAddress.Parse("ff02::1") : Broadcast(from.Network), MagicPacket.Port);
        if (from.Address.AddressFamily == AddressFamily.InterNetworkV6)
        {
            socket.SetSocketOption(SocketOptionLevel.IPv6, SocketOptionName.MulticastInterface, IndexOf(from.Address));
        }
        var packet = MagicPacket.For(card);
        for (var n = 0; n < Times; n++)
        {
            socket.SendTo(packet, to);
        }
    }

    private static IPAddress Broadcast(IPNetwork network)
    {
        var bytes = network.BaseAddress.GetAddressBytes();
        for (var bit = network.PrefixLength; bit < 32; bit++)
        {
            bytes[bit / 8] |= (byte)(0x80 >> (bit % 8));
        }
        return new IPAddress(bytes);
    }

    private static int IndexOf(IPAddress address) => NetworkInterface.GetAllNetworkInterfaces()
        .First(i => i.GetIPProperties().UnicastAddresses.Any(a => a.Address.Equals(address))).GetIPProperties().GetIPv6Properties().Index;

    /// <summary>A bridge without a device in it joins only what runs on this host: containers, virtual machines.</summary>
    private static bool LeadsNowhere(string name)
    {
        var ports = $"/sys/class/net/{name}/brif";
        return Directory.Exists(ports) && !Directory.EnumerateDirectories(ports).Any(p => Directory.Exists(Path.Combine(p, "port/device")) || Directory.Exists($"/sys/class/net/{Path.GetFileName(p)}/device"));
    }
}
