using System.Net;
using System.Net.Sockets;
using System.Runtime.CompilerServices;
using System.Threading.Channels;
using Umbrek.Core.Enrolment;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Enrolment;

/// <summary>
/// Looks who answers at a range of addresses: TCP connects at a bounded rate (a refusal is an answer too), the system's neighbour
/// table, reverse DNS, and multicast DNS.
/// </summary>
public sealed class NetworkScan(TimeProvider time, Func<IReadOnlyDictionary<string, string>> neighbours)
{
    private static readonly TimeSpan ConnectWithin = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan NameWithin = TimeSpan.FromSeconds(2);
    private static readonly IPEndPoint MdnsGroup = new(IPAddress.Parse("224.0.0.251"), 5353);

    /// <summary>Addresses as they are done: who answered, or only that one more was tried.</summary>
    public async IAsyncEnumerable<ScanAnswer?> RunAsync(ScanOrder order, [EnumeratorCancellation] CancellationToken cancel)
    {
        var done = Channel.CreateUnbounded<ScanAnswer?>();
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var working = WorkAsync(order, done.Writer, stop.Token);
        try
        {
            await foreach (var answer in done.Reader.ReadAllAsync(cancel).ConfigureAwait(false))
            {
                yield return answer;
            }
        }
        finally
        {
            await stop.CancelAsync().ConfigureAwait(false);
            await working.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    private async Task WorkAsync(ScanOrder order, ChannelWriter<ScanAnswer?> done, CancellationToken cancel)
    {
        Exception? failure = null;
        try
        {
            using var pace = new PeriodicTimer(TimeSpan.FromSeconds(1.0 / order.ProbesPerSecond), time);
            var open = new List<Task>();
            foreach (var address in new AddressRange(order.First, order.Last).Addresses())
            {
                var probes = new List<Task<(int Port, bool Answered, bool Open)>>();
                foreach (var port in order.Ports)
                {
                    await pace.WaitForNextTickAsync(cancel).ConfigureAwait(false);
                    probes.Add(ProbeAsync(address, port, cancel));
                }
                open.Add(FinishAsync(address, probes, done, cancel));
                open.RemoveAll(t => t.IsCompletedSuccessfully);
            }
            await Task.WhenAll(open).ConfigureAwait(false);
        }
        catch (Exception e) when (e is OperationCanceledException or SocketException)
        {
            failure = e;
        }
        done.TryComplete(failure);
    }

    private async Task FinishAsync(string address, List<Task<(int Port, bool Answered, bool Open)>> probes, ChannelWriter<ScanAnswer?> done, CancellationToken cancel)
    {
        var results = await Task.WhenAll(probes).ConfigureAwait(false);
        var hardware = neighbours().GetValueOrDefault(address);
        if (!results.Any(r => r.Answered) && hardware is null)
        {
            done.TryWrite(null);
            return;
        }
        var name = await NameAsync(address, cancel).ConfigureAwait(false) ?? await MulticastNameAsync(address, cancel).ConfigureAwait(false);
        done.TryWrite(new ScanAnswer(address, hardware, name, [.. results.Where(r => r.Open).Select(r => r.Port).Order()]));
    }

    private async Task<(int Port, bool Answered, bool Open)> ProbeAsync(string address, int port, CancellationToken cancel)
    {
        using var socket = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp);
        using var limit = new CancellationTokenSource(ConnectWithin, time);
        using var either = CancellationTokenSource.CreateLinkedTokenSource(limit.Token, cancel);
        try
        {
            await socket.ConnectAsync(IPAddress.Parse(address), port, either.Token).ConfigureAwait(false);
            return (port, true, true);
        }
        catch (SocketException e)
        {
            return (port, e.SocketErrorCode == SocketError.ConnectionRefused, false);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            return (port, false, false);
        }
    }

    private async Task<string?> NameAsync(string address, CancellationToken cancel)
    {
        try
        {
            var entry = await Dns.GetHostEntryAsync(address, cancel).WaitAsync(NameWithin, time, cancel).ConfigureAwait(false);
            return entry.HostName == address ? null : entry.HostName;
        }
        catch (Exception e) when (e is SocketException or TimeoutException)
        {
            return null;
        }
    }

    private static async Task ToGroupAsync(Socket socket, string address, CancellationToken cancel)
    {
        try
        {
            await socket.SendToAsync(MdnsMessage.Question(address), MdnsGroup, cancel).ConfigureAwait(false);
        }
        catch (SocketException)
        {
            // No route for multicast here.
        }
    }

    /// <summary>Each asks from a port of its own, so that an answer finds its asker (RFC 6762 §6.7).</summary>
    private async Task<string?> MulticastNameAsync(string address, CancellationToken cancel)
    {
        using var socket = new Socket(AddressFamily.InterNetwork, SocketType.Dgram, ProtocolType.Udp);
        using var limit = new CancellationTokenSource(ConnectWithin, time);
        using var either = CancellationTokenSource.CreateLinkedTokenSource(limit.Token, cancel);
        try
        {
            await ToGroupAsync(socket, address, either.Token).ConfigureAwait(false);
            // The one who has the address answers too when it is asked directly (RFC 6762 §5.5).
            await socket.SendToAsync(MdnsMessage.Question(address), new IPEndPoint(IPAddress.Parse(address), MdnsGroup.Port), either.Token).ConfigureAwait(false);
            var buffer = new byte[1500];
            while (true)
            {
                var got = await socket.ReceiveFromAsync(buffer, new IPEndPoint(IPAddress.Any, 0), either.Token).ConfigureAwait(false);
                if (MdnsMessage.ReadAnswer(buffer.AsSpan(0, got.ReceivedBytes)) is { } answer && answer.Address == address)
                {
                    return answer.Name;
                }
            }
        }
        catch (Exception e) when (e is SocketException || (e is OperationCanceledException && !cancel.IsCancellationRequested))
        {
            return null;
        }
    }
}
