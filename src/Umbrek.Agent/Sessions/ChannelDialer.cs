using System.Net.WebSockets;
using System.Text.Json;
using System.Threading.Channels;
using Umbrek.Agent.Access;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Files;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Shell;
using Umbrek.Core.Access;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Files;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;

namespace Umbrek.Agent.Sessions;

/// <summary>Comes to channels that the service opens, each over a WebSocket of its own.</summary>
public sealed class ChannelDialer(HostRules rules, KeyDoor door, ShellTable shells, HostView views, LogView logs, FileView files, DesktopView desktops, TimeProvider time, AgentLog log)
{
    /// <summary>More at once are not come to: each is a connection.</summary>
    private const int Most = 96;
    private int open;

    /// <summary>What was tried at the key.</summary>
    public ChannelReader<KeyReport> KeyReports => door.Reports;

    /// <summary>What was read of files.</summary>
    public ChannelReader<FileReport> FileReports => files.Reports;

    /// <summary>How often what the host allows is looked at while a channel is open: its owner's file may change beside the agent.</summary>
    private static readonly TimeSpan LookEvery = TimeSpan.FromMilliseconds(500);

    private static readonly TimeSpan Parting = TimeSpan.FromSeconds(5);

    /// <summary>A channel for a key takes no longer.</summary>
    private static readonly TimeSpan KeyWithin = TimeSpan.FromMinutes(2);

    /// <summary>Comes to the channel and stays until it ends; whatever goes wrong is logged.</summary>
    public async Task DialAsync(ChannelOrder order, AgentIdentity identity, CancellationToken ended)
    {
        if (Interlocked.Increment(ref open) > Most)
        {
            Interlocked.Decrement(ref open);
            log.Warning($"{order.Technician} opened a channel while {Most} are open; it was not come to");
            return;
        }
        // Before anything is waited for: the session in which an order was sealed may end right behind it.
        var shell = order.Kind == ChannelKinds.Shell ? shells.Admit(order.Shell) : null;
        var look = order.Kind is ChannelKinds.Processes or ChannelKinds.Services ? views.Admit(order.View) : null;
        var read = order.Kind == ChannelKinds.Logs ? logs.Admit(order.Log) : null;
        var fetch = order.Kind == ChannelKinds.Files ? files.Admit(order.Files) : null;
        var desktop = order.Kind == ChannelKinds.Desktop ? desktops.Admit(order.Desktop) : null;
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ended);
        using var served = new CancellationTokenSource();
        var allowed = Task.CompletedTask;
        limit.CancelAfter(KeyWithin);
        try
        {
            using var socket = new ClientWebSocket();
            if (identity.Service.Scheme != Uri.UriSchemeHttp)
            {
                var pin = identity.NewPin();
                socket.Options.RemoteCertificateValidationCallback = pin.Validate;
            }
            socket.Options.KeepAliveInterval = LinkProtocol.PingInterval;
            socket.Options.KeepAliveTimeout = LinkProtocol.Silence;
            await socket.ConnectAsync(AddressOf(identity.Service), limit.Token).ConfigureAwait(false);
            await socket.SendAsync(JsonSerializer.SerializeToUtf8Bytes(new ChannelJoin(order.Ticket), LinkJson.Default.ChannelJoin), WebSocketMessageType.Text, true, limit.Token).ConfigureAwait(false);
            if (ActOf(order) is { } act)
            {
                allowed = WhileAllowedAsync(act, socket, order, limit, served.Token);
            }
            switch (order.Kind)
            {
                case ChannelKinds.Key or ChannelKinds.NewKey:
                    await door.ServeAsync(KeyFrame.Frames(socket), order, identity, limit.Token).ConfigureAwait(false);
                    break;
                case ChannelKinds.Shell:
                    limit.CancelAfter(Timeout.InfiniteTimeSpan);
                    await shells.ServeAsync(socket, order, shell!, limit.Token).ConfigureAwait(false);
                    break;
                case ChannelKinds.Processes or ChannelKinds.Services:
                    limit.CancelAfter(Timeout.InfiniteTimeSpan);
                    await views.ServeAsync(ViewWord.Frames(socket), order, look!, limit.Token).ConfigureAwait(false);
                    break;
                case ChannelKinds.Logs:
                    limit.CancelAfter(Timeout.InfiniteTimeSpan);
                    await logs.ServeAsync(LogWord.Frames(socket), order, read!, limit.Token).ConfigureAwait(false);
                    break;
                case ChannelKinds.Files:
                    limit.CancelAfter(Timeout.InfiniteTimeSpan);
                    await files.ServeAsync(socket, order, fetch!, limit.Token).ConfigureAwait(false);
                    break;
                case ChannelKinds.Desktop:
                    limit.CancelAfter(Timeout.InfiniteTimeSpan);
                    await desktops.ServeAsync(socket, order, desktop!, limit.Token).ConfigureAwait(false);
                    break;
                default:
                    await socket.CloseOutputAsync(WebSocketCloseStatus.PolicyViolation, $"This agent knows no channel '{order.Kind}'. Update it.", limit.Token).ConfigureAwait(false);
                    break;
            }
            await PartAsync(socket, limit.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is WebSocketException or IOException or OperationCanceledException or JsonException or InvalidDataException)
        {
            log.Warning($"the channel '{order.Kind}' for {order.Technician} ended: {e.Message}");
        }
        finally
        {
            await served.CancelAsync().ConfigureAwait(false);
            await allowed.ConfigureAwait(false);
            Interlocked.Decrement(ref open);
        }
    }

