using System.Globalization;
using System.Security.Cryptography;
using Microsoft.Win32.SafeHandles;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux;

/// <param name="Authority">The file that lets others in at it, which is not there yet. Once it has gone, or nobody has touched it for long, the screen goes.</param>
internal sealed record GivenOrder(string Authority);

/// <param name="Problem">Why there is no screen, or null.</param>
internal sealed record GivenAnswer(string? Problem);

/// <summary>
/// A screen for a host that has none: a <see cref="ScreenHelper"/> that starts an X server without a monitor, what moves windows about there,
/// and a terminal. It outlives the agent, and ends by itself when no technician has been there for a while.
/// </summary>
public static class GivenScreen
{
    public const string Command = "give-screen";

    /// <summary>How often whoever shows it says so.</summary>
    public static readonly TimeSpan Touched = TimeSpan.FromMinutes(1);

    private const string Server = "Xvfb";
    private const string Ending = ".screen";

    /// <summary>Out of the way of those that the system numbers itself.</summary>
    private const int FirstNumber = 64;
    private const int Numbers = 64;
    private const int Tries = 4;

    private const int Done = 0;
    private const int Failed = 3;
    private const int MostTried = 200;

    /// <summary>A terminal, and what moves it about.</summary>
    private const int AtFirst = 2;
    private const int CookieBytes = 16;

    /// <summary>Behind the windows.</summary>
    private const uint Ground = 0x1A1F29;

    /// <summary>No window that somebody works in is as small.</summary>
    private const int LeastWindow = 32;
    private const byte Viewable = 2;

    /// <summary>Whoever keeps a screen that should have gone so long ago has ended without ending it.</summary>
    private static readonly TimeSpan Late = TimeSpan.FromMinutes(2);

    private static readonly TimeSpan BeginsWithin = TimeSpan.FromSeconds(8);
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan Soon = TimeSpan.FromMilliseconds(50);

    /// <summary>What moves windows about; the first that is installed.</summary>
    private static readonly string[] managers = ["openbox", "xfwm4", "icewm", "fluxbox", "jwm", "metacity", "marco", "twm", "x-window-manager"];

    /// <summary>Terminals that don't have it written down as a login, for nobody is there.</summary>
    private static readonly (string Program, string[] Arguments)[] terminals =
    [
        ("xterm", ["+ut", "-ls", "-fa", "Monospace", "-fs", "11", "-geometry", "100x28+60+60"]),
        ("lxterminal", []),
        ("xfce4-terminal", ["--disable-server"]),
        ("mate-terminal", ["--disable-factory"]),
        ("x-terminal-emulator", []),
    ];

    /// <summary>Why there can be none on this host; null where there can.</summary>
    public static string? NoneBecause =>
        Installed.Find(Server) is null ? $"It can be given one once {Server} is installed, which is an X server without a monitor."
            : Terminal() is null ? "It can be given one once a terminal for X is installed, such as xterm."
            : null;

    /// <summary>Whether what lets one in at an X server is such a file.</summary>
    public static bool IsOne(string authority) => authority.EndsWith(Ending, StringComparison.Ordinal) && Path.GetFileName(Path.GetDirectoryName(authority)) == StateDirectory.ScreensName;

    /// <summary>The agent's side: has one made.</summary>
    /// <exception cref="IOException">There is none, and why.</exception>
    public static async Task MakeAsync(StateDirectory state, CancellationToken cancel)
    {
        OwnerOnly.CreateDirectory(state.Screens);
        var authority = Path.Combine(state.Screens, $"{Guid.NewGuid():N}{Ending}");
        var own = SystemUser.Own();
        await using var helper = ScreenHelper.Start(own.Id, "of this host", Command);
        var answer = await helper.OrderAsync(new GivenOrder(authority), ScreenJson.Default.GivenOrder, ScreenJson.Default.GivenAnswer, BeginsWithin * Tries, cancel).ConfigureAwait(false);
        if (answer.Problem is { } problem)
        {
            throw new IOException(problem);
        }
    }

    /// <summary>Ends screens that were left behind, as whoever kept them was killed.</summary>
    /// <returns>The others.</returns>
    public static IReadOnlyList<XDisplay> EndLeft(IReadOnlyList<XDisplay> displays, TimeProvider time)
    {
        var stay = new List<XDisplay>();
        foreach (var display in displays)
        {
            // A file that has gone is as old as can be.
            if (!display.IsGiven || time.GetUtcNow().UtcDateTime - File.GetLastWriteTimeUtc(display.Authorities[0]) < DesktopView.GivenStays + Late)
            {
                stay.Add(display);
                continue;
            }
            _ = Native.Kill(display.Server, Native.SigTerm);
            File.Delete(display.Authorities[0]);
        }
        return stay;
    }

    /// <summary>Says that somebody is there, now and then until it is disposed.</summary>
    public static IDisposable Touch(string authority, TimeProvider time) => time.CreateTimer(_ => TouchOnce(authority, time), null, TimeSpan.Zero, Touched);

