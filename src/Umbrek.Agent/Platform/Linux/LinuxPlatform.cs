using System.Globalization;
using System.Runtime.InteropServices;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Files;
using Umbrek.Agent.Health;
using Umbrek.Agent.Health.Probes;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Platform.Linux.Probes;
using Umbrek.Core.Estate;
using Umbrek.Core.Files;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>A real Linux host, read from /proc, /sys and /etc.</summary>
public sealed class LinuxPlatform : IHostPlatform
{
    private readonly LinuxSampler sampler = new();

    public LinuxUpkeep Upkeep { get; } = new(TimeProvider.System);

    public string SystemName { get; } = ReadLine("/proc/sys/kernel/hostname") is { Length: > 0 } name ? name : Environment.MachineName;

    public string? MachineId { get; } = ReadLine("/etc/machine-id");

    public string AgentVersion => Hosting.AgentVersion.Text;

    public string? HardwareId { get; } = ReadLine("/sys/class/dmi/id/product_uuid");

    public string? BootId { get; } = ReadLine("/proc/sys/kernel/random/boot_id");

    /// <summary>Tells one life of the system from the next, also that of a container, whose kernel goes on: the kernel's boot, and when the first process started.</summary>
    internal static string LifeId => $"{ReadLine("/proc/sys/kernel/random/boot_id")} {LinuxProcesses.StartOf(1)}";

    public IReadOnlyList<Fact> GatherFacts(DateTimeOffset now) => LinuxFacts.Gather(this, now);

    public Sample TakeSample(DateTimeOffset now) => sampler.Take(now);

    public void StartKeeper(string runDirectory) => StartSelf("keeper", runDirectory);

    public void StartShellKeeper(string shellDirectory) => StartSelf("shell-keeper", shellDirectory);

    private static void StartSelf(string command, string directory)
    {
        var program = Environment.ProcessPath ?? throw new IOException("The agent does not know its own file.");
        var error = Spawn.Start(program, [program, command, directory], "/", -1, -1, out var pid);
        if (error != 0)
        {
            throw new IOException($"A keeper could not be started: {Marshal.GetPInvokeErrorMessage(error)}.");
        }
        // Only so that it leaves no zombie while this agent lives; nothing depends on it.
        var reaper = new Thread(() => Reap(pid), 64 * 1024) { IsBackground = true, Name = "reap keeper" };
        reaper.Start();
    }

    public IAsyncEnumerable<ScanAnswer?> ScanAsync(ScanOrder order, CancellationToken cancel) =>
        new NetworkScan(TimeProvider.System, ReadNeighbours).RunAsync(order, cancel);

    public IAgentUpdate? Update(StateDirectory state) => InstalledUpdate.Find(state);

    public IPeopleHere People(StateDirectory state) => new LinuxPeople(state, ProgramName(), new LinuxPlacards(X11.XDisplays.Find, TimeProvider.System));

    public IProcessReader Processes() => new LinuxProcesses();

    public IServiceReader Services() => new LinuxServiceList();

    public ILogReader Logs(IReadOnlyList<string>? roots) => new LinuxLogs(TimeProvider.System, roots);

    /// <summary>Whoever has a program on a screen is there too, as not every login to one is written down.</summary>
    public IReadOnlyList<PlaceHere> PlacesOf(NamedPlace place) => LinuxNamedPlaces.Find(place, [.. Logins.Read().Select(l => l.Name).Concat(X11.XDisplays.Find().Select(d => d.Person).OfType<string>()).Distinct().Order(StringComparer.Ordinal).Select(Native.FindUser).OfType<SystemUser>().Select(u => (u.Name, u.Home))]);

    public IHostFiles Files(IReadOnlyList<string>? roots) => new LinuxFiles(roots);

    public IFileChanges FileChanges(StateDirectory state, PartLedger ledger, IReadOnlyList<string>? roots) => new LinuxFileChanges(state, ledger, TimeProvider.System, roots);

    public IDesktops Desktops(StateDirectory state) => new LinuxDesktops(state, TimeProvider.System);

    public IProber Prober(StateDirectory state)
    {
        var script = new ScriptProbe(state);
        return new ProbeSet(
            [new ServiceProbe(), new ProgramProbe(), new PortProbe(), new WebProbe(), new PingProbe(TimeProvider.System), new LogProbe(TimeProvider.System), script, new CertificateProbe(TimeProvider.System)],
            script.HelpAsync, TimeProvider.System);
    }

    /// <summary>proc(5), /proc/uptime: seconds since the start.</summary>
    public DateTimeOffset? BootedAt(DateTimeOffset now) =>
        double.TryParse(ReadLine("/proc/uptime")?.Split(' ')[0], NumberStyles.Float, CultureInfo.InvariantCulture, out var seconds) ? now - TimeSpan.FromSeconds(seconds) : null;

    public AwayReason StopReason() =>
        // The login manager forbids logins with this file as the first act of a shutdown (nologin(5)).
        File.Exists("/run/nologin") ? AwayReason.HostShuttingDown : AwayReason.AgentStopped;

    /// <summary>Hardware addresses by IPv4 address, from the neighbour table (proc(5), /proc/net/arp): entries that are complete.</summary>
    private static Dictionary<string, string> ReadNeighbours()
    {
        const string complete = "0x2";
        var known = new Dictionary<string, string>(StringComparer.Ordinal);
        try
        {
            foreach (var line in File.ReadLines("/proc/net/arp").Skip(1))
            {
                var fields = line.Split(' ', StringSplitOptions.RemoveEmptyEntries);
                if (fields.Length >= 4 && fields[2] == complete)
                {
                    known[fields[0]] = fields[3];
                }
            }
        }
        catch (IOException)
        {
            // No table, no addresses.
        }
        return known;
    }

    /// <summary>What a person here types to start this program.</summary>
    private static string ProgramName()
    {
        const string name = "umbrek-agent";
        string[] searched = ["/usr/local/bin", "/usr/bin", "/usr/local/sbin", "/usr/sbin"];
        return searched.Any(d => File.Exists(Path.Combine(d, name))) ? name : Environment.ProcessPath ?? name;
    }

    internal static string? ReadLine(string file)
    {
        try
        {
            return File.ReadLines(file).FirstOrDefault()?.Trim();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    private static void Reap(int pid) => WaitFor(pid);

    /// <summary>Waits for the end of a process that this one has started.</summary>
    /// <returns>What it ended with; 128 and more when a signal ended it.</returns>
    internal static unsafe int WaitFor(int pid)
    {
        int status;
        return Native.WaitPid(pid, &status, 0) < 0 ? 255 : (status & 0x7F) != 0 ? 128 + (status & 0x7F) : status >> 8 & 0xFF;
    }
}
