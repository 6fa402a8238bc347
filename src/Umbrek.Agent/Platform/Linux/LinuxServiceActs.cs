using System.Diagnostics;
using Umbrek.Agent.Platform.Linux.Probes;
using Umbrek.Core.Jobs;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>What is done with one service: by systemctl(1) where systemd runs, else by its init script and update-rc.d(8). Their words come through as they are.</summary>
internal sealed class LinuxServiceActs(TextWriter say)
{
    private const int NoSuch = 4;
    private const string Own = "umbrek-agent";

    public int Do(ServiceWish wish)
    {
        var name = LinuxServiceList.NameOf(wish.Name);
        if (name == Own && wish.Act is ServiceAct.Stop or ServiceAct.Disable)
        {
            say.WriteLine("This is the host's agent, without which nobody reaches it; uninstall it instead.");
            return 1;
        }
        return LinuxServices.HasSystemd ? Unit($"{name}.service", wish.Act) : LinuxServices.ScriptOf(name) is { } script ? Script(name, script, wish.Act) : Missing(name);
    }

    private int Unit(string unit, ServiceAct act)
    {
        if (Run("systemctl", ["--no-pager", "show", "--property=LoadState", "--", unit], quiet: true).Output.Trim() is "LoadState=not-found" or "")
        {
            return Missing(unit);
        }
        if (act == ServiceAct.Show)
        {
            return ShowUnit(unit);
        }
        var (status, _) = Run("systemctl", ["--no-ask-password", "--no-pager", act.ToString().ToLowerInvariant(), "--", unit]);
        return status == 0 ? Stands(unit) : status;
    }

    /// <summary>How it stands now: a start that was taken may still fail a moment later.</summary>
    private int Stands(string unit)
    {
        var shown = Run("systemctl", ["--no-pager", "show", "--property=ActiveState,SubState,UnitFileState", "--", unit], quiet: true).Output.Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(l => l.Split('=', 2)).Where(p => p.Length == 2).ToDictionary(p => p[0], p => p[1]);
        say.WriteLine($"{unit} is {shown.GetValueOrDefault("ActiveState", "unknown")} ({shown.GetValueOrDefault("SubState", "")}){(shown.GetValueOrDefault("UnitFileState") is { Length: > 0 } file ? $", {file}" : "")}.");
        return shown.GetValueOrDefault("ActiveState") == "failed" ? 1 : 0;
    }

    private int ShowUnit(string unit)
    {
        Run("systemctl", ["--no-pager", "show", "--property=Id,Description,LoadState,ActiveState,SubState,Result,UnitFileState,FragmentPath,MainPID,MemoryCurrent,StateChangeTimestamp,Requires,Wants,RequiredBy,WantedBy", "--", unit]);
        say.WriteLine("\nLast lines of its log:");
        Run("journalctl", ["--no-pager", "--quiet", "--lines=20", "--output=short-iso", $"--unit={unit}"]);
        return 0;
    }

    private int Script(string name, string script, ServiceAct act) => act switch
    {
        ServiceAct.Enable or ServiceAct.Disable => Run("update-rc.d", [name, act == ServiceAct.Enable ? "enable" : "disable"]).Status,
        ServiceAct.Show => ShowScript(script),
        _ => Run(script, [act.ToString().ToLowerInvariant()]).Status is not 0 and var failed ? failed : Run(script, ["status"]).Status is 0 == (act != ServiceAct.Stop) ? 0 : 1,
    };

    private int ShowScript(string script)
    {
        foreach (var line in File.ReadLines(script).SkipWhile(l => !l.StartsWith("### BEGIN INIT INFO", StringComparison.Ordinal)).Skip(1).TakeWhile(l => !l.StartsWith("### END INIT INFO", StringComparison.Ordinal)))
        {
            say.WriteLine(line.TrimStart('#', ' '));
        }
        Run(script, ["status"]);
        return 0;
    }

    private int Missing(string name)
    {
        say.WriteLine($"There is no service {name} on this host.");
        return NoSuch;
    }

    private (int Status, string Output) Run(string program, IReadOnlyList<string> arguments, bool quiet = false)
    {
        try
        {
            using var process = Process.Start(new ProcessStartInfo(program, arguments) { RedirectStandardOutput = quiet, RedirectStandardInput = true })!;
            process.StandardInput.Close();
            var output = quiet ? process.StandardOutput.ReadToEnd() : "";
            process.WaitForExit();
            return (process.ExitCode, output);
        }
        catch (System.ComponentModel.Win32Exception e)
        {
            say.WriteLine($"{program} can't be run: {e.Message}");
            return (127, "");
        }
    }
}
