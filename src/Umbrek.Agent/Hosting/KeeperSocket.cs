using System.Net.Sockets;

namespace Umbrek.Agent.Hosting;

/// <summary>The way to a keeper, which may only just be starting.</summary>
public static class KeeperSocket
{
    private static readonly TimeSpan First = TimeSpan.FromMilliseconds(2);
    private static readonly TimeSpan Longest = TimeSpan.FromMilliseconds(100);

    /// <param name="isGone">Whether there is nobody to wait for any more.</param>
    /// <returns>Null when no keeper answers within the time, or there is none.</returns>
    public static async Task<Socket?> ConnectAsync(string path, Func<bool> isGone, TimeSpan within, TimeProvider time, CancellationToken cancel)
    {
        var began = time.GetTimestamp();
        var pause = First;
        while (true)
        {
            var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
            try
            {
                await socket.ConnectAsync(new UnixDomainSocketEndPoint(path), cancel).ConfigureAwait(false);
                return socket;
            }
            catch (SocketException)
            {
                socket.Dispose();
            }
            if (isGone() || time.GetElapsedTime(began) > within)
            {
                return null;
            }
            await Task.Delay(pause, time, cancel).ConfigureAwait(false);
            pause = pause * 2 < Longest ? pause * 2 : Longest;
        }
    }
}
