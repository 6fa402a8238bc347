using System.Diagnostics;
using System.Net.Sockets;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;

namespace Umbrek.Agent.Health.Probes;

/// <summary>Opens a TCP connection and closes it again.</summary>
public sealed class PortProbe : IProbe
{
    public ProbeKind Kind => ProbeKind.Port;

    public async Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel)
    {
        var (host, port) = HostAndPort.Read(probe.Target)!.Value;
        var began = Stopwatch.GetTimestamp();
        using var client = new TcpClient();
        try
        {
            await client.ConnectAsync(host, port, cancel).ConfigureAwait(false);
        }
        catch (SocketException e)
        {
            return ProbeReading.Failed(Explain(probe.Target, e));
        }
        var took = Stopwatch.GetElapsedTime(began);
        return ProbeReading.Well($"{probe.Target} took a connection in {took.TotalMilliseconds:0} ms.", new ProbeFigure("took", took.TotalSeconds, Dimension.Time));
    }

    /// <summary>Why an address can't be reached, in a sentence.</summary>
    internal static string Explain(string target, SocketException e) => e.SocketErrorCode switch
    {
        SocketError.ConnectionRefused => $"{target} refused the connection: nothing listens there.",
        SocketError.HostNotFound or SocketError.NoData or SocketError.TryAgain => $"The name in {target} is not known here.",
        SocketError.NetworkUnreachable or SocketError.HostUnreachable => $"There is no way from here to {target}.",
        SocketError.TimedOut => $"{target} did not answer.",
        _ => $"{target} can't be reached: {e.Message}.",
    };
}
