using System.Net.Sockets;
using System.Runtime.InteropServices;
using System.Text.Json;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Core.Jobs;
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
        var user = Native.FindUser(display.User);
        var own = SystemUser.Own();
        if (own.Id != 0 && own.Id != display.User)
        {
            throw new IOException($"The screen {screen.Name} is that of {user?.Name ?? $"user {display.User}"}, and the agent runs as {own.Name} on this host: it can't show it. Run the agent as root.");
        }
        var (ours, theirs) = Native.SocketPair();
        using var mine = new SafeSocketHandle(theirs, true);
        var line = new NetworkStream(new Socket(new SafeSocketHandle(ours, true)), ownsSocket: true);
        try
        {
            var program = Environment.ProcessPath ?? throw new IOException("The agent does not know its own file.");
            var (run, arguments) = (user ?? own).Run(program, [program, ScreenProcess.Command]);
            var error = Spawn.Start(new SpawnOrder(run, arguments) { Directory = "/", Stdin = theirs, Stdout = theirs, Environment = (user ?? own).LoginEnvironment(null) }, out var pid);
            mine.Dispose();
            if (error != 0)
            {
                throw new IOException($"What shows the screen could not be started: {Marshal.GetPInvokeErrorMessage(error)}.");
            }
            var ended = EndedAsync(pid);
            await ScreenProcess.OrderAsync(line, new ScreenOrder(display.Socket, display.Cookie(), $"{SystemName} {display.Name}", wish.Control, wish.Small), BeginsWithin, cancel).ConfigureAwait(false);
            return new ShownScreen(screen, line, ended);
        }
        catch (Exception e)
        {
            await line.DisposeAsync().ConfigureAwait(false);
            throw e switch
            {
                EndOfStreamException => new IOException($"What shows the screen has ended before it began; {(user ?? own).Name}, whose screen it is, has to be allowed to run {Environment.ProcessPath}.", e),
                SocketException or JsonException => new IOException("What shows the screen does not answer.", e),
                OperationCanceledException when !cancel.IsCancellationRequested => new IOException("What shows the screen does not answer.", e),
                _ => e,
            };
        }
    }

    private static string SystemName => Environment.MachineName;

    /// <summary>Waits on a thread of its own, as a process has no other way to be waited for.</summary>
    private static Task<string> EndedAsync(int pid)
    {
        var ended = new TaskCompletionSource<string>(TaskCreationOptions.RunContinuationsAsynchronously);
        new Thread(() => ended.SetResult(ScreenProcess.Why(LinuxPlatform.WaitFor(pid))), 64 * 1024) { IsBackground = true, Name = "wait for screen" }.Start();
        return ended.Task;
    }
}
