namespace Umbrek.Service.Sessions;

/// <summary>What a recorder learns of a channel beside its bytes.</summary>
/// <param name="ShellId">Null of a desktop.</param>
/// <param name="User">As whom a shell runs, or whose a desktop is; null where nobody is logged in.</param>
public sealed record RecordedChannel(Guid? ShellId, string? User);
