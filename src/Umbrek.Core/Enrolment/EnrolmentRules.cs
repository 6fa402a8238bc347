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

/// <summary>The sentences for a refused token: what happened and what to do.</summary>
public static class EnrolmentRules
{
    public static string Explain(TokenRefusal refusal) => refusal switch
    {
        TokenRefusal.Unknown => "This service does not know the enrolment token. Check that it was copied whole, or make a new one with 'umbrek enrolment token new'.",
        TokenRefusal.Revoked => "The enrolment token was revoked. Ask for a new one.",
        TokenRefusal.Expired => "The enrolment token has expired. Ask for a new one.",
        TokenRefusal.UsedUp => "The enrolment token has been used as often as it may be. Ask for a new one, or for one with more uses.",
        _ => "",
    };
}
