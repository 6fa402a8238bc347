using System.Net.WebSockets;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Sessions;

namespace Umbrek.Cli.Desktop;

/// <summary>A session on a host with its desktop, as long as one viewer looks at it.</summary>
internal sealed class DesktopVisit : IAsyncDisposable
{
    private static readonly TimeSpan Parting = TimeSpan.FromSeconds(5);

    private readonly ApiClient api;
    private readonly Guid sessionId;
    private ClientWebSocket? socket;

    private DesktopVisit(ApiClient api, Guid sessionId) => (this.api, this.sessionId) = (api, sessionId);

    public DesktopStream Line { get; private set; } = null!;

    /// <exception cref="ClientException">The host does not show it.</exception>
    public static async Task<DesktopVisit> OpenAsync(ClientContext client, ApiClient api, HostSummary host, DesktopWish wish, (string Name, string Text)? secret, bool usesVault, string? reason, CancellationToken cancel)
    {
        var pin = client.State.Require().NewPin();
        var door = secret is var (name, text) ? await HostDoor.OpenAsync(api, pin, host.Id, name, text, cancel).ConfigureAwait(false) : null;
        var session = door?.Session ?? await api.PostAsync($"hosts/{host.Id}/sessions", new NewSession(reason ?? "desktop"), WireJson.Default.NewSession, WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
        var visit = new DesktopVisit(api, session.Id);
        try
        {
            (visit.socket, _) = await ChannelSocket.OpenAsync(api, pin, session.Id, new NewChannel(ChannelKinds.Desktop, Seal: door?.Seal(wish), UsesVault: usesVault, Desktop: wish), cancel).ConfigureAwait(false);
            visit.Line = await DesktopStream.OpenAsync(visit.socket, notice => Console.Error.WriteLine(TerminalText.Neutralise(notice)), cancel).ConfigureAwait(false);
            return visit;
        }
        catch (Exception e)
        {
            await visit.DisposeAsync().ConfigureAwait(false);
            throw e is DesktopRefusedException or InvalidDataException ? new ClientException($"{host.Label}: {TerminalText.Neutralise(e.Message)}") : e;
        }
    }

    public async ValueTask DisposeAsync()
    {
        using var limit = new CancellationTokenSource(Parting);
        try
        {
            if (socket?.State == WebSocketState.Open)
            {
                await socket.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, limit.Token).ConfigureAwait(false);
            }
            socket?.Dispose();
            await api.ActAsync(HttpMethod.Post, $"sessions/{sessionId}/end", limit.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is WebSocketException or ApiException or UnreachableException or OperationCanceledException)
        {
            // It ends by itself later.
        }
    }
}
