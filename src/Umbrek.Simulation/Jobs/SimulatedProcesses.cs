using System.Collections.Concurrent;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Health;

namespace Umbrek.Simulation.Jobs;

/// <summary>What runs on a made-up computer: what its kind needs, and what its person has open. What is ended is gone.</summary>
public sealed class SimulatedProcesses(SimulatedHost host, SimulatedPlatform platform)
{
    private const long MiB = 1 << 20;

    private readonly ConcurrentDictionary<int, int> niceness = new();
    private readonly ConcurrentDictionary<int, byte> ended = new();

    private sealed record Made(int Pid, int Parent, string User, string Name, string? CommandLine, double Busy, long Memory, int Threads = 1);

    public IProcessReader NewReader() => new Reader(this);

    public ProcessReading Read(DateTimeOffset now, DateTimeOffset? before)
    {
        var booted = SimulatedHealth.BootedAt(host, now);
        return new ProcessReading(now, platform.BootId ?? "", SimulatedHealth.Processors(host.Kind), SimulatedHealth.MemoryTotal(host.Kind), [.. All().Where(p => !ended.ContainsKey(p.Pid)).OrderBy(p => p.Pid).Select(p =>
        {
            var start = p.Pid < 700 ? p.Pid * 2L : 4000L + p.Pid * 40L;
            var used = Used(p, now);
            return new HostProcess(
                p.Pid, p.Parent, start, booted.AddMilliseconds(start * 10), p.User, p.Name, p.CommandLine, p.Busy > 5 ? "running" : p.CommandLine is null ? "idle" : "sleeping", niceness.GetValueOrDefault(p.Pid), p.Threads,
                (long)(p.Memory * (1 + 0.02 * Math.Sin(Minutes(now) + p.Pid))), Math.Round(used, 2),
                before is { } then && now > then ? Math.Round(Math.Max(0, used - Used(p, then)) / (now - then).TotalSeconds * 100, 1) : null);
        })]);
    }

    /// <summary>Does what the agent would, and says the same.</summary>
    public (string Text, int Status) Do(HostAction action, DateTimeOffset now)
    {
        var reading = Read(now, null);
        if (action.Find is { } find)
        {
            var words = find.Text.Split(' ', StringSplitOptions.RemoveEmptyEntries);
            var alike = reading.Processes.Where(p => p.Has(words)).GroupBy(p => $"{p.User}: {p.CommandLine ?? $"[{p.Name}]"}").OrderBy(g => g.Key, StringComparer.Ordinal).ToList();
            return (alike.Count == 0 ? $"Nothing runs '{find.Text}'." : string.Join('\n', alike.Select(g => $"{(g.Count() == 1 ? "" : $"{g.Count()} × ")}{g.Key}")), 0);
        }
        var which = action.End?.Which ?? action.Rank!.Which;
        var verb = action.End is null ? "changed" : "ended";
        if (which.Marks is not null && which.Boot != reading.Boot)
        {
            return ($"The host has restarted since its processes were read; nothing was {verb}.", 2);
        }
        var chosen = which.Of(reading);
        List<string> lines = [.. (which.Marks ?? []).Where(m => !chosen.Any(p => p.Pid == m.Pid)).Select(m => $"{m.Name} ({m.Pid}) had ended already.")];
        var status = 0;
        foreach (var process in chosen)
        {
            if (action.Rank is { } rank)
            {
                niceness[process.Pid] = rank.Niceness;
                lines.Add($"{process.Name} ({process.Pid}) has niceness {rank.Niceness} (before {process.Niceness}).");
            }
            else if (process.Pid == 1 || process.CommandLine is null)
            {
                lines.Add(process.Pid == 1 ? $"{process.Name} (1) is the system itself; restart the host instead." : $"{process.Name} ({process.Pid}) is a part of the system's kernel and can't be ended.");
                status = 1;
            }
            else
            {
                ended[process.Pid] = 0;
                lines.Add($"{process.Name} ({process.Pid}) has {(action.End!.Force ? "been killed" : "ended")}.");
            }
        }
        if (lines.Count == 0)
        {
            lines.Add($"Nothing runs '{which.Program}'{(which.User is null ? "" : $" as {which.User}")}; nothing was {verb}.");
        }
        return (string.Join('\n', lines), status);
    }

    private static double Minutes(DateTimeOffset at) => at.ToUnixTimeMilliseconds() / 60_000.0;

