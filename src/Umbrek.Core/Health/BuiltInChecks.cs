using Umbrek.Core.Estate;
using Umbrek.Core.Inventory;
using Umbrek.Core.Text;

namespace Umbrek.Core.Health;

/// <summary>A host as an alert's words see it.</summary>
/// <param name="Mount">The fullest file system's mount point.</param>
/// <param name="Probe">What the host's agent found, for a check that looks by a probe.</param>
public sealed record AlertSubject(SelectableHost Host, string? Mount, DateTimeOffset Now, ProbeResult? Probe = null);

/// <summary>A check that every service has. A technician may switch it off, or change its rule, for a place.</summary>
/// <param name="Key">Its name in the API, in exports and in <c>umbrek check</c>.</param>
public sealed record BuiltInCheck(string Key, string Name, Subsystem Subsystem, Severity Severity, string When, string? Until, TimeSpan Hold, Func<AlertSubject, AlertText> Say)
{
    public CheckRule Rule { get; } = new(Read(When), Until is null ? null : Read(Until), Hold);

    private static Selection Read(string text) => SelectionParser.Parse(text, out var problem) ?? throw new InvalidOperationException(problem!.Message);
}

/// <summary>The checks out of the box, with what they say. A new one is one entry.</summary>
public static class BuiltInChecks
{
    public static readonly IReadOnlyList<BuiltInCheck> All =
    [
        new("lost-contact", "Lost contact", Subsystem.Reachability, Severity.Critical, "is lost and seen < 7 d", "is linked or seen > 7 d", TimeSpan.FromMinutes(3), s => new(
            $"{s.Host.Label} went away without a word {Units.Span(s.Now - s.Host.LastSeenAt)} ago.",
            "Nothing can be done on it and nothing is known of it until it returns. Jobs for it wait.",
            "See whether it has power and a network: ask somebody there, or look whether its neighbours are linked. If it runs and is reachable otherwise, look at the agent on it: umbrek-agent status")),
        new("gone-long", "Gone for long", Subsystem.Reachability, Severity.Information, "is lost and seen > 7 d", "is linked", TimeSpan.FromMinutes(1), s => new(
            $"{s.Host.Label} has not been heard of for {Units.Span(s.Now - s.Host.LastSeenAt)}.",
            "It gets no updates, and what is known of it grows old.",
            "If it is gone for good, retire it. If it is only off, find out who has it.")),
        new("link-unsteady", "Link unsteady", Subsystem.Reachability, Severity.Warning, "unsteady = yes", null, TimeSpan.FromSeconds(30), s => new(
            $"The link of {s.Host.Label} is lost again and again.",
            "Whatever is done on it takes longer, and long transfers may begin anew.",
            "Look at its line: a loose plug, a weak radio link, or a router that restarts. When its neighbours fare the same, it is the line of the place.")),
        new("clock-off", "Clock off", Subsystem.Services, Severity.Warning, "clock.off > 60 s", "clock.off < 20 s", TimeSpan.FromMinutes(2), s => new(
            $"The clock of {s.Host.Label} is {Units.Span(TimeSpan.FromSeconds(s.Host.Fact(FactNames.ClockOff) is [{ Number: { } off }, ..] ? off : 0))} {First(s.Host, FactNames.ClockSide)}.",
            "Times in its logs mislead, certificates and one-time codes are refused, and jobs on it run at the wrong time.",
            "Have its time kept: timedatectl set-ntp true; then see whether it reaches a time server: timedatectl timesync-status")),
        new("storage-full", "Storage full", Subsystem.Storage, Severity.Critical, "storage.used > 97 %", "storage.used < 95 %", TimeSpan.FromMinutes(2), s => new(
            $"{s.Mount ?? "A file system"} of {s.Host.Label} is {s.Host.Health?.StorageUsedPercent:0.#} % full: {Free(s)} are left.",
            "Programs that write there stop or lose data, and logging in may fail.",
            $"Find what is large: du -xh --max-depth=2 {s.Mount ?? "/"} | sort -h | tail. Old logs and package files go first: journalctl --vacuum-size=200M; apt-get clean")),
        new("storage-high", "Storage nearly full", Subsystem.Storage, Severity.Warning, "storage.used > 90 %", "storage.used < 88 %", TimeSpan.FromMinutes(5), s => new(
            $"{s.Mount ?? "A file system"} of {s.Host.Label} is {s.Host.Health?.StorageUsedPercent:0.#} % full: {Free(s)} are left.",
            "When it is full, programs that write there stop or lose data.",
            $"Find what is large: du -xh --max-depth=2 {s.Mount ?? "/"} | sort -h | tail. Then move it, delete it, or make the file system larger.")),
        new("storage-filling", "Storage fills up", Subsystem.Storage, Severity.Warning, "storage.full-in < 3 d", null, TimeSpan.FromMinutes(5), s => new(
            $"{s.Mount ?? "A file system"} of {s.Host.Label} is {s.Host.Health?.StorageUsedPercent:0.#} % full and will be full {When(s)} if it goes on like this.",
            "Programs that write there will stop or lose data then.",
            $"Something grows: find it with du -xh --max-depth=2 {s.Mount ?? "/"} | sort -h | tail, and look at logs first: ls -lhS /var/log")),
        new("memory-short", "Memory short", Subsystem.Memory, Severity.Warning, "memory.free < 5 %", "memory.free > 8 %", TimeSpan.FromMinutes(5), s => new(
            $"{s.Host.Label} has {Units.Bytes(s.Host.Health?.MemoryFreeBytes ?? 0)} of {Units.Bytes(s.Host.Health?.MemoryTotalBytes ?? 0)} memory left for programs.",
            "It becomes slow, and then the system ends the largest program by itself.",
            "See who has it: ps -eo rss,user,args --sort=-rss | head. Restart what grows without end; give the host more memory if everything on it is needed.")),
        new("processor-busy", "Processors busy", Subsystem.Processor, Severity.Warning, "processor > 90 %", "processor < 80 %", TimeSpan.FromMinutes(15), s => new(
            $"The processors of {s.Host.Label} have been busy for a quarter of an hour, {s.Host.Health?.ProcessorPercent:0} % now, with a load of {s.Host.Health?.Load1:0.0}.",
            "Everything on it answers slowly; it may run hot.",
            "See what works: ps -eo pcpu,user,etime,args --sort=-pcpu | head. Ask whether it should, before ending it.")),
        new("too-hot", "Too hot", Subsystem.Hardware, Severity.Critical, "temperature > 85", "temperature < 78", TimeSpan.FromMinutes(2), s => new(
            $"The hottest sensor of {s.Host.Label} reads {s.Host.Health?.TemperatureCelsius:0} °C.",
            "It slows down to protect itself, then switches itself off; its parts age.",
            "Look whether its fans turn and its vents are free, and whether the room is cooled. Until then take work off it.")),
        new("service-failed", "Service failed", Subsystem.Services, Severity.Warning, "service.failed = *", null, TimeSpan.FromSeconds(30), s => new(
            $"{Listed(s.Host, FactNames.ServicesFailed)} on {s.Host.Label} has failed.",
            "What it does is not done until it runs again.",
            $"Read why: systemctl status {First(s.Host, FactNames.ServicesFailed)}; journalctl -u {First(s.Host, FactNames.ServicesFailed)} -n 50. Then start it: systemctl restart {First(s.Host, FactNames.ServicesFailed)}")),
        new("security-updates", "Security updates wait", Subsystem.Security, Severity.Warning, "updates.security > 0", null, TimeSpan.FromMinutes(1), s => new(
            $"{First(s.Host, FactNames.UpdatesSecurity)} security updates wait on {s.Host.Label}.",
            "Holes that are known to everybody stay open.",
            "Install them when its people can spare it: apt-get update && apt-get upgrade")),
        new("updates-wait", "Many updates wait", Subsystem.Updates, Severity.Information, "updates > 25", "updates < 15", TimeSpan.FromMinutes(1), s => new(
            $"{First(s.Host, FactNames.UpdatesPending)} updates wait on {s.Host.Label}.",
            "The longer they wait, the more changes at once.",
            "Install them when its people can spare it: apt-get update && apt-get upgrade")),
        new("restart-needed", "Restart needed", Subsystem.Updates, Severity.Information, "restart.needed = yes", null, TimeSpan.FromMinutes(1), s => new(
            $"{s.Host.Label} has to be restarted for its updates to count; it has been up for {Units.Span(TimeSpan.FromSeconds(s.Host.Health?.UptimeSeconds ?? 0))}.",
            "Until then it goes on with the old, unmended programs.",
            "Restart it when its people can spare it.")),
    ];

    public static BuiltInCheck? Find(string key) => All.FirstOrDefault(c => c.Key == key);

    private static string Free(AlertSubject s) => Units.Bytes(s.Host.Health?.StorageFreeBytes ?? 0);

    private static string When(AlertSubject s) => s.Host.StorageFullAt is not { } at ? "soon" : at <= s.Now ? "at any moment"
        : $"in {Units.Span(at - s.Now)}, on {at.ToString("dddd d MMMM", System.Globalization.CultureInfo.InvariantCulture)}";

    private static string First(SelectableHost host, string fact) => host.Fact(fact) is [var one, ..] ? one.Text : "";

    private static string Listed(SelectableHost host, string fact) => string.Join(", ", host.Fact(fact).Take(5).Select(v => v.Text));
}
