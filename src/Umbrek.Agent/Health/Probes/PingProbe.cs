using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;

namespace Umbrek.Agent.Health.Probes;

/// <summary>Sends three ICMP echoes, a fifth of a second apart; one answer is enough.</summary>
public sealed class PingProbe(TimeProvider time) : IProbe
{
    private const int Echoes = 3;
    private static readonly TimeSpan Apart = TimeSpan.FromMilliseconds(200);

    public ProbeKind Kind => ProbeKind.Ping;

    public async Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel)
    {
        IPAddress address;
        try
        {
            address = IPAddress.TryParse(probe.Target, out var given) ? given : (await Dns.GetHostAddressesAsync(probe.Target, cancel).ConfigureAwait(false))[0];
        }
        catch (SocketException e)
        {
            return ProbeReading.Failed(PortProbe.Explain(probe.Target, e));
        }
        var each = TimeSpan.FromSeconds(Math.Max(0.2, (probe.TimeoutSeconds - Echoes * Apart.TotalSeconds) / Echoes));
        var times = new List<long>();
        using var ping = new Ping();
        for (var i = 0; i < Echoes; i++)
        {
            if (i > 0)
            {
                await Task.Delay(Apart, time, cancel).ConfigureAwait(false);
            }
            try
            {
                var reply = await ping.SendPingAsync(address, each, cancellationToken: cancel).ConfigureAwait(false);
                if (reply.Status == IPStatus.Success)
                {
                    times.Add(reply.RoundtripTime);
                }
            }
            catch (PingException e) when (e.InnerException is SocketException socket && socket.SocketErrorCode is SocketError.NetworkUnreachable or SocketError.HostUnreachable)
            {
                // No way there is no answer.
            }
            catch (PingException e)
            {
                return ProbeReading.Unknown($"This host can't send echoes: {e.InnerException?.Message ?? e.Message}");
            }
        }
        var lost = new ProbeFigure("lost", 100.0 * (Echoes - times.Count) / Echoes, Dimension.Percent);
        return times.Count == 0 ? ProbeReading.Failed($"{probe.Target} answered none of {Echoes} echoes.", lost)
            : ProbeReading.Well($"{probe.Target} answered {times.Count} of {Echoes} echoes, in {times.Average():0} ms.", lost, new ProbeFigure("took", times.Average() / 1000, Dimension.Time));
    }
}
