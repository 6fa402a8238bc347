namespace Umbrek.Core.Enrolment;

/// <summary>Why a token does not let a host in.</summary>
public enum TokenRefusal
{
    None,
    Unknown,
    Revoked,
    Expired,
    UsedUp,
}

/// <summary>The life of an enrolment token: when it ends, how often it may be used, whether it was revoked.</summary>
public sealed record TokenTerms(DateTimeOffset? ExpiresAt, int? MaxUses, int Uses, DateTimeOffset? RevokedAt)
{
    public TokenRefusal Check(DateTimeOffset now) =>
        RevokedAt is not null ? TokenRefusal.Revoked
        : ExpiresAt is { } end && now >= end ? TokenRefusal.Expired
        : MaxUses is { } most && Uses >= most ? TokenRefusal.UsedUp
        : TokenRefusal.None;
}

/// <summary>What became of one attempt to join.</summary>
public enum EnrolmentState
{
    /// <summary>A host of its own.</summary>
    Joined,

    /// <summary>A person has to decide.</summary>
    Waiting,

    /// <summary>A person said no.</summary>
    Rejected,

    /// <summary>It is the machine of an older entry and goes on under that.</summary>
    TookOver,

    /// <summary>The token let nobody in.</summary>
    Refused,
}

/// <summary>Why an enrolment waits for a person.</summary>
public enum WaitingReason
{
    None,

    /// <summary>The installer asks for approval.</summary>
    ApprovalNeeded,

    /// <summary>The machine looks like one that is known already.</summary>
    SameMachine,
}

/// <summary>What a person decides about an enrolment that waits.</summary>
public enum EnrolmentDecision
{
    Approve,
    Reject,
    TakeOver,
}

/// <summary>The sentences for a refused token: what happened and what to do.</summary>
public static class EnrolmentRules
{
    public static string Explain(TokenRefusal refusal) => refusal switch
    {
        TokenRefusal.Unknown => "This service does not know the enrolment token. Check that it was copied whole, or make a new installer with 'umbrek installer new'.",
        TokenRefusal.Revoked => "The installer was revoked; its enrolment token lets nobody in any more. Ask for a new one.",
        TokenRefusal.Expired => "The installer has expired; its enrolment token lets nobody in any more. Ask for a new one.",
        TokenRefusal.UsedUp => "The installer's enrolment token has been used as often as it may be. Ask for a new one, or for one with more uses.",
        _ => "",
    };
}
