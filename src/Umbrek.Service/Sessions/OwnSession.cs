using Umbrek.Wire.Estate;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Sessions;

/// <summary>A session in which the service acts for a technician; it ends with this.</summary>
public sealed class OwnSession(Guid id, HostSummary host, byte[] hostKey, string technician, SessionService sessions) : IAsyncDisposable
{
    public Guid Id { get; } = id;
    public HostSummary Host { get; } = host;
    public byte[] HostKey { get; } = hostKey;
    public string Technician { get; } = technician;

    /// <param name="kind">One of <see cref="ChannelKinds"/>.</param>
    /// <exception cref="DoorException">The host does not come to it.</exception>
    public Task<KeyExchange> OpenKeyChannelAsync(string kind, CancellationToken cancel) => sessions.OpenKeyChannelAsync(this, kind, cancel);

    public ValueTask DisposeAsync() => new(sessions.EndOwnAsync(Id));
}
