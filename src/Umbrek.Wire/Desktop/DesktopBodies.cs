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
public sealed record DesktopOrder(DesktopWish Wish, SealedOrder? Sealed = null);

/// <summary>
/// What a desktop's channel carries as text messages; binary ones are the bytes of RFB 3.8 (RFC 6143), the host's side its server. From the
/// host, exactly one of these.
/// </summary>
/// <param name="Notice">Something to know while it goes on.</param>
/// <param name="Refusal">Why there is nothing to see; nothing follows.</param>
/// <param name="Opened">A screen is shown: RFB begins here, and begins anew whenever another is.</param>
/// <param name="Gone">The screen that was shown is gone, and another is waited for: why.</param>
public sealed record DesktopWord(string? Notice = null, string? Refusal = null, ScreenOpened? Opened = null, string? Gone = null)
{
    public const int MaxMessage = 4 * 1024;
}

/// <param name="Person">Whose it is; null where nobody is logged in there.</param>
/// <param name="Control">Whether one acts there, or looks on.</param>
public sealed record ScreenOpened(string Screen, string? Person, bool Control);

/// <summary>A screen of a host.</summary>
/// <param name="Name">As the system has it: ":0".</param>
/// <param name="Person">Whose it is; null where nobody is logged in there.</param>
/// <param name="Problem">Why it can't be shown, and what to do; null where it can.</param>
public sealed record ScreenInfo(string Name, string? Person, string? Problem = null)
{
    /// <summary>More are not told.</summary>
    public const int MostTold = 16;
}