    /// <summary>Seconds of processor since the boot: what is busy is busier at times.</summary>
    private double Used(Made p, DateTimeOffset at)
    {
        var seconds = (at - SimulatedHealth.BootedAt(host, at)).TotalSeconds;
        return p.Busy / 100 * (seconds + 8 * Math.Sin(seconds / 11 + p.Pid));
    }

    private IEnumerable<Made> All()
    {
        yield return new(1, 0, "root", "systemd", "/sbin/init", 0.1, 12 * MiB);
        yield return new(2, 0, "root", "kthreadd", null, 0, 0);
        yield return new(14, 2, "root", "ksoftirqd/0", null, 0.1, 0);
        yield return new(61, 2, "root", "kworker/0:1-events", null, 0.2, 0);
        yield return new(322, 1, "root", "systemd-journal", "/lib/systemd/systemd-journald", 0.3, 38 * MiB);
        yield return new(341, 1, "root", "systemd-udevd", "/lib/systemd/systemd-udevd", 0, 9 * MiB);
        yield return new(508, 1, "messagebus", "dbus-daemon", "/usr/bin/dbus-daemon --system --address=systemd: --nofork", 0.1, 6 * MiB);
        yield return new(516, 1, "root", "cron", "/usr/sbin/cron -f", 0, 3 * MiB);
        yield return new(604, 1, "root", "sshd", "sshd: /usr/sbin/sshd -D [listener]", 0, 8 * MiB);
        yield return new(633, 1, "root", "umbrek-agent", "/opt/umbrek-agent/umbrek-agent run", 0.1, 18 * MiB, 9);
        foreach (var own in OfItsKind())
        {
            yield return own;
        }
        if (host.Person is { } person)
        {
            yield return new(1210, 1, "root", "lightdm", "/usr/sbin/lightdm", 0, 8 * MiB, 3);
            yield return new(1218, 1210, "root", "Xorg", "/usr/lib/xorg/Xorg :0 -seat seat0 -auth /run/lightdm/root/:0", 2.4, 96 * MiB, 5);
            yield return new(1302, 1210, person, "openbox", "openbox --startup /usr/lib/openbox/autostart", 0.1, 22 * MiB);
            yield return new(1377, 1302, person, "firefox-esr", "/usr/lib/firefox-esr/firefox-esr", 6.2, 612 * MiB, 74);
            yield return new(1421, 1377, person, "Web Content", "/usr/lib/firefox-esr/firefox-esr -contentproc -childID 3", 3.1, 280 * MiB, 29);
        }
    }

    private IEnumerable<Made> OfItsKind() => host.Kind switch
    {
        HostKind.Kiosk => [new(702, 1, "kiosk", "kiosk-shell", "/opt/kiosk/kiosk-shell --full-screen", 7.5, 340 * MiB, 31), .. platform.PrinterFailed ? Array.Empty<Made>() : [new(731, 1, "lp", "ticket-print", "/opt/tickets/ticket-print --device /dev/usb/lp0", 0.4, 24 * MiB, 4)]],
        HostKind.Till => [new(711, 1, "till", "till", "/opt/till/till --shop farm", 4.1, 210 * MiB, 18)],
        HostKind.Server =>
        [
            new(740, 1, "postgres", "postgres", "/usr/lib/postgresql/15/bin/postgres -D /var/lib/postgresql/15/main", 1.2, 48 * MiB), new(752, 740, "postgres", "postgres", "postgres: checkpointer", 0.2, 22 * MiB),
            new(753, 740, "postgres", "postgres", "postgres: walwriter", 0.3, 18 * MiB), new(810, 1, "root", "smbd", "/usr/sbin/smbd --foreground --no-process-group", 0.6, 31 * MiB), new(833, 810, "root", "smbd", "/usr/sbin/smbd --foreground --no-process-group", 2.2, 27 * MiB),
        ],
        HostKind.Capture => [new(720, 1, "dome", "capture", "/opt/capture/capture --exposure 30 --gain 120", 61, 1480 * MiB, 12), new(726, 1, "dome", "dome-control", "/opt/capture/dome-control --port 7100", 1.1, 33 * MiB, 6)],
        HostKind.Display => [new(715, 1, "display", "make-room", "/opt/display/make-room --vat 3", 5.5, 160 * MiB, 11)],
        HostKind.Logger => [new(709, 1, "logger", "climate-logger", "/opt/logger/climate-logger --every 30", 0.8, 14 * MiB, 2)],
        _ => [],
    };

    private sealed class Reader(SimulatedProcesses of) : IProcessReader
    {
        private DateTimeOffset? before;

        public ProcessReading Read(DateTimeOffset now)
        {
            var reading = of.Read(now, before);
            before = now;
            return reading;
        }
    }
}