    private static HostAct? ActOf(ChannelOrder order) => order.Kind switch
    {
        ChannelKinds.Shell => HostAct.Shell,
        ChannelKinds.Processes or ChannelKinds.Services => HostAct.Run,
        ChannelKinds.Logs => HostAct.ReadFiles,
        ChannelKinds.Files => order.Files?.Wish?.Act(),
        ChannelKinds.Desktop => order.Desktop?.Wish?.Act(),
        _ => null,
    };

    /// <summary>Ends the channel when the host no longer allows what it is for; whether it does at the start is for the channel itself.</summary>
    /// <param name="over">Ends the channel.</param>
    /// <param name="served">Cancelled when it has ended.</param>
    private async Task WhileAllowedAsync(HostAct act, WebSocket socket, ChannelOrder order, CancellationTokenSource over, CancellationToken served)
    {
        if (!rules.InForce.Allows(act))
        {
            return;
        }
        using var timer = new PeriodicTimer(LookEvery, time);
        try
        {
            do
            {
                await timer.WaitForNextTickAsync(served).ConfigureAwait(false);
            }
            while (rules.InForce.Allows(act));
            log.Info($"the channel '{order.Kind}' for {order.Technician} ends: this host allows it no longer");
            await socket.CloseOutputAsync(WebSocketCloseStatus.PolicyViolation, $"This host no longer allows technicians to {HostPolicyWords.Describe(act)}.", served).ConfigureAwait(false);
            over.CancelAfter(Parting);
            if (order.Kind == ChannelKinds.Shell)
            {
                // What was begun in it ends too.
                await shells.EndThoseOfAsync(order.SessionId).ConfigureAwait(false);
            }
        }
        catch (Exception e) when (e is OperationCanceledException or WebSocketException or ObjectDisposedException)
        {
            // The channel ended first.
        }
    }

    /// <summary>Hears the other side out: a connection that is closed over something unread takes our last words with it.</summary>
    private static async Task PartAsync(WebSocket socket, CancellationToken ended)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ended);
        limit.CancelAfter(Parting);
        var unheard = new byte[4096];
        while (socket.State == WebSocketState.CloseSent)
        {
            await socket.ReceiveAsync(unheard.AsMemory(), limit.Token).ConfigureAwait(false);
        }
    }

    private static Uri AddressOf(Uri service)
    {
        var address = new UriBuilder(new Uri(ApiClient.Root(service), ChannelJoin.Path.TrimStart('/')));
        address.Scheme = service.Scheme == Uri.UriSchemeHttp ? "ws" : "wss";
        return address.Uri;
    }
}
