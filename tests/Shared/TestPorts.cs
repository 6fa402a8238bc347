using System.Net;
using System.Net.Sockets;

namespace Umbrek.Tests;

/// <summary>
/// Ports for servers that are started later, or again on the same port. They lie below those that the system gives to
/// connections and to whoever asks for any port, so nobody is given one of them in between.
/// </summary>
internal static class TestPorts
{
    private const int First = 10_000;
    private const int Last = 32_000;

    private static int next = Random.Shared.Next(First, Last);

    /// <summary>A port on the loopback that nobody listens on, and that this process hands out once.</summary>
    public static int Next()
    {
        for (var tries = 0; tries < Last - First; tries++)
        {
            var port = First + (int)((uint)Interlocked.Increment(ref next) % (Last - First));
            using var probe = new TcpListener(IPAddress.Loopback, port);
            try
            {
                probe.Start();
                return port;
            }
            catch (SocketException)
            {
                // Somebody has it.
            }
        }
        throw new InvalidOperationException($"No port from {First} to {Last} is free.");
    }
}