    private static void TouchOnce(string authority, TimeProvider time)
    {
        try
        {
            File.SetLastWriteTimeUtc(authority, time.GetUtcNow().UtcDateTime);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            // It goes just now.
        }
    }

    /// <returns>What the process ends with.</returns>
    public static async Task<int> RunAsync(TimeProvider time, CancellationToken cancel)
    {
        using var line = ScreenHelper.Own();
        var order = await ScreenHelper.ReadLineAsync(line, ScreenJson.Default.GivenOrder, cancel).ConfigureAwait(false);
        try
        {
            await KeepAsync(order.Authority, () => ScreenHelper.WriteLineAsync(line, new GivenAnswer(null), ScreenJson.Default.GivenAnswer, cancel), time, cancel).ConfigureAwait(false);
            return Done;
        }
        catch (Exception e) when (e is IOException or XErrorException)
        {
            await ScreenHelper.WriteLineAsync(line, new GivenAnswer(e.Message), ScreenJson.Default.GivenAnswer, cancel).ConfigureAwait(false);
            return Failed;
        }
    }

    /// <summary>Has a screen, as long as the file is there and touched now and then.</summary>
    /// <param name="made">Called once it is there.</param>
    /// <exception cref="IOException">There is none, and why.</exception>
    public static async Task KeepAsync(string authority, Func<Task> made, TimeProvider time, CancellationToken cancel)
    {
        var cookie = RandomNumberGenerator.GetBytes(CookieBytes);
        XAuthority.Write(authority, cookie);
        try
        {
            var (number, ended, stop) = await StartServerAsync(authority, time, cancel).ConfigureAwait(false);
            try
            {
                await using var connection = await XConnection.OpenAsync(XDisplays.SocketOf(number), cookie, cancel).ConfigureAwait(false);
                Paint(connection);
                List<string> environment = [.. SystemUser.Own().LoginEnvironment(null), $"DISPLAY=:{number}", $"XAUTHORITY={authority}"];
                await made().ConfigureAwait(false);
                await KeepAsync(connection, authority, ended, environment, time, cancel).ConfigureAwait(false);
            }
            finally
            {
                stop();
                await ended.ConfigureAwait(false);
            }
        }
        finally
        {
            File.Delete(authority);
        }
    }

    /// <summary>
    /// A terminal is there whenever there is nothing else: who has closed his last window is not left without any. It comes before what moves
    /// windows about, which may overlook one that comes while it begins.
    /// </summary>
    private static async Task KeepAsync(XConnection connection, string authority, Task ended, List<string> environment, TimeProvider time, CancellationToken cancel)
    {
        var (terminal, manager) = (Task.CompletedTask, Task.CompletedTask);
        var (isActive, tried, starts) = (false, 0, 0);
        Task Begin(string program, string[] arguments)
        {
            starts++;
            return Start(program, arguments, environment);
        }
        while (!ended.IsCompleted && !cancel.IsCancellationRequested && File.Exists(authority) && time.GetUtcNow().UtcDateTime - File.GetLastWriteTimeUtc(authority) < DesktopView.GivenStays)
        {
            try
            {
                if (!await IsWorkedInAsync(connection).ConfigureAwait(false))
                {
                    terminal = terminal.IsCompleted && Terminal() is var (program, arguments) ? Begin(program, arguments) : terminal;
                }
                else if (manager.IsCompleted)
                {
                    manager = managers.Select(Installed.Find).FirstOrDefault(p => p is not null) is { } found ? Begin(found, []) : manager;
                    isActive |= manager.IsCompleted;
                }
                else if (!isActive)
                {
                    // Some have no such list.
                    isActive = await ActivateAsync(connection).ConfigureAwait(false) || ++tried == MostTried;
                }
            }
            catch (Exception e) when (e is IOException or XErrorException)
            {
                // A window went meanwhile, or the server does.
            }
            // What ends as soon as it begins is begun again, and not without a pause.
            await Task.WhenAny(ended, Task.Delay(isActive || starts > AtFirst ? Look : Soon, time, cancel)).ConfigureAwait(false);
        }
    }

    private static (string Program, string[] Arguments)? Terminal()
    {
        foreach (var (name, arguments) in terminals)
        {
            if (Installed.Find(name) is { } program)
            {
                return (program, arguments);
            }
        }
        return null;
    }

