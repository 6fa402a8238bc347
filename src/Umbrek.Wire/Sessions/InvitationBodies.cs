namespace Umbrek.Wire.Sessions;

/// <summary>Somebody else who may look at a host's desktop.</summary>
/// <param name="MayControl">Whether he may act there too.</param>
/// <param name="IsHere">Whether he has the console open, or waits with the client, and sees an invitation at once.</param>
public sealed record Colleague(Guid Id, string Name, bool MayControl, bool IsHere);

/// <summary>Asks a colleague to a host at which one is.</summary>
/// <param name="Note">What it is about, in a sentence; shown with it.</param>
/// <param name="Screen">At which screen of the host one is; null leaves it to the host.</param>
public sealed record NewInvitation(Guid ColleagueId, string? Note = null, string? Screen = null);

public enum InvitationState
{
    /// <summary>It waits for an answer.</summary>
    Open,

    /// <summary>The colleague comes.</summary>
    Accepted,

    /// <summary>The colleague does not come now.</summary>
    Declined,
}

/// <summary>Somebody is asked to come to a host's desktop.</summary>
/// <param name="MayControl">Whether whoever is asked may act there too.</param>
/// <param name="Until">When it lapses.</param>
public sealed record InvitationInfo(
    Guid Id, Guid HostId, string HostLabel, string GroupPath, Guid FromId, string From, Guid ToId, string To, bool MayControl, string? Note, string? Screen, InvitationState State, DateTimeOffset At, DateTimeOffset Until);

/// <param name="Comes">Whether one comes.</param>
public sealed record InvitationAnswer(bool Comes);

/// <summary>Every invitation to the reader or from him that stands.</summary>
public sealed record InvitationsNow(IReadOnlyList<InvitationInfo> Invitations);
