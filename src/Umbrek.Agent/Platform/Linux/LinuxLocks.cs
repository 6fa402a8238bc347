using System.Text.Json;
using Umbrek.Agent.Platform.Linux.Probes;
using Umbrek.Agent.Platform.Linux.X11;

namespace Umbrek.Agent.Platform.Linux;

/// <param name="Authority">A file that lets the locker in at the screen; null where it finds that itself.</param>
/// <param name="IsAsked">Somebody else has been asked to lock it already: that is waited for first.</param>
internal sealed record LockOrder(string Socket, byte[]? Cookie, string Display, string? Authority, bool IsAsked);

/// <param name="Problem">Why it is not locked, or null.</param>
internal sealed record LockAnswer(string? Problem);

/// <summary>A program that locks a screen.</summary>
/// <param name="Stays">It runs until somebody unlocks the screen; else it asks one that runs already, and ends.</param>
internal sealed record Locker(string Program, bool Stays, params string[] Arguments)
{
    /// <summary>Those that Linux systems have, the ones that belong to a desktop first.</summary>
    public static IReadOnlyList<Locker> All { get; } =
    [
        new("xfce4-screensaver-command", false, "--lock"),
        new("mate-screensaver-command", false, "--lock"),
        new("cinnamon-screensaver-command", false, "--lock"),
        new("light-locker-command", false, "--lock"),
        new("xscreensaver-command", false, "-lock"),
        new("xsecurelock", true),
        new("i3lock", true, "--nofork"),
        new("xlock", true),
        new("slock", true),
        new("xtrlock", true),
    ];

    /// <summary>Those that are installed here.</summary>
    public static IEnumerable<Locker> Installed() => All.Where(l => Linux.Installed.Find(l.Program) is not null);
}

/// <summary>Locks the screens of people: by the login manager's word to their desktops (loginctl(1)) where there is one, else by a program that does.</summary>
internal static class LinuxLocks
{
    private static readonly TimeSpan Within = TimeSpan.FromSeconds(9);

    public static string? NoneBecause =>
        LinuxServices.HasSystemd || Locker.Installed().Any() ? null
            : $"Nothing on this host locks a screen. Install a program that does, such as {string.Join(" or ", Locker.All.Where(l => l.Stays).Take(2).Select(l => l.Program))}.";

    /// <returns>Why one is not locked, or null.</returns>
    public static async Task<string?> LockAsync(IReadOnlyList<XDisplay> displays, CancellationToken cancel)
    {
        if (NoneBecause is { } none)
        {
            return none;
        }
        var problems = await Task.WhenAll(displays.Where(d => d.Person is not null).Select(d => OneAsync(d, cancel))).ConfigureAwait(false);
        return problems.Length == 0 ? "Nobody is logged in at a screen of this host." : problems.FirstOrDefault(p => p is not null);
    }

    private static async Task<string?> OneAsync(XDisplay display, CancellationToken cancel)
    {
        try
        {
            var asked = LinuxServices.HasSystemd && await AskLoginManagerAsync(display.User, cancel).ConfigureAwait(false);
            await using var helper = ScreenHelper.Start(display, LockProcess.Command);
            // A file for the server alone is none that its user's programs can read.
            var authority = display.Authorities.LastOrDefault(f => XAuthority.Find(f, display.Number) is not null);
            var answer = await helper.OrderAsync(new LockOrder(display.Socket, display.Cookie(), display.Name, authority, asked), ScreenJson.Default.LockOrder, ScreenJson.Default.LockAnswer, Within, cancel).ConfigureAwait(false);
            return answer.Problem is null ? null : $"{display.Name}: {answer.Problem}";
        }
        catch (Exception e) when (e is IOException or JsonException)
        {
            return $"{display.Name}: {e.Message}";
        }
    }

    private static async Task<bool> AskLoginManagerAsync(uint user, CancellationToken cancel)
    {
        var shown = await LinuxScript.RunAsync(["loginctl", "show-user", $"{user}", "--property=Display", "--value"], cancel).ConfigureAwait(false);
        return shown.Status == 0 && shown.Output.Trim() is { Length: > 0 } session && (await LinuxScript.RunAsync(["loginctl", "lock-session", session], cancel).ConfigureAwait(false)).Status == 0;
    }
}
