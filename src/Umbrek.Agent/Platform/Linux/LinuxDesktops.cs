using Umbrek.Agent.Desktop;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Wire.Desktop;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>The screens of a Linux host: those of X servers, each shown by a process of its own that runs as whose screen it is.</summary>
public sealed class LinuxDesktops : IDesktops
{
    private const string Wayland = "Somebody is logged in with Wayland, which lets no other program show the screen. Let him log in with a session of X11 (the login screen offers it), or set that as the usual one.";
    private static readonly TimeSpan BeginsWithin = TimeSpan.FromSeconds(10);

    public string NoneBecause => XDisplays.HasWayland() ? Wayland : "This host has no screen that could be shown: no X server runs on it. Start one, for example with a virtual screen: Xvfb :1 -screen 0 1280x800x24.";

    public IReadOnlyList<ScreenInfo> List() => [.. XDisplays.Find().Select(d => new ScreenInfo(d.Name, d.Person, d.IsOfWayland ? Wayland : null))];

    public async Task<ShownScreen> ShowAsync(ScreenInfo screen, DesktopWish wish, CancellationToken cancel)
    {
        var display = XDisplays.Find().FirstOrDefault(d => d.Name == screen.Name) ?? throw new IOException($"The screen {screen.Name} has gone.");
        var helper = ScreenHelper.Start(display, ScreenProcess.Command);
        try
        {
            await ScreenProcess.OrderAsync(helper, new ScreenOrder(display.Socket, display.Cookie(), $"{SystemName} {display.Name}", wish.Control, wish.Small), BeginsWithin, cancel).ConfigureAwait(false);
            return new ShownScreen(screen, helper.Line, WhyAsync(helper.Ended));
        }
        catch
        {
            await helper.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    public string? NoLockBecause => LinuxLocks.NoneBecause;

    public Task<string?> LockAsync(CancellationToken cancel) => LinuxLocks.LockAsync(XDisplays.Find(), cancel);

    private static async Task<string> WhyAsync(Task<int> ended) => ScreenProcess.Why(await ended.ConfigureAwait(false));

    private static string SystemName => Environment.MachineName;
}
