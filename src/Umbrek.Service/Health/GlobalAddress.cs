using System.Net;
using System.Net.Sockets;

namespace Umbrek.Service.Health;

/// <summary>
/// Tells addresses that anybody on the internet may have from those of this machine and its neighbourhood, by the registries of special-purpose addresses
/// (RFC 6890): a request that somebody may aim where he likes must not reach what only the service can reach.
/// </summary>
public static class GlobalAddress
{
    private static readonly IPNetwork[] NotGlobal = [.. new[]
    {
        "0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12", "192.0.0.0/24", "192.0.2.0/24", "192.88.99.0/24", "192.168.0.0/16", "198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "224.0.0.0/3",
    }.Select(IPNetwork.Parse)];

    /// <summary>Global unicast as it is given out today.</summary>
    private static readonly IPNetwork Global6 = IPNetwork.Parse("2000::/3");
    private static readonly IPNetwork[] NotGlobal6 = [.. new[] { "2001::/23", "2001:db8::/32", "2002::/16", "3fff::/20" }.Select(IPNetwork.Parse)];

    /// <summary>Addresses of IPv4 as IPv6 hosts reach them (RFC 6052 §2.1).</summary>
    private static readonly IPNetwork Translated = IPNetwork.Parse("64:ff9b::/96");

    public static bool IsGlobal(IPAddress address)
    {
        if (address.AddressFamily == AddressFamily.InterNetwork)
        {
            return !NotGlobal.Any(n => n.Contains(address));
        }
        return address.IsIPv4MappedToIPv6 ? IsGlobal(address.MapToIPv4())
            : Translated.Contains(address) ? IsGlobal(new IPAddress(address.GetAddressBytes().AsSpan(12)))
            : Global6.Contains(address) && !NotGlobal6.Any(n => n.Contains(address));
    }
}
