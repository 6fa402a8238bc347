using Umbrek.Core.Access;

namespace Umbrek.Wire.Sessions;

/// <param name="Reason">What the session is for; shown with it.</param>
public sealed record NewSession(string? Reason = null);

/// <summary>One technician connected to one host, from opening to closing.</summary>
/// <param name="HostKey">The host's public key (P-256, SubjectPublicKeyInfo), to which proofs are bound.</param>
/// <param name="ServiceKey">SHA-256 of the service's public key, as the host trusts it; proofs are bound to it too.</param>
/// <param name="EndReason">Why it ended; null while it goes on.</param>
public sealed record SessionInfo(
    Guid Id, Guid HostId, string HostLabel, string GroupPath, Guid TechnicianId, string Technician, string? Address, string? Reason,
    DateTimeOffset OpenedAt, DateTimeOffset? EndedAt, string? EndReason, byte[]? HostKey = null, byte[]? ServiceKey = null);

/// <param name="Kind">What the channel is for: <see cref="ChannelKinds"/>.</param>
public sealed record NewChannel(string Kind);

/// <summary>How a technician's side comes to a channel: a WebSocket to <paramref name="Path"/> whose first message is a <see cref="ChannelJoin"/>.</summary>
/// <param name="Ticket">Good once, for half a minute.</param>
public sealed record ChannelTicket(Guid ChannelId, string Path, string Ticket);

/// <summary>Words for what a channel is for.</summary>
public static class ChannelKinds
{
    /// <summary>Proves the host's access key, or a passcode, for the session.</summary>
    public const string Key = "key";

    /// <summary>Proves the host's access key where there is one, and sets another.</summary>
    public const string NewKey = "new-key";
}
