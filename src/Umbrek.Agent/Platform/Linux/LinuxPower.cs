using System.ComponentModel;
using System.Diagnostics;
using System.Globalization;
using Umbrek.Agent.Platform.Linux.Probes;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>
/// By systemctl(1) and loginctl(1) where systemd runs; else by reboot(8) and poweroff(8), and by hanging up terminals. In a container the kernel
/// gives reboot(2) the meaning of ending its first process (pid_namespaces(7)).
/// </summary>
internal sealed class LinuxPower(string loginsFile = Logins.File) : IPowerControl
{
    private const int SigHup = 1;
    private const string SleepFile = "/sys/power/state";

    private static readonly TimeSpan LastMoments = TimeSpan.FromSeconds(2);

    /// <summary>How long the programs of somebody who is logged out have to end by themselves.</summary>
    private static readonly TimeSpan Mercy = TimeSpan.FromSeconds(3);

    public IReadOnlyList<string> LoggedIn() => [.. Logins.Read(loginsFile).Select(l => l.Name).Distinct().Order(StringComparer.Ordinal)];

    public string? Restart() => LinuxServices.HasSystemd ? Run("systemctl", "--no-ask-password", "reboot") : IsContainer ? EndContainer("restart") : Run("reboot");

    public string? ShutDown() => LinuxServices.HasSystemd ? Run("systemctl", "--no-ask-password", "poweroff") : IsContainer ? EndContainer("off") : Run("poweroff");

    public string? Sleep()
    {
        if (LinuxServices.HasSystemd)
        {
            return Run("systemctl", "--no-ask-password", "suspend");
        }
        if (IsContainer || LinuxPlatform.ReadLine(SleepFile)?.Split(' ').Contains("mem") != true)
        {
            return "its system can't sleep.";
        }
        try
        {
            File.WriteAllText(SleepFile, "mem");
            return null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return e.Message;
        }
    }

    public string? LogOut(string person) => LinuxServices.HasSystemd ? Run("loginctl", "--no-ask-password", "terminate-user", person) : HangUp(person);

    public string? Lock(string person)
    {
        if (!LinuxServices.HasSystemd)
        {
            return "no login manager runs here that could lock it (systemd-logind).";
        }
        // Columns are session, user's number, user's name, and more.
        var (problem, listed) = Ask("loginctl", "--no-legend", "list-sessions");
        if (problem is not null)
        {
            return problem;
        }
        var sessions = listed.Split('\n').Select(l => l.Split(' ', StringSplitOptions.RemoveEmptyEntries)).Where(f => f.Length >= 3 && f[2] == person).Select(f => f[0]).ToList();
        return sessions.Count == 0 ? "the login manager knows no session of theirs." : sessions.Select(s => Run("loginctl", "lock-session", s)).FirstOrDefault(p => p is not null);
    }

    /// <summary>The number of the first namespace of processes is fixed (PROC_PID_INIT_INO in the kernel's proc_ns.h).</summary>
    private static bool IsContainer => new FileInfo("/proc/self/ns/pid").LinkTarget is { } space && space != "pid:[4026531836]";

    /// <summary>What is said of it has a moment to get away first: everything here ends at once.</summary>
    private static string? EndContainer(string how)
    {
        const int mayReboot = 22;
        var able = File.ReadLines("/proc/self/status").FirstOrDefault(l => l.StartsWith("CapEff:", StringComparison.Ordinal))?[7..].Trim();
        if (!ulong.TryParse(able, NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var capabilities) || (capabilities >> mayReboot & 1) == 0)
        {
            return "it is a container that may not end itself (capabilities(7), CAP_SYS_BOOT); whatever runs it has to do that.";
        }
        var program = Environment.ProcessPath!;
        return Spawn.Start(program, [program, GoDown, how], "/", -1, -1, out _) is 0 ? null : "its end could not be begun.";
    }

    /// <summary>Name of the command that ends a container.</summary>
    internal const string GoDown = "go-down";

    /// <inheritdoc cref="GoDown"/>
    internal static async Task<string?> GoDownAsync(string how)
    {
        await Task.Delay(LastMoments).ConfigureAwait(false);
        return Native.Reboot(how == "restart" ? Native.RebootRestart : Native.RebootPowerOff);
    }

    /// <summary>As the end of a line would: what runs on the person's terminals is told, and what stays is ended.</summary>
    private string? HangUp(string person)
    {
        var terminals = Logins.Read(loginsFile).Where(l => l.Name == person).Select(l => l.Terminal).ToHashSet(StringComparer.Ordinal);
        List<int> Left() => [.. Processes().Where(p => terminals.Contains(p.Terminal)).Select(p => p.Pid)];
        foreach (var pid in Left())
        {
            _ = Native.Kill(pid, SigHup);
        }
        var since = Stopwatch.GetTimestamp();
        while (Left().Count > 0 && Stopwatch.GetElapsedTime(since) < Mercy)
        {
            Thread.Sleep(50);
        }
        foreach (var pid in Left())
        {
            _ = Native.Kill(pid, Native.SigKill);
        }
        return terminals.All(t => t.StartsWith(':')) ? "only a login manager (systemd-logind) can end a desktop's session." : null;
    }

    private static IEnumerable<(int Pid, string Terminal)> Processes()
    {
        foreach (var directory in Directory.EnumerateDirectories("/proc"))
        {
            if (int.TryParse(Path.GetFileName(directory), out var pid) && pid != Environment.ProcessId && LinuxPlatform.ReadLine(Path.Combine(directory, "stat")) is { } stat
                && stat[(stat.LastIndexOf(')') + 2)..].Split(' ') is [_, _, _, _, var tty, ..] && NameOf(int.Parse(tty, CultureInfo.InvariantCulture)) is { } name)
            {
                yield return (pid, name);
            }
        }
    }

    /// <summary>proc(5), field tty_nr: bits 8 to 15 are the major number, 0 to 7 and 20 to 31 the minor one; terminals have 4 and 136 to 143 (devices.txt).</summary>
    private static string? NameOf(int tty)
    {
        var (major, minor) = ((tty >> 8) & 0xff, (tty & 0xff) | ((tty >> 12) & 0xfff00));
        return major is >= 136 and <= 143 ? string.Create(CultureInfo.InvariantCulture, $"pts/{(major - 136) * 256 + minor}") : major == 4 && minor is > 0 and < 64 ? string.Create(CultureInfo.InvariantCulture, $"tty{minor}") : null;
    }

    private static string? Run(string program, params string[] arguments) => Ask(program, arguments).Problem;

    private static (string? Problem, string Output) Ask(string program, params string[] arguments)
    {
        try
        {
            using var process = Process.Start(new ProcessStartInfo(program, arguments) { RedirectStandardInput = true, RedirectStandardOutput = true, RedirectStandardError = true })!;
            process.StandardInput.Close();
            var complaint = process.StandardError.ReadToEndAsync();
            var output = process.StandardOutput.ReadToEnd();
            process.WaitForExit();
            var said = complaint.GetAwaiter().GetResult().Trim();
            return (process.ExitCode == 0 ? null : $"{program} ended with {process.ExitCode}{(said.Length == 0 ? "." : $": {said}")}", output);
        }
        catch (Win32Exception e)
        {
            return ($"{program} can't be run: {e.Message}.", "");
        }
    }
}
