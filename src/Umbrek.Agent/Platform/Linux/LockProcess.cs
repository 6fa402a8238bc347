using Umbrek.Agent.Desktop;
using Umbrek.Agent.Platform.Linux.X11;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>
/// A <see cref="ScreenHelper"/> that has its screen locked by what is installed, as whose screen it is. Whether it is locked is not believed
/// but looked at: whoever locks a screen has its keyboard.
/// </summary>
internal static class LockProcess
{
    public const string Command = "lock";

    private const byte HasAnother = 1;
    private const int Done = 0;
    private const int Failed = 3;

    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(50);
    private static readonly TimeSpan Within = TimeSpan.FromSeconds(4);

    /// <returns>What the process ends with.</returns>
    public static async Task<int> RunAsync(TimeProvider time, CancellationToken cancel)
    {
        using var line = ScreenHelper.Own();
        var order = await ScreenHelper.ReadLineAsync(line, ScreenJson.Default.LockOrder, cancel).ConfigureAwait(false);
        string? problem;
        try
        {
            await using var connection = await XConnection.OpenAsync(order.Socket, order.Cookie, cancel).ConfigureAwait(false);
            problem = await LockAsync(connection, order, time, cancel).ConfigureAwait(false);
        }
        catch (Exception e) when (e is IOException or XErrorException)
        {
            problem = e.Message;
        }
        await ScreenHelper.WriteLineAsync(line, new LockAnswer(problem), ScreenJson.Default.LockAnswer, cancel).ConfigureAwait(false);
        return problem is null ? Done : Failed;
    }

    private static async Task<string?> LockAsync(XConnection connection, LockOrder order, TimeProvider time, CancellationToken cancel)
    {
        if (order.IsAsked && await IsLockedAsync(connection, () => true, time, cancel).ConfigureAwait(false))
        {
            return null;
        }
        var tried = new List<string>();
        foreach (var locker in Locker.Installed())
        {
            tried.Add(locker.Program);
            var ended = Start(locker, order);
            if (ended is not null && await IsLockedAsync(connection, () => !ended.IsCompleted || (!locker.Stays && ended.Result == 0), time, cancel).ConfigureAwait(false))
            {
                return null;
            }
        }
        return tried.Count > 0 ? $"{string.Join(" and ", tried)} did not lock the screen." : "The login manager was asked to lock it, and nothing has; install a program that locks a screen.";
    }

    /// <returns>Completes with what it ends with; null where it could not be started.</returns>
    private static Task<int>? Start(Locker locker, LockOrder order)
    {
        var own = SystemUser.Own();
        List<string> environment = [.. own.LoginEnvironment(null), $"DISPLAY={order.Display}"];
        if (order.Authority is { } authority)
        {
            environment.Add($"XAUTHORITY={authority}");
        }
        var bus = $"/run/user/{own.Id}/bus";
        if (File.Exists(bus))
        {
            environment.Add($"DBUS_SESSION_BUS_ADDRESS=unix:path={bus}");
        }
        var start = new SpawnOrder(Installed.Find(locker.Program)!, [locker.Program, .. locker.Arguments]) { Directory = "/", Environment = environment };
        return Spawn.Start(start, out var pid) == 0 ? Task.Run(() => LinuxPlatform.WaitFor(pid)) : null;
    }

    /// <param name="mayYet">Whether what is to lock it may do so yet.</param>
    private static async Task<bool> IsLockedAsync(XConnection connection, Func<bool> mayYet, TimeProvider time, CancellationToken cancel)
    {
        var began = time.GetTimestamp();
        do
        {
            // GrabKeyboard, and UngrabKeyboard where that went well.
            var reply = await connection.AskAsync(new XRequest(31).U32(connection.Setup.Root).U32(0).U8(1).U8(1).U16(0)).ConfigureAwait(false);
            if (reply[1] == HasAnother)
            {
                return mayYet();
            }
            connection.Send(new XRequest(32).U32(0));
            await Task.Delay(Look, time, cancel).ConfigureAwait(false);
        }
        while (mayYet() && time.GetElapsedTime(began) < Within);
        return false;
    }
}
