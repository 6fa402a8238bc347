namespace Umbrek.Core.Enrolment;

/// <summary>The agent as a system service: where its parts lie, and the unit that starts it (systemd.service(5)).</summary>
public static class UnitFile
{
    public const string Name = "umbrek-agent.service";
    public const string DefaultProgramDirectory = "/opt/umbrek-agent";
    public const string SettingsFile = "/etc/umbrek-agent/installer.json";

    /// <summary>The script that keeps the agent running; it lies beside the programs.</summary>
    public const string LaunchName = "launch";

    /// <remarks>KillMode=process: a stop of the agent is no stop of what runs on the host by order.</remarks>
    public static string Text(string programDirectory) => $"""
        [Unit]
        Description=Umbrek agent: keeps this computer reachable for the people who look after it
        Wants=network-online.target
        After=network-online.target

        [Service]
        Type=simple
        ExecStart=/bin/sh {programDirectory}/{LaunchName}
        Restart=always
        RestartSec=2
        KillMode=process
        TimeoutStopSec=30

        [Install]
        WantedBy=multi-user.target

        """;
}
