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

    /// <summary>Shows whoever is there what goes on, until it is disposed. Where there is no way to show it, nothing is.</summary>
    /// <param name="end">Called with the logon of who ends it; null where it can't be ended from there.</param>
    IDisposable Show(PresenceSign sign, Action<string>? end) => NothingShown.Instance;

    /// <summary>Until it is disposed, what programs press counts as no answer: a technician controls a screen, and could press for a person.</summary>
    IDisposable HandsOnly() => NothingShown.Instance;
}

/// <summary>Nothing to take away again.</summary>
public sealed class NothingShown : IDisposable
{
    public static NothingShown Instance { get; } = new();

    public void Dispose()
    {
    }
}

/// <summary>What the people here see while a technician is there.</summary>
/// <param name="What">For people: "control of the desktop".</param>
/// <param name="TakesInput">Their keyboards and mice are taken away meanwhile.</param>
/// <param name="Taken">Told of each screen how many were, or why it is not as it should be.</param>
/// <param name="Hides">It lies over the whole screen, and hides what that shows.</param>
public sealed record PresenceSign(string Technician, string What, DateTimeOffset Since, bool TakesInput = false, Action<int, string?>? Taken = null, bool Hides = false);

/// <param name="What">The act's own words, such as the command.</param>
/// <param name="Until">Without an answer it is decided then.</param>
/// <param name="From">The address that the technician comes from.</param>
/// <param name="Reason">What he has said that it is for.</param>
/// <param name="SilenceAgrees">Without an answer it begins; otherwise it is refused.</param>
public sealed record ConsentQuestion(string Technician, HostAct Act, string What, DateTimeOffset Until, string? From = null, string? Reason = null, bool SilenceAgrees = false)
{
    /// <summary>What comes of no answer, in words.</summary>
    public string Silence => SilenceAgrees ? "it begins" : "it is refused";
}

/// <param name="Person">The logon of who answered.</param>
public sealed record ConsentAnswer(bool Agreed, string Person);

/// <param name="At">When it is done.</param>
/// <param name="Most">By how much it can be put off; zero where it can't.</param>
public sealed record PowerWarning(string Technician, PowerWish Wish, DateTimeOffset At, TimeSpan Most);

/// <param name="Person">The logon of who put it off.</param>
public sealed record PutOff(string Person, TimeSpan By);
