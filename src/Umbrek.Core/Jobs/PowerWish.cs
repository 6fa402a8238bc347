using System.Text.Json.Serialization;
using Umbrek.Core.Text;

namespace Umbrek.Core.Jobs;

/// <summary>What is done with a computer as a whole, or with the people's sessions on it.</summary>
public enum PowerAct
{
    Restart,
    ShutDown,
    Sleep,
    LogOut,
    Lock,
}

/// <summary>One such act.</summary>
/// <param name="GraceSeconds">How long before it people who are logged in are told; where nobody is, it is done at once.</param>
/// <param name="Message">What they are told why.</param>
/// <param name="Person">Whom to log out, or whose screen to lock, by logon; null means everybody there.</param>
public sealed record PowerWish(PowerAct Act, double GraceSeconds = 0, string? Message = null, string? Person = null)
{
    public const double MostGrace = 86_400;
    public const int LongestMessage = 300;

    /// <summary>Whether the computer is gone afterwards.</summary>
    [JsonIgnore]
    public bool TakesDown => Act is PowerAct.Restart or PowerAct.ShutDown;

    public string? Check() =>
        !Enum.IsDefined(Act) ? "There is no such act on a computer."
        : GraceSeconds is not (>= 0 and <= MostGrace) ? "The time that people are told before goes from 0 seconds to a day."
        : GraceSeconds > 0 && Act == PowerAct.Lock ? "Locking a screen loses nothing and takes no time before; leave it out."
        : Message is { } message && (message.Length > LongestMessage || string.IsNullOrWhiteSpace(message)) ? $"What people are told has 1 to {LongestMessage} characters; leave it out to give no reason."
        : Person is null ? null
        : Act is not (PowerAct.LogOut or PowerAct.Lock) ? "A person goes with logging out and locking; leave it out."
        : SystemUserName.IsOne(Person) ? null : SystemUserName.Problem(Person);

    /// <summary>In words: "restart the computer".</summary>
    public string Display() => Act switch
    {
        PowerAct.Restart => "restart the computer",
        PowerAct.ShutDown => "shut the computer down",
        PowerAct.Sleep => "put the computer to sleep",
        PowerAct.LogOut => $"log {Whom("everybody")} out",
        _ => Person is null ? "lock every screen" : $"lock the screen of {TerminalText.Line(Person)}",
    };

    /// <summary>The act with the computers that it is about: "Restart quay-ticket-03 of Saltmarsh Ferry".</summary>
    public string Sentence(string where) => Act switch
    {
        PowerAct.Restart => $"Restart {where}",
        PowerAct.ShutDown => $"Shut down {where}",
        PowerAct.Sleep => $"Put {where} to sleep",
        PowerAct.LogOut => $"Log {Whom("everybody")} out of {where}",
        _ => Person is null ? $"Lock every screen of {where}" : $"Lock the screen of {TerminalText.Line(Person)} on {where}",
    };

    /// <summary>What people are told of it: "restarts this computer".</summary>
    public string Announce() => Act switch
    {
        PowerAct.Restart => "restarts this computer",
        PowerAct.ShutDown => "shuts this computer down",
        PowerAct.Sleep => "puts this computer to sleep",
        PowerAct.LogOut => $"logs {Whom("everybody")} out of this computer",
        _ => "locks the screen",
    };

    private string Whom(string everybody) => Person is null ? everybody : TerminalText.Line(Person);
}
