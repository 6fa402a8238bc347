namespace Umbrek.Simulation.Estate;

/// <summary>A technician at work in a shell.</summary>
/// <param name="Host">A selection that names it.</param>
public sealed record ScenarioShell(string Technician, string Host, string Reason, IReadOnlyList<string> Lines);

/// <summary>Who works in shells where they are recorded.</summary>
public static class ScenarioShells
{
    public static IReadOnlyList<ScenarioShell> All { get; } =
    [
        new("Tomasz Vail", "ripening-climate-02", "is the climate control well?", ["uptime", "free", "df -h", "systemctl is-active climate", "systemctl restart climate", "exit"]),
        new("Ines Okafor", "creamery-files", "how full is it?", ["df -h", "uname -r", "exit"]),
    ];
}
