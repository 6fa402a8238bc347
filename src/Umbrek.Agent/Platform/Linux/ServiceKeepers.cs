using System.Diagnostics;
using System.Globalization;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Enrolment;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>What starts an installed agent with the system and stops it.</summary>
public interface IServiceKeeper
{
    /// <summary>As <see cref="Installation.KeptBy"/> names it.</summary>
    string Name { get; }

    /// <summary>Null leaves the agent's words to the system's log.</summary>
    string? LogFile { get; }

    void Install(Installation installation);
    void Start(Installation installation);
    void Stop(Installation installation);
    void Remove(Installation installation);
}

public static class ServiceKeepers
{
    /// <summary>The one that this system has.</summary>
    public static IServiceKeeper Find() =>
        // sd_booted(3)
        Directory.Exists("/run/systemd/system") ? new SystemdKeeper()
        : Directory.Exists(InitScriptKeeper.Directory) ? new InitScriptKeeper()
        : new NoKeeper();

    internal static void Run(string program, params string[] arguments)
    {
        using var process = Process.Start(new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true, RedirectStandardError = true })
            ?? throw new IOException($"{program} could not be started.");
        var words = process.StandardError.ReadToEndAsync();
        process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        if (process.ExitCode != 0)
        {
            throw new IOException($"'{program} {string.Join(' ', arguments)}' failed: {words.Result.Trim()}");
        }
    }

    /// <summary>Starts the launch script by itself, as the leader of a session of its own, from the root directory.</summary>
    internal static void StartLaunch(Installation installation)
    {
        var error = Spawn.Start("/bin/sh", ["sh", installation.Launch], "/", -1, -1, out _);
        if (error != 0)
        {
            throw new IOException($"{installation.Launch} could not be started: {System.Runtime.InteropServices.Marshal.GetPInvokeErrorMessage(error)}.");
        }
    }

    /// <summary>Ends the launch script and with it the agent; what it ran by order goes on.</summary>
    internal static void StopLaunch(Installation installation)
    {
        var file = Path.Combine(installation.Directory, "launch.pid");
        if (!File.Exists(file) || !int.TryParse(File.ReadAllText(file).Trim(), CultureInfo.InvariantCulture, out var pid) || !IsLaunch(pid, installation))
        {
            return;
        }
        const int term = 15;
        const int kill = 9;
        _ = Native.Kill(pid, term);
        for (var waited = 0; IsLaunch(pid, installation); waited++)
        {
            if (waited == 300)
            {
                _ = Native.Kill(pid, kill);
            }
            Thread.Sleep(50);
        }
    }

    private static bool IsLaunch(int pid, Installation installation)
    {
        try
        {
            return File.ReadAllText($"/proc/{pid}/cmdline").Contains(installation.Launch, StringComparison.Ordinal)
                && !File.ReadAllText($"/proc/{pid}/stat").Contains(") Z ", StringComparison.Ordinal);
        }
        catch (IOException)
        {
            return false;
        }
    }
}

/// <summary>A systemd unit.</summary>
public sealed class SystemdKeeper : IServiceKeeper
{
    private static string OwnUnit => Path.Combine("/etc/systemd/system", UnitFile.Name);

    public string Name => "systemd";

    public string? LogFile => null;

    public void Install(Installation installation)
    {
        // A package brings its own.
        if (!File.Exists(Path.Combine("/lib/systemd/system", UnitFile.Name)) || installation.Directory != UnitFile.DefaultProgramDirectory)
        {
            File.WriteAllText(OwnUnit, UnitFile.Text(installation.Directory));
        }
        ServiceKeepers.Run("systemctl", "daemon-reload");
        ServiceKeepers.Run("systemctl", "enable", UnitFile.Name);
    }

    public void Start(Installation installation) => ServiceKeepers.Run("systemctl", "restart", UnitFile.Name);

    public void Stop(Installation installation) => ServiceKeepers.Run("systemctl", "stop", UnitFile.Name);

    public void Remove(Installation installation)
    {
        ServiceKeepers.Run("systemctl", "disable", UnitFile.Name);
        File.Delete(OwnUnit);
        ServiceKeepers.Run("systemctl", "daemon-reload");
    }
}

/// <summary>A script for systems that start with those (LSB Core, "System Initialization").</summary>
public sealed class InitScriptKeeper : IServiceKeeper
{
    public const string Directory = "/etc/init.d";
    private const string Links = "/usr/sbin/update-rc.d";
    private static string Script => Path.Combine(Directory, "umbrek-agent");

    public string Name => "init script";

    public string? LogFile => "/var/log/umbrek-agent.log";

    public void Install(Installation installation)
    {
        File.WriteAllText(Script, $$"""
            #!/bin/sh
            ### BEGIN INIT INFO
            # Provides:          umbrek-agent
            # Required-Start:    $remote_fs $network
            # Required-Stop:     $remote_fs
            # Default-Start:     2 3 4 5
            # Default-Stop:      0 1 6
            # Short-Description: Keeps this computer reachable for the people who look after it
            ### END INIT INFO
            launch={{installation.Launch}}
            file={{installation.Directory}}/launch.pid
            alive() { [ -f "$file" ] && tr '\0' ' ' <"/proc/$(cat "$file")/cmdline" 2>/dev/null | grep -q "$launch"; }
            case "$1" in
              start) alive || setsid sh "$launch" </dev/null >/dev/null 2>&1 & ;;
              stop) if alive; then kill -TERM "$(cat "$file")"; while alive; do sleep 0.1; done; fi ;;
              restart|force-reload) "$0" stop; "$0" start ;;
              status) if alive; then echo "umbrek-agent runs"; else echo "umbrek-agent does not run"; exit 3; fi ;;
              *) echo "Usage: $0 start|stop|restart|status" >&2; exit 2 ;;
            esac

            """);
        OwnerOnly.MakeProgram(Script);
        if (File.Exists(Links))
        {
            ServiceKeepers.Run(Links, "umbrek-agent", "defaults");
        }
    }

    public void Start(Installation installation)
    {
        ServiceKeepers.StopLaunch(installation);
        ServiceKeepers.StartLaunch(installation);
    }

    public void Stop(Installation installation) => ServiceKeepers.StopLaunch(installation);

    public void Remove(Installation installation)
    {
        File.Delete(Script);
        if (File.Exists(Links))
        {
            ServiceKeepers.Run(Links, "umbrek-agent", "remove");
        }
        File.Delete(LogFile!);
        File.Delete(LogFile + ".1");
    }
}

/// <summary>A system that starts nothing by itself: the agent is kept running, but not over a restart of the system.</summary>
public sealed class NoKeeper : IServiceKeeper
{
    public string Name => "nothing";

    public string? LogFile => "/var/log/umbrek-agent.log";

    public void Install(Installation installation)
    {
    }

    public void Start(Installation installation)
    {
        ServiceKeepers.StopLaunch(installation);
        ServiceKeepers.StartLaunch(installation);
    }

    public void Stop(Installation installation) => ServiceKeepers.StopLaunch(installation);

    public void Remove(Installation installation) => File.Delete(LogFile!);
}
