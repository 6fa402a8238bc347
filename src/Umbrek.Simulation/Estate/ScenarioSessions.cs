namespace Umbrek.Simulation.Estate;

/// <summary>A technician at work on a host.</summary>
/// <param name="Host">A selection that names it.</param>
/// <param name="Lines">What he types into a shell, or, at a desktop, into its notes.</param>
public sealed record ScenarioSession(string Technician, string Host, string Reason, IReadOnlyList<string> Lines, bool IsAtDesktop = false, string? Note = null);

/// <summary>Who works where it is recorded.</summary>
public static class ScenarioSessions
{
    public static IReadOnlyList<ScenarioSession> All { get; } =
    [
        new("Tomasz Vail", "ripening-climate-02", "is the climate control well?", ["uptime", "free", "df -h", "systemctl is-active climate", "systemctl restart climate", "exit"]),
        new("Ines Okafor", "creamery-files", "how full is it?", ["df -h", "uname -r", "exit"]),
        new("Tomasz Vail", "creamery-office-01", "bookings can't be printed", ["The printer in the cold store is asked for by an old name.", "Now it is found again. T. V."], IsAtDesktop: true, Note: "The printer in the cold store had an old name in the bookings. Set anew; the other offices may have it too."),
    ];
}
