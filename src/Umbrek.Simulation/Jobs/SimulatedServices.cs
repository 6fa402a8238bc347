using System.Collections.Concurrent;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Health;

namespace Umbrek.Simulation.Jobs;

/// <summary>The services of a made-up computer: what every one has, and what its kind needs. What is done with them stays done.</summary>
public sealed class SimulatedServices(SimulatedHost host, SimulatedPlatform platform) : IServiceReader
{
    private readonly ConcurrentDictionary<string, (bool Runs, DateTimeOffset At)> moved = new();
    private readonly ConcurrentDictionary<string, bool> enabled = new();

    private sealed record Made(string Name, string Description, ServiceState State = ServiceState.Runs, ServiceStart Start = ServiceStart.WithSystem, string Needs = "network.target");

    public Task<IReadOnlyList<HostService>> ReadAsync(CancellationToken cancel) => Task.FromResult<IReadOnlyList<HostService>>([.. All().OrderBy(s => s.Name, StringComparer.Ordinal).Select(Now)]);

    /// <summary>Does what the agent would, and says much the same.</summary>
    public (string Text, int Status) Do(ServiceWish wish, DateTimeOffset now)
    {
        var name = wish.Name.EndsWith(".service", StringComparison.Ordinal) ? wish.Name[..^".service".Length] : wish.Name;
        if (All().FirstOrDefault(s => s.Name == name) is not { } made)
        {
            return ($"There is no service {name}.service on this host.", 4);
        }
        if (name == "umbrek-agent" && wish.Act is ServiceAct.Stop or ServiceAct.Disable)
        {
            return ("This is the host's agent, without which nobody reaches it; uninstall it instead.", 1);
        }
        switch (wish.Act)
        {
            case ServiceAct.Start or ServiceAct.Restart or ServiceAct.Stop:
                moved[name] = (wish.Act != ServiceAct.Stop, now);
                if (made.Name == Printer && wish.Act != ServiceAct.Stop)
                {
                    platform.StartPrinter();
                }
                break;
            case ServiceAct.Enable or ServiceAct.Disable:
                enabled[name] = wish.Act == ServiceAct.Enable;
                break;
        }
        var stands = Now(made);
        var file = stands.Start == ServiceStart.WithSystem ? "enabled" : stands.Start == ServiceStart.ByHand ? "disabled" : "static";
        var active = stands.State switch { ServiceState.Failed => "failed (failed)", ServiceState.Stopped => "inactive (dead)", ServiceState.Done => "active (exited)", _ => "active (running)" };
        return wish.Act == ServiceAct.Show
            ? ($"Id={name}.service\nDescription={made.Description}\nActiveState={active.Split(' ')[0]}\nSubState={active.Split('(')[1].TrimEnd(')')}\nUnitFileState={file}\nRequires=sysinit.target\nWants={made.Needs}\nWantedBy=multi-user.target\n\nLast lines of its log:\n{(stands.Since ?? now):yyyy-MM-ddTHH:mm:sszz00} {host.Name} systemd[1]: {(stands.State == ServiceState.Failed ? $"{name}.service: Failed with result 'exit-code'." : $"Started {name}.service - {made.Description}.")}", 0)
            : ($"{name}.service is {active}, {file}.", stands.State == ServiceState.Failed ? 1 : 0);
    }

    private const string Printer = "ticket-print";

    private HostService Now(Made made)
    {
        var (state, since) = moved.TryGetValue(made.Name, out var to) && !(made.Name == Printer && to.Runs)
            ? (to.Runs ? ServiceState.Runs : ServiceState.Stopped, to.At)
            : (made.Name == Printer && platform.PrinterFailed ? ServiceState.Failed : made.State, SimulatedHealth.BootedAt(host, DateTimeOffset.UtcNow).AddSeconds(9));
        var start = enabled.TryGetValue(made.Name, out var on) ? on ? ServiceStart.WithSystem : ServiceStart.ByHand : made.Start;
        var detail = state switch { ServiceState.Runs => "running", ServiceState.Done => "exited", ServiceState.Failed => "failed", _ => "dead" };
        return new HostService(made.Name, made.Description, state, start, detail, since, state == ServiceState.Runs ? 300 + made.Name.Length * 31 : null, state == ServiceState.Runs ? (4L + made.Name.Length * 3) << 20 : null);
    }

    private IEnumerable<Made> All()
    {
        yield return new("apparmor", "Load AppArmor profiles", ServiceState.Done);
        yield return new("apt-daily", "Daily apt download activities", ServiceState.Stopped, ServiceStart.ByOthers);
        yield return new("cron", "Regular background program processing daemon");
        yield return new("dbus", "D-Bus System Message Bus", Start: ServiceStart.ByOthers);
        yield return new("getty@tty1", "Getty on tty1");
        yield return new("keyboard-setup", "Set the console keyboard layout", ServiceState.Done);
        yield return new("networking", "Raise network interfaces", ServiceState.Done);
        yield return new("nfs-server", "NFS server and services", ServiceState.Stopped, ServiceStart.Never);
        yield return new("rsync", "fast remote file copy program daemon", ServiceState.Stopped, ServiceStart.ByHand);
        yield return new("ssh", "OpenBSD Secure Shell server");
        yield return new("systemd-journald", "Journal Service", Start: ServiceStart.ByOthers);
        yield return new("systemd-timesyncd", "Network Time Synchronization");
        yield return new("umbrek-agent", "Keeps this computer reachable for the people who look after it");
        switch (host.Kind)
        {
            case HostKind.Kiosk:
                yield return new(Printer, "Ticket printing", Needs: "network.target cups.service");
                yield return new("cups", "CUPS Scheduler");
                yield return new("kiosk", "What passengers see");
                break;
            case HostKind.Till:
                yield return new("till", "The till");
                break;
            case HostKind.Server:
                yield return new("postgresql", "PostgreSQL RDBMS");
                yield return new("smbd", "Samba SMB Daemon");
                break;
            case HostKind.Capture:
                yield return new("capture", "The night's pictures");
                yield return new("dome-control", "Opens and turns the dome");
                break;
            case HostKind.Display:
                yield return new("make-room", "What the make room shows");
                break;
            case HostKind.Logger:
                yield return new("climate-logger", "Temperature and humidity of the ripening store");
                break;
        }
    }
}
