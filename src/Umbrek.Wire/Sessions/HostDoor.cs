using System.Text;
using System.Text.Json;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;
using Umbrek.Wire.Api;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Files;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;

namespace Umbrek.Wire.Sessions;

/// <summary>A technician's session on one host, with the host's key proven in it.</summary>
public sealed class HostDoor
{
    private readonly byte[] sessionKey;
    private long lastNumber;

    private HostDoor(SessionInfo session, byte[] sessionKey)
    {
        Session = session;
        this.sessionKey = sessionKey;
    }

    public SessionInfo Session { get; }

    /// <summary>Opens a session and proves the key in it.</summary>
    /// <param name="pin">The service's key as the caller trusts it; null trusts what the service says of it.</param>
    /// <param name="secret">The host's access key, or its passcode.</param>
    /// <exception cref="DoorException">The key is wrong, or the host takes none now.</exception>
    public static async Task<HostDoor> OpenAsync(ApiClient api, ServicePin? pin, Guid hostId, string name, string secret, CancellationToken cancel)
    {
        var session = await api.PostAsync($"hosts/{hostId}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
        try
        {
            await using var channel = await OpenChannelAsync(api, pin, session, ChannelKinds.Key, cancel).ConfigureAwait(false);
            return new HostDoor(session, await channel.ProveAsync(name, Encoding.UTF8.GetBytes(secret), cancel).ConfigureAwait(false));
        }
        catch (DoorException)
        {
            await api.ActAsync(HttpMethod.Post, $"sessions/{session.Id}/end", cancel).ConfigureAwait(false);
            throw;
        }
    }

    /// <summary>Sets another access key, or the first one.</summary>
    /// <param name="old">The key as it is now; null where there is none.</param>
    /// <param name="endSessions">Whether whoever has proven the old key has to prove the new one.</param>
    /// <exception cref="DoorException">The old key is wrong, or the host takes none now.</exception>
    public static async Task ChangeKeyAsync(ApiClient api, ServicePin? pin, Guid hostId, string? old, string fresh, bool endSessions, CancellationToken cancel)
    {
        var session = await api.PostAsync($"hosts/{hostId}/sessions", new NewSession("access key"), WireJson.Default.NewSession, WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
        try
        {
            await using var channel = await OpenChannelAsync(api, pin, session, ChannelKinds.NewKey, cancel).ConfigureAwait(false);
            var asked = await channel.AsksProofAsync(cancel).ConfigureAwait(false);
            if (asked && old is null)
            {
                throw new DoorException("The host has an access key already. Give it, to set another.");
            }
            var sessionKey = !asked ? null : await channel.ProveAsync(ChannelBinding.AccessKey, Encoding.UTF8.GetBytes(old!), cancel).ConfigureAwait(false);
            await channel.SetKeyAsync(Encoding.UTF8.GetBytes(fresh), session.ServiceKey!, session.HostKey!, sessionKey, endSessions, cancel).ConfigureAwait(false);
        }
        finally
        {
            await api.ActAsync(HttpMethod.Post, $"sessions/{session.Id}/end", cancel).ConfigureAwait(false);
        }
    }

    /// <summary>Seals a command for the host.</summary>
    public SealedOrder Seal(CommandSpec command) => Seal(command.Act ?? HostAct.Run, JsonSerializer.Serialize(command, LinkJson.Default.CommandSpec));

    /// <summary>Seals what is wanted of a shell there.</summary>
    public SealedOrder Seal(ShellWish wish) => Seal(HostAct.Shell, JsonSerializer.Serialize(wish, LinkJson.Default.ShellWish));

    /// <summary>Seals a look at what goes on there.</summary>
    public SealedOrder Seal(ViewWish wish) => Seal(HostAct.Run, JsonSerializer.Serialize(wish, LinkJson.Default.ViewWish));

    /// <summary>Seals a look at the files there.</summary>
    public SealedOrder Seal(FilesWish wish) => Seal(wish.Act(), JsonSerializer.Serialize(wish, LinkJson.Default.FilesWish));

    /// <summary>Seals a look at the desktop there, or acts on it.</summary>
    public SealedOrder Seal(DesktopWish wish) => Seal(wish.Act(), JsonSerializer.Serialize(wish, LinkJson.Default.DesktopWish));

    /// <summary>Seals a look into a log there.</summary>
    public SealedOrder Seal(LogWish wish) => Seal(HostAct.ReadFiles, JsonSerializer.Serialize(wish, LinkJson.Default.LogWish));

    public Task EndAsync(ApiClient api, CancellationToken cancel) => api.ActAsync(HttpMethod.Post, $"sessions/{Session.Id}/end", cancel);

    private SealedOrder Seal(HostAct act, string text) => SealedOrder.Make(sessionKey, Session.Id, Interlocked.Increment(ref lastNumber), act, text);

    private static async Task<KeyExchange> OpenChannelAsync(ApiClient api, ServicePin? pin, SessionInfo session, string kind, CancellationToken cancel)
    {
        if (session is not { HostKey: not null, ServiceKey: not null } || (pin is not null && !pin.Sha256.SequenceEqual(session.ServiceKey)))
        {
            throw new DoorException("The service names another key than the one that you trust it by. Nothing was proven; tell whoever runs it.");
        }
        var (socket, ticket) = await ChannelSocket.OpenAsync(api, pin, session.Id, new NewChannel(kind), cancel).ConfigureAwait(false);
        return new KeyExchange(socket, ChannelBinding.Of(session.ServiceKey, session.HostId, session.HostKey, session.Id, ticket.ChannelId));
    }
}
