using Umbrek.Core.Health;

namespace Umbrek.Agent.Platform.Linux.Probes;

/// <summary>
/// Services of this system: units where systemd runs (systemctl(1)), else init scripts (Linux Standard Base Core 5.0, 22.2 "Init Script Actions").
/// </summary>
public static class LinuxServices
{
    internal const string InitScripts = "/etc/init.d";

    public static bool HasSystemd => Directory.Exists("/run/systemd/system");

    public static async Task<ProbeReading> LookAsync(string name, CancellationToken cancel)
    {
        if (!HasSystemd)
        {
            return ScriptOf(name) is not { } script ? NoSuch(name) : ReadStatus(name, await LinuxScript.RunAsync([script, "status"], cancel).ConfigureAwait(false));
        }
        var end = await LinuxScript.RunAsync(["systemctl", "show", "--property=LoadState,ActiveState,SubState,Result", "--", name], cancel).ConfigureAwait(false);
        return end.Status == 0 ? ReadUnit(name, end.Output) : ProbeReading.Unknown($"systemctl did not tell about {name}: {end.Output.Trim()}");
    }

    public static async Task<ProbeReading> RestartAsync(string name, CancellationToken cancel)
    {
        IReadOnlyList<string> command = HasSystemd ? ["systemctl", "--no-ask-password", "restart", "--", name] : ScriptOf(name) is { } script ? [script, "restart"] : [];
        if (command.Count == 0)
        {
            return ProbeReading.Failed($"there is no service {name} to start again.");
        }
        var end = await LinuxScript.RunAsync(command, cancel).ConfigureAwait(false);
        var said = end.Output.Trim().Split('\n')[0];
        return end.Status == 0 ? ProbeReading.Well($"service {name} was started again.") : ProbeReading.Failed($"service {name} could not be started again ({end.Status}){(said.Length == 0 ? "." : $": {said}")}");
    }

    /// <summary>Properties like "ActiveState=active".</summary>
    public static ProbeReading ReadUnit(string name, string shown)
    {
        var properties = shown.Split('\n').Select(l => l.Split('=', 2)).Where(p => p.Length == 2).GroupBy(p => p[0]).ToDictionary(g => g.Key, g => g.First()[1].Trim());
        string Of(string property) => properties.GetValueOrDefault(property, "");
        return Of("LoadState") is "not-found" or "" ? NoSuch(name)
            : Of("LoadState") == "masked" ? ProbeReading.Failed($"Service {name} is masked: it was shut off for good.")
            : Of("ActiveState") switch
            {
                "active" or "reloading" => ProbeReading.Well($"Service {name} runs."),
                "activating" => new ProbeReading(ProbeState.Starting, $"Service {name} is starting.", []),
                "failed" => ProbeReading.Failed($"Service {name} has failed ({Of("Result")})."),
                _ => ProbeReading.Failed($"Service {name} does not run."),
            };
    }

    /// <summary>0 runs; 1 to 3 does not; everything else does not tell.</summary>
    private static ProbeReading ReadStatus(string name, ScriptEnd end) => end.Status switch
    {
        0 => ProbeReading.Well($"Service {name} runs."),
        1 or 2 => ProbeReading.Failed($"Service {name} is dead, and left its mark behind."),
        3 => ProbeReading.Failed($"Service {name} does not run."),
        _ => ProbeReading.Unknown($"The init script of {name} does not tell whether it runs ({end.Status})."),
    };

    internal static string? ScriptOf(string name) => name.EndsWith(".service", StringComparison.Ordinal) ? ScriptOf(name[..^".service".Length])
        : Path.Combine(InitScripts, name) is var script && !name.Contains('/') && File.Exists(script) ? script : null;

    private static ProbeReading NoSuch(string name) => ProbeReading.Unknown($"There is no service {name} on this host.");
}
