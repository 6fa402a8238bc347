using System.Text.Json.Serialization;

namespace Umbrek.Wire.Api;

/// <summary>An error over HTTP (RFC 9457 problem details).</summary>
/// <param name="Type">Stable: <c>urn:umbrek:problem:…</c>; <see cref="ProblemTypes"/> has the words.</param>
/// <param name="Detail">What happened and what to do, for a person.</param>
/// <param name="Position">With a selection that can't be read: where, in characters from 0.</param>
public sealed record Problem(string? Type, string? Title, int? Status, string? Detail, int? Position = null)
{
    [JsonIgnore]
    public string Word => Type is { } type && type.StartsWith(ProblemTypes.Prefix, StringComparison.Ordinal) ? type[ProblemTypes.Prefix.Length..] : "";
}

/// <summary>Why a live view ended, for whoever begins it anew.</summary>
public static class LiveProblems
{
    /// <summary>It may begin anew at once, and then shows what may be seen now.</summary>
    public const string AccessChanged = "What you may do here has changed; the view begins anew.";
}

public static class ProblemTypes
{
    public const string Prefix = "urn:umbrek:problem:";
    public const string Malformed = "malformed";
    public const string Invalid = "invalid";
    public const string NotSignedIn = "not-signed-in";
    public const string WrongCredentials = "wrong-credentials";
    public const string TooManyAttempts = "too-many-attempts";

    /// <summary>They come faster than the service lets one account call.</summary>
    public const string TooManyCalls = "too-many-calls";
    public const string NotFound = "not-found";
    public const string Conflict = "conflict";
    public const string Changed = "changed-meanwhile";
    public const string SelectionUnreadable = "selection-unreadable";
    public const string SelectionEmpty = "selection-empty";
    public const string TokenRefused = "token-refused";
    public const string AlreadyEnrolled = "already-enrolled";
    public const string HostAway = "host-away";
    public const string SetUpNeeded = "set-up-needed";
    public const string ForeignPage = "foreign-page";
    public const string NotAllowed = "not-allowed";

    /// <summary>The password is right; a code is asked for too.</summary>
    public const string SecondFactorAsked = "second-factor-asked";

    /// <summary>The service asks everybody for a second factor, and the caller has none yet.</summary>
    public const string SecondFactorMissing = "second-factor-missing";
    public const string Failed = "failed";
}