    /// <summary>Starts the X server, which says that it listens (Xserver(1), -displayfd).</summary>
    /// <returns>Its number, what completes when it ends, and what ends it.</returns>
    private static async Task<(string Number, Task Ended, Action Stop)> StartServerAsync(string authority, TimeProvider time, CancellationToken cancel)
    {
        var program = Installed.Find(Server) ?? throw new IOException(NoneBecause);
        foreach (var number in Enumerable.Range(FirstNumber, Numbers).Select(n => n.ToString(CultureInfo.InvariantCulture)).Where(n => !File.Exists(XDisplays.SocketOf(n)) && !File.Exists($"/tmp/.X{n}-lock")).Take(Tries))
        {
            var (read, write) = LinuxCommandRunner.Pipe();
            using var says = new FileStream(new SafeFileHandle(read, true), FileAccess.Read, bufferSize: 0);
            int pid;
            using (new SafeFileHandle(write, true))
            {
                string[] arguments = [Server, $":{number}", "-displayfd", "3", "-auth", authority, "-nolisten", "tcp", "-noreset", "-screen", "0", "1280x800x24"];
                if (Spawn.Start(new SpawnOrder(program, arguments) { Directory = "/", Third = write }, out pid) is not 0 and var error)
                {
                    throw new IOException($"{Server}, which gives this host a screen, could not be started: {System.Runtime.InteropServices.Marshal.GetPInvokeErrorMessage(error)}.");
                }
            }
            var ended = EndedAsync(pid);
            void Stop()
            {
                if (!ended.IsCompleted)
                {
                    _ = Native.Kill(pid, Native.SigTerm);
                }
            }
            try
            {
                if (await IsReadyAsync(says, cancel).WaitAsync(BeginsWithin, time, cancel).ConfigureAwait(false))
                {
                    return (number, ended, Stop);
                }
            }
            catch (TimeoutException)
            {
                Stop();
            }
        }
        throw new IOException($"{Server}, which gives this host a screen, ends as soon as it begins. Run it there by hand to see why: {Server} :{FirstNumber}.");
    }

    /// <summary>Waits for the line that it says: before all of that is read, it has not begun.</summary>
    private static async Task<bool> IsReadyAsync(Stream says, CancellationToken cancel)
    {
        var one = new byte[1];
        while (await says.ReadAsync(one, cancel).ConfigureAwait(false) > 0)
        {
            if (one[0] == '\n')
            {
                return true;
            }
        }
        return false;
    }

    private static Task Start(string program, string[] arguments, List<string> environment)
    {
        var order = new SpawnOrder(program, [Path.GetFileName(program), .. arguments]) { Directory = SystemUser.Own().Home is var home && Directory.Exists(home) ? home : "/", Environment = environment };
        return Spawn.Start(order, out var pid) == 0 ? EndedAsync(pid) : Task.CompletedTask;
    }

    private static Task<int> EndedAsync(int pid) => Task.Factory.StartNew(() => LinuxPlatform.WaitFor(pid), CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);

    private static void Paint(XConnection connection)
    {
        const uint backPixel = 0x2;
        connection.Send(new XRequest(2).U32(connection.Setup.Root).U32(backPixel).U32(Ground));
        connection.Send(new XRequest(61).U32(connection.Setup.Root).Skip(8));
    }

    /// <summary>Gives the keyboard to the one window that is there, as who moves windows about may leave it to nobody (EWMH 1.5, _NET_ACTIVE_WINDOW).</summary>
    /// <returns>Whether he has that window by now.</returns>
    private static async Task<bool> ActivateAsync(XConnection connection)
    {
        const byte clientMessage = 33;
        const uint toWhoManages = 0x180000;
        const int fromUser = 2;
        var root = connection.Setup.Root;
        var managed = await connection.AskAsync(new XRequest(20).U32(root).U32(await connection.AtomAsync("_NET_CLIENT_LIST").ConfigureAwait(false)).U32(0).U32(0).U32(1)).ConfigureAwait(false);
        if (XReply.U32(managed, 16) == 0)
        {
            return false;
        }
        var active = await connection.AtomAsync("_NET_ACTIVE_WINDOW").ConfigureAwait(false);
        connection.Send(new XRequest(25).U32(root).U32(toWhoManages).U8(clientMessage).U8(32).U16(0).U32(XReply.U32(managed, 32)).U32(active).U32(fromUser).Skip(16));
        return true;
    }

    /// <summary>Whether there is a window on the screen that somebody could work in.</summary>
    private static async Task<bool> IsWorkedInAsync(XConnection connection)
    {
        // QueryTree, and GetWindowAttributes and GetGeometry of each that is there.
        var tree = await connection.AskAsync(new XRequest(15).U32(connection.Setup.Root)).ConfigureAwait(false);
        var screen = new ScreenRect(0, 0, connection.Setup.Width, connection.Setup.Height);
        for (var i = 0; i < XReply.U16(tree, 16); i++)
        {
            var window = XReply.U32(tree, 32 + i * 4);
            try
            {
                if ((await connection.AskAsync(new XRequest(3).U32(window)).ConfigureAwait(false))[26] != Viewable)
                {
                    continue;
                }
                var at = await connection.AskAsync(new XRequest(14).U32(window)).ConfigureAwait(false);
                var seen = new ScreenRect(XReply.S16(at, 12), XReply.S16(at, 14), XReply.U16(at, 16), XReply.U16(at, 18)).Intersect(screen);
                if (seen.Width >= LeastWindow && seen.Height >= LeastWindow)
                {
                    return true;
                }
            }
            catch (XErrorException)
            {
                // It went meanwhile.
            }
        }
        return false;
    }
}
