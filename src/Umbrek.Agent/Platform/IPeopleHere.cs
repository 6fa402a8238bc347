using Umbrek.Core.Access;
using Umbrek.Core.Jobs;

namespace Umbrek.Agent.Platform;

/// <summary>The people who are logged in on this host, and how they are spoken to.</summary>
public interface IPeopleHere
{
    /// <summary>Logons of who is there now, each once.</summary>
    IReadOnlyList<string> LoggedIn();

    /// <summary>Says something to everybody who is there; nobody can be made to read it.</summary>
    void Tell(string text);

    /// <summary>Asks whoever is there; the first answer counts. Waits until there is one or it is cancelled.</summary>
    Task<ConsentAnswer> AskAsync(ConsentQuestion question, CancellationToken cancel);

    /// <summary>Tells whoever is there what is about to happen. Waits until somebody puts it off, if it can be, or it is cancelled.</summary>
    Task<PutOff> WarnAsync(PowerWarning warning, CancellationToken cancel);
}

/// <param name="What">The act's own words, such as the command.</param>
/// <param name="Until">Without an answer it is refused then.</param>
public sealed record ConsentQuestion(string Technician, HostAct Act, string What, DateTimeOffset Until);

/// <param name="Person">The logon of who answered.</param>
public sealed record ConsentAnswer(bool Agreed, string Person);

/// <param name="At">When it is done.</param>
/// <param name="Most">By how much it can be put off; zero where it can't.</param>
public sealed record PowerWarning(string Technician, PowerWish Wish, DateTimeOffset At, TimeSpan Most);

/// <param name="Person">The logon of who put it off.</param>
public sealed record PutOff(string Person, TimeSpan By);
