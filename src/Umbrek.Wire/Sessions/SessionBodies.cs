using Umbrek.Core.Access;
using Umbrek.Core.Shell;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Files;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Shell;

namespace Umbrek.Wire.Sessions;

/// <param name="Reason">What the session is for; shown with it.</param>
public sealed record NewSession(string? Reason = null);

/// <summary>One technician connected to one host, from opening to closing.</summary>
/// <param name="HostKey">The host's public key (P-256, SubjectPublicKeyInfo), to which proofs are bound.</param>
/// <param name="ServiceKey">SHA-256 of the service's public key, as the host trusts it; proofs are bound to it too.</param>
/// <param name="EndReason">Why it ended; null while it goes on.</param>
/// <param name="Note">What somebody wrote about it, for whoever comes after him.</param>
public sealed record SessionInfo(
    Guid Id, Guid HostId, string HostLabel, string GroupPath, Guid TechnicianId, string Technician, string? Address, string? Reason,
    DateTimeOffset OpenedAt, DateTimeOffset? EndedAt, string? EndReason, string? Note = null, byte[]? HostKey = null, byte[]? ServiceKey = null);

/// <param name="Note">What is to be known about a session; null or empty takes away what was written.</param>
public sealed record SessionNote(string? Note)
{
    public const int MaxLength = 4000;
}

/// <summary>Something that was done in a session.</summary>
/// <param name="Action">As the audit log calls it: "shell.open".</param>
/// <param name="Detail">Words about it, as the audit log keeps them: JSON of names and texts.</param>
public sealed record SessionAct(DateTimeOffset At, string By, string Action, string Detail);

/// <summary>Why sessions end that nobody ended: whoever has not finished goes on in another one.</summary>
public static class SessionEnds
{
    public const string ServiceRestarted = "the service restarted";

    /// <summary>With how long behind it.</summary>
    public const string Idle = "nothing happened for";

    public static bool ByNobody(string? why) => why == ServiceRestarted || why?.StartsWith(Idle, StringComparison.Ordinal) == true;
}

/// <param name="Kind">What the channel is for: <see cref="ChannelKinds"/>.</param>
/// <param name="Shell">With the kind <c>shell</c>: what is wanted of it.</param>
/// <param name="Seal">The same wish, sealed, where the host asks for its access key: its text is the <see cref="ShellWish"/>, the <see cref="ViewWish"/>, the <see cref="LogWish"/>, the <see cref="FilesWish"/> or the <see cref="DesktopWish"/>, as JSON.</param>
/// <param name="UsesVault">Whether the service proves the access key from the vault, where the host asks for one; takes <c>use-secrets</c> there.</param>
/// <param name="View">With the kinds <c>processes</c> and <c>services</c>: how often.</param>
/// <param name="Log">With the kind <c>logs</c>: which, and what of it.</param>
/// <param name="Files">With the kind <c>files</c>.</param>
/// <param name="Desktop">With the kind <c>desktop</c>: whether to act there, and on which screen.</param>
public sealed record NewChannel(string Kind, ShellWish? Shell = null, SealedOrder? Seal = null, bool UsesVault = false, ViewWish? View = null, LogWish? Log = null, FilesWish? Files = null, DesktopWish? Desktop = null);

/// <summary>How a technician's side comes to a channel: a WebSocket to <paramref name="Path"/> whose first message is a <see cref="ChannelJoin"/>.</summary>
/// <param name="Ticket">Good once, for half a minute.</param>
/// <param name="Recording">What goes over it is recorded; null where it is not.</param>
public sealed record ChannelTicket(Guid ChannelId, string Path, string Ticket, ChannelRecording? Recording = null);

/// <summary>Words for what a channel is for.</summary>
public static class ChannelKinds
{
    /// <summary>Proves the host's access key, or a passcode, for the session.</summary>
    public const string Key = "key";

    /// <summary>Proves the host's access key where there is one, and sets another.</summary>
    public const string NewKey = "new-key";

    /// <summary>A shell on the host: see <see cref="Shell.ShellWord"/>.</summary>
    public const string Shell = "shell";

    /// <summary>The host's processes, live: see <see cref="ViewWord"/>.</summary>
    public const string Processes = "processes";

    /// <summary>The host's services, live: see <see cref="ViewWord"/>.</summary>
    public const string Services = "services";

    /// <summary>A log of the host: see <see cref="LogWord"/>.</summary>
    public const string Logs = "logs";

    /// <summary>The host's files: see <see cref="FileFrames"/>.</summary>
    public const string Files = "files";

    /// <summary>The host's desktop: see <see cref="DesktopWord"/>.</summary>
    public const string Desktop = "desktop";
}
