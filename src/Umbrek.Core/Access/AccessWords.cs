using System.Globalization;

namespace Umbrek.Core.Access;

/// <summary>Decisions in plain sentences.</summary>
public static class AccessWords
{
    /// <summary>The whole: "Priya Lund may not run commands on orrin-desk-02: …".</summary>
    /// <param name="who">The technician's name; null speaks to himself.</param>
    /// <param name="place">The host's label, or the group's path; null is everything.</param>
    public static string Explain(AccessDecision decision, string? who, string? place) =>
        $"{who ?? "You"} may{(decision.Allowed ? "" : " not")} {PermissionWords.Verb(decision.Permission)} {place ?? "every place"}{(decision.Allowed ? ", " : ": ")}{Why(decision, who, place)}.";

    /// <summary>The reason alone: "the grant as viewer on Copperbeech Libraries does not include 'run'".</summary>
    /// <inheritdoc cref="Explain"/>
    public static string Why(AccessDecision decision, string? who, string? place)
    {
        var word = PermissionWords.Word(decision.Permission);
        var grant = decision.Grant is { } g ? $"{(who is null ? "your" : "the")} grant as {Name(g)}" : "";
        return decision.Reason switch
        {
            AccessReason.Granted => $"by {grant}{(decision.Grant!.EndsAt is { } end ? $", until {Time(end)}" : "")}",
            AccessReason.RoleLacks => $"{grant} does not include '{word}'",
            AccessReason.Ended => $"{grant} ended at {Time(decision.Grant!.EndsAt!.Value)}",
            AccessReason.SignInLacks => $"the token of this sign-in is not for '{word}'",
            AccessReason.HostPolicy => $"the host's own side does not allow it, though {grant} would",
            _ => $"{(who is null ? "you hold" : "there is")} no grant {(place is null ? "on everything" : $"that reaches {place}")}",
        };
    }

    /// <summary>Who could change it.</summary>
    /// <param name="names">Who administers the place.</param>
    public static string Remedy(AccessDecision decision, IReadOnlyList<string> names) =>
        decision.Reason == AccessReason.HostPolicy ? "Whoever looks after the computer can change that on it."
        : decision.Reason == AccessReason.SignInLacks ? "Sign in without a limit, or use a token that is for it."
        : names.Count == 0 ? "Nobody is there who could change that."
        : $"{Names(names)} can change that.";

    private static string Name(HeldGrant grant) => $"{grant.Role.Name} on {grant.GroupPath ?? "everything"}{(grant.Team is null ? "" : $" (team {grant.Team})")}";

    private static string Names(IReadOnlyList<string> names) => names.Count switch
    {
        1 => names[0],
        <= 3 => $"{string.Join(", ", names.Take(names.Count - 1))} or {names[^1]}",
        _ => $"{string.Join(", ", names.Take(2))} or {names.Count - 2} others",
    };

    private static string Time(DateTimeOffset time) => time.UtcDateTime.ToString("yyyy-MM-dd HH:mm 'UTC'", CultureInfo.InvariantCulture);
}
