using System.Buffers.Binary;
using System.Globalization;
using System.Net;
using System.Net.Sockets;

namespace Umbrek.Cli.Desktop;

/// <summary>Who is at the other end of a connection on this computer.</summary>
internal static class LocalPeer
{
    /// <summary>Whether it is a program of the same user; on Linux, as far as the system tells it (proc(5), /proc/net/tcp).</summary>
    public static bool IsOwn(Socket socket)
    {
        if (!OperatingSystem.IsLinux() || socket.RemoteEndPoint is not IPEndPoint remote || socket.LocalEndPoint is not IPEndPoint local)
        {
            return true;
        }
        try
        {
            // A program may speak IPv4 by a socket of IPv6, and stands in the other table then.
            var user = Find("/proc/net/tcp", remote, local) ?? Find("/proc/net/tcp6", Mapped(remote), Mapped(local));
            return user == OwnUser();
        }
        catch (IOException)
        {
            return true;
        }
    }

    /// <summary>Fields: number, local address, remote address, state, queues, timer, retransmits, user.</summary>
    private static string? Find(string table, IPEndPoint theirs, IPEndPoint ours)
    {
        var (from, to) = (Write(theirs), Write(ours));
        return File.ReadLines(table).Select(l => l.Split(' ', StringSplitOptions.RemoveEmptyEntries)).FirstOrDefault(f => f.Length > 7 && f[1] == from && f[2] == to)?[7];
    }

    private static IPEndPoint Mapped(IPEndPoint address) => new(address.Address.MapToIPv6(), address.Port);

    private static string OwnUser() =>
        File.ReadLines("/proc/self/status").First(l => l.StartsWith("Uid:", StringComparison.Ordinal)).Split('\t')[1];

    /// <summary>As the system writes it: the address in words of four bytes, lowest first, and the port.</summary>
    private static string Write(IPEndPoint address)
    {
        var bytes = address.Address.GetAddressBytes();
        var words = Enumerable.Range(0, bytes.Length / 4).Select(i => BinaryPrimitives.ReadUInt32LittleEndian(bytes.AsSpan(4 * i)).ToString("X8", CultureInfo.InvariantCulture));
        return $"{string.Concat(words)}:{address.Port:X4}";
    }
}
