using Umbrek.Agent.Desktop;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Wire.Desktop;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>The screens of a Linux host: those of X servers, each shown by a process of its own that runs as whose screen it is.</summary>
public sealed class LinuxDesktops(StateDirectory state, TimeProvider time) : IDesktops, IDisposable
{
    private const string Wayland = "Somebody is logged in with Wayland, which lets no other program show the screen. Let him log in with a session of X11 (the login screen offers it), or set that as the usual one.";
    private static readonly TimeSpan BeginsWithin = TimeSpan.FromSeconds(10);

    private readonly SemaphoreSlim giving = new(1, 1);

    public string NoneBecause => XDisplays.HasWayland() ? Wayland : "This host has no screen: no X server runs on it.";

    public string? NotGivenBecause => XDisplays.HasWayland() ? "It is given no other screen meanwhile." : GivenScreen.NoneBecause;

    public IReadOnlyList<ScreenInfo> List() => [.. Displays().Select(d => new ScreenInfo(d.Name, d.Person, d.IsOfWayland ? Wayland : null, d.IsGiven))];

    public async Task<ShownScreen> ShowAsync(ScreenInfo screen, DesktopWish wish, CancellationToken cancel)
    {
        var display = XDisplays.Find().FirstOrDefault(d => d.Name == screen.Name) ?? throw new IOException($"The screen {screen.Name} has gone.");
        var helper = ScreenHelper.Start(display, ScreenProcess.Command);
        try
        {
            await ScreenProcess.OrderAsync(helper, new ScreenOrder(display.Socket, display.Cookie(), $"{SystemName} {display.Name}", wish.Control, wish.Small, display.IsGiven && wish.Small is null ? display.Authorities[0] : null), BeginsWithin, cancel).ConfigureAwait(false);
            return new ShownScreen(screen, helper.Line, WhyAsync(helper.Ended));
        }
        catch
        {
            await helper.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    public async Task<bool> GiveAsync(CancellationToken cancel)
    {
        await giving.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            // Another technician may have come first.
            if (Displays().Count > 0)
            {
                return false;
            }
            await GivenScreen.MakeAsync(state, cancel).ConfigureAwait(false);
            return true;
        }
        finally
        {
            giving.Release();
        }
    }

    private IReadOnlyList<XDisplay> Displays() => GivenScreen.EndLeft(XDisplays.Find(), time);

    public void Dispose() => giving.Dispose();

    public string? NoLockBecause => LinuxLocks.NoneBecause;

    public Task<string?> LockAsync(CancellationToken cancel) => LinuxLocks.LockAsync(XDisplays.Find(), cancel);

    private static async Task<string> WhyAsync(Task<int> ended) => ScreenProcess.Why(await ended.ConfigureAwait(false));

    private static string SystemName => Environment.MachineName;
}
