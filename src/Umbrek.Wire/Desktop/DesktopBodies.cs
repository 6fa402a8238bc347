using Umbrek.Core.Access;
using Umbrek.Core.Text;

namespace Umbrek.Wire.Desktop;

/// <summary>What is wanted of a channel to a host's desktop.</summary>
/// <param name="Control">To act there; without, to look on.</param>
/// <param name="Screen">Which, as <see cref="ScreenInfo.Name"/> has it; null for the one where somebody is, or the first.</param>
/// <param name="Small">To look on at a small picture of it, so many pixels wide, once a second: for many at once. Null is the whole of it.</param>
public sealed record DesktopWish(bool Control = false, string? Screen = null, int? Small = null)
{
    public const int MaxScreenLength = 64;
    public const int LeastSmall = 80;
    public const int MostSmall = 640;

    /// <summary>What the host has to allow for it.</summary>
    public HostAct Act() => Control ? HostAct.Control : HostAct.Watch;

    /// <returns>What is wrong with it, or null.</returns>
    public string? Check() => Small is < LeastSmall or > MostSmall ? $"A small picture is {LeastSmall} to {MostSmall} pixels wide."
        : Small is not null && Control ? "A small picture is there to look at; open the desktop itself to control it."
        : Screen is null ? null
        : Screen.Length is 0 or > MaxScreenLength || Screen != TerminalText.Line(Screen) ? "The screen's name is none; 'umbrek desktop HOST --list' shows which there are."
        : null;
}

/// <param name="Wish">As it came; where the host asks for its key, what was sealed counts.</param>
/// <param name="MayShell">Whether the technician may open shells there: acting at a screen that the host was given is as good as one.</param>
public sealed record DesktopOrder(DesktopWish Wish, SealedOrder? Sealed = null, bool MayShell = false);

/// <summary>
/// What a desktop's channel carries as text messages; binary ones are the bytes of RFB 3.8 (RFC 6143), the host's side its server. From the
/// host, one of these.
/// </summary>
/// <param name="Notice">Something to know while it goes on.</param>
/// <param name="Refusal">Why there is nothing to see; nothing follows.</param>
/// <param name="Opened">A screen is shown: RFB begins here, and begins anew whenever another is.</param>
/// <param name="Gone">The screen that was shown is gone, and another is waited for: why.</param>
/// <param name="Hold">What the technician holds of the host's desks, in answer to what he asked.</param>
/// <param name="Others">Who else is at desktops of this host, whenever that changes.</param>
/// <param name="Hands">Who of those that may act does, whenever that changes; with <paramref name="Others"/>.</param>
/// <param name="Typed">A secret of the vault was typed, which nobody saw: its name.</param>
/// <param name="Person">Somebody has logged in at the screen that is shown, or out of it.</param>
public sealed record DesktopWord(
    string? Notice = null, string? Refusal = null, ScreenOpened? Opened = null, string? Gone = null, DeskHold? Hold = null, IReadOnlyList<DesktopGuest>? Others = null, DesktopHands? Hands = null, string? Typed = null, ScreenPerson? Person = null)
{
    public const int MaxMessage = 4 * 1024;
}

/// <summary>A technician at a desktop of the host.</summary>
/// <param name="Control">Whether he may act there, or looks on.</param>
/// <param name="Acts">Whether he is the one who does.</param>
public sealed record DesktopGuest(string Technician, bool Control, bool Acts = false)
{
    /// <summary>More are not told.</summary>
    public const int MostTold = 12;
}

/// <summary>Of those who may act at a desktop, one does at a time.</summary>
/// <param name="Mine">The one who is told does.</param>
/// <param name="By">Who does.</param>
/// <param name="AskedBy">Who wishes to; whoever acts lets him, or keeps it, and has agreed if he does neither for a while.</param>
public sealed record DesktopHands(bool Mine, string? By, string? AskedBy = null);

/// <summary>What somebody who may act at a desktop wishes about who does.</summary>
public enum HandsWish
{
    /// <summary>He wishes to act.</summary>
    Ask,

    /// <summary>He lets the one who has asked act, or another who may.</summary>
    Give,

    /// <summary>He goes on.</summary>
    Keep,
}

/// <summary>What a technician asks beside RFB, as a text message.</summary>
/// <param name="TakeInput">Whether the keyboards and mice of the host are to be without effect; null leaves it as it is. Takes control of the desktop.</param>
/// <param name="Hands">Who is to act; null leaves it as it is.</param>
/// <param name="Hide">Whether the screens are to be hidden from the people there, and their keyboards and mice without effect; null leaves it as it is. Takes control of the desktop.</param>
/// <param name="Lock">Whether the screens are to be locked when the technician leaves; null leaves it as it is. Takes control of the desktop.</param>
public sealed record DesktopAsk(bool? TakeInput = null, HandsWish? Hands = null, bool? Hide = null, bool? Lock = null);

/// <summary>What a technician holds of the desks of a host.</summary>
/// <param name="IsTaken">Nothing that is pressed there has an effect.</param>
/// <param name="Count">How many keyboards and mice were taken.</param>
/// <param name="Problem">Why it is not as it was asked for; null where it is.</param>
/// <param name="IsHidden">The people there see a cover instead of what the screens show.</param>
/// <param name="Locks">The screens are locked when he leaves.</param>
public sealed record DeskHold(bool IsTaken, int Count = 0, string? Problem = null, bool IsHidden = false, bool Locks = false);

/// <param name="Person">Whose it is; null where nobody is logged in there.</param>
/// <param name="Control">Whether one acts there, or looks on.</param>
/// <param name="IsGiven">As <see cref="ScreenInfo.IsGiven"/>.</param>
public sealed record ScreenOpened(string Screen, string? Person, bool Control, bool IsGiven = false);

/// <param name="Name">Who is logged in there now; null where nobody is any more.</param>
public sealed record ScreenPerson(string? Name)
{
    /// <summary>What has happened there, in a sentence.</summary>
    public override string ToString() => Name is null ? "Nobody is logged in there any more." : $"{Name} has logged in there.";
}

/// <summary>A secret of the vault that is to be typed at the desktop which the caller controls.</summary>
/// <param name="Enter">The key Enter is pressed behind it.</param>
public sealed record NewTyping(Guid SecretId, bool Enter = false);

/// <summary>A screen of a host.</summary>
/// <param name="Name">As the system has it: ":0".</param>
/// <param name="Person">Whose it is; null where nobody is logged in there.</param>
/// <param name="Problem">Why it can't be shown, and what to do; null where it can.</param>
/// <param name="IsGiven">The host had none and was given it for technicians, with a terminal of the agent's user; it goes when none of them has been there for a while.</param>
public sealed record ScreenInfo(string Name, string? Person, string? Problem = null, bool IsGiven = false)
{
    /// <summary>More are not told.</summary>
    public const int MostTold = 16;
}
