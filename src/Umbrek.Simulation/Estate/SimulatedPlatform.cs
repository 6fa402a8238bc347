using System.Runtime.CompilerServices;
using System.Security.Cryptography;
using System.Text;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Files;
using Umbrek.Agent.Health;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Inventory;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Shell;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Files;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Core.Jobs;
using Umbrek.Simulation.Health;
using Umbrek.Simulation.Desktop;
using Umbrek.Simulation.Files;
using Umbrek.Simulation.Jobs;
using Umbrek.Simulation.Shell;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;

namespace Umbrek.Simulation.Estate;

/// <summary>A made-up computer under the real agent, from one start to its going down.</summary>
/// <param name="down">Cancelled by it when it goes down; without, it never does.</param>
/// <param name="restartedAt">When it was started again; null for the start that it had before anybody looked.</param>
public sealed class SimulatedPlatform(SimulatedHost host, TimeProvider time, StateDirectory? state = null, SimulatedNetwork? network = null, DateTimeOffset? restartedAt = null, CancellationTokenSource? down = null) : IHostPlatform
{
    /// <summary>Between the word that it goes down, and its going.</summary>
    private static readonly TimeSpan LastMoments = TimeSpan.FromMilliseconds(500);

    /// <summary>Whoever was logged out comes back after a while.</summary>
    private static readonly TimeSpan Pause = TimeSpan.FromMinutes(10);

    private DateTimeOffset loggedOutAt = DateTimeOffset.MinValue;

    /// <summary>Cancelled when it goes down.</summary>
    public CancellationToken Down { get; } = down?.Token ?? CancellationToken.None;

    /// <summary>How it goes down, once it does.</summary>
    public PowerAct? Goes { get; private set; }

    public SimulatedPower Power => field ??= new(this);

    /// <summary>Who is logged in now.</summary>
    public string? Person => time.GetUtcNow() - loggedOutAt < Pause ? null : host.Person;

    public void LogOut() => loggedOutAt = time.GetUtcNow();

    public string? GoDown(PowerAct act)
    {
        if (down is null)
        {
            return "this computer stays on.";
        }
        Goes = act;
        _ = Task.Delay(LastMoments, time).ContinueWith(_ => down.Cancel(), TaskScheduler.Default);
        return null;
    }

    public NetworkCard Card => NetworkCard.Read(NetworkCard.Write(Scenario.Card(host.Number), System.Net.IPAddress.Parse(host.Address), host.Address.Contains(':') ? 64 : 24))!;

    public WakeActs Waking(TextWriter say) => new([Card], (_, card) => network?.Send(card), say);

    private readonly SimulatedUpdate update = new(host, time, state);

    public SimulatedProcesses Running => field ??= new(host, this);

    public IProcessReader Processes() => Running.NewReader();

    public SimulatedServices Kept => field ??= new(host, this);

    public IServiceReader Services() => Kept;

    public ILogReader Logs(IReadOnlyList<string>? roots) => new SimulatedLogs(host, this, time);

    public SimulatedDesktops Screens => field ??= new(host, this, time);

    public IDesktops Desktops(StateDirectory state) => Screens;

    public SimulatedDisk Disk => field ??= new(host, this, time);

    public IReadOnlyList<PlaceHere> PlacesOf(NamedPlace place) => !place.IsOfPerson()
        ? [new PlaceHere(new FileName(place switch { NamedPlace.Temporary => "/tmp", NamedPlace.Settings => "/etc", NamedPlace.Programs => "/opt", NamedPlace.ProgramData => "/usr/local/share", _ => "/usr/local/share/fonts" }))]
        : Person is { } person ? [new PlaceHere(new FileName(place == NamedPlace.Home ? SimulatedDisk.Home : $"{SimulatedDisk.Home}/{place}"), person, SimulatedDisk.Home)]
        : throw new IOException($"Nobody is logged in on this host, so there is no place '{place.Word()}'.");

    public IHostFiles Files(IReadOnlyList<string>? roots) => new SimulatedFiles(Disk, roots);

    public IFileChanges FileChanges(StateDirectory state, PartLedger ledger, IReadOnlyList<string>? roots) => new SimulatedFiles(Disk, roots);

    public const string CommonKernel = "6.1.0-28-amd64";
    public const string OddKernel = "6.1.0-21-amd64";

    public const string PrinterUnit = "ticket-print.service";

    /// <summary>Ticket printing, once started again, goes well for so long.</summary>
    private static readonly TimeSpan PrinterLasts = TimeSpan.FromMinutes(15);

    private DateTimeOffset printerStarted = DateTimeOffset.MinValue;

    public bool PrinterFailed => host.Story == HostStory.PrinterStopped && time.GetUtcNow() - printerStarted > PrinterLasts;

    public void StartPrinter() => printerStarted = time.GetUtcNow();

    public string SystemName => host.Name;

    public string? MachineId => Id("system")[..32];

    public string AgentVersion => update.Version;

    public string? HardwareId => new Guid(SHA256.HashData(Encoding.UTF8.GetBytes("board " + host.Name))[..16]).ToString();

    public string? BootId => Id(restartedAt is { } at ? $"boot {at:O}" : "boot");

    public string Kernel => host.Story == HostStory.OtherKernel ? OddKernel : CommonKernel;

    public Sample TakeSample(DateTimeOffset now) => SimulatedHealth.At(host, now);

    public IReadOnlyList<Fact> GatherFacts(DateTimeOffset now)
    {
        var facts = new FactList(now);
        facts.Add(FactNames.SystemName, host.Name);
        facts.Add(FactNames.MachineId, MachineId);
        facts.Add(FactNames.AgentVersion, AgentVersion);
        facts.Add(FactNames.Architecture, "x64");
        facts.Add(FactNames.Kernel, Kernel);
        facts.Add(FactNames.OsName, "Debian GNU/Linux 12 (bookworm)");
        facts.Add(FactNames.OsVersion, "12");
        facts.Add(FactNames.Vendor, "Merrow Computers");
        facts.Add(FactNames.Model, host.Kind switch
        {
            HostKind.Server => "Keel 2",
            HostKind.Capture => "Astrolabe C",
            HostKind.Kiosk or HostKind.Till => "Bollard T",
            HostKind.Display => "Pennant D",
            HostKind.Logger => "Barnacle",
            _ => "Capstan 5",
        });
        facts.Add(FactNames.ProcessorModel, "Merrow M4 at 2.40 GHz");
        facts.Add(FactNames.ProcessorCount, SimulatedHealth.Processors(host.Kind));
        facts.Add(FactNames.MemoryTotal, SimulatedHealth.MemoryTotal(host.Kind));
        facts.Add(FactNames.Disks, [$"/ ext4 {SimulatedHealth.DiskTotal(host.Kind)}"]);
        facts.Add(FactNames.Addresses, [host.Address]);
        facts.Add(FactNames.NetworkCards, [$"{Card}"]);
        facts.Add(FactNames.BootedAt, Booted(now).ToString("yyyy-MM-ddTHH:mm:ssZ"));
        facts.Add(FactNames.Users, Person is { } person ? [person] : []);
        facts.Add(FactNames.ServicesFailed, PrinterFailed ? [PrinterUnit] : []);
        facts.Add(FactNames.UpdatesPending, host.Updates.All);
        facts.Add(FactNames.UpdatesSecurity, host.Updates.Security);
        facts.Add(FactNames.ClockKept, host.Story == HostStory.ClockBehind ? "no" : "yes");
        facts.Add(FactNames.RestartNeeded, host.NeedsRestart ? "yes" : "no");
        return facts.Items;
    }

    /// <summary>The keeper lives in this process: a simulated host has no processes of its own.</summary>
    public void StartKeeper(string runDirectory) => _ = KeepAsync(runDirectory);

    public void StartShellKeeper(string shellDirectory) => _ = Task.Run(() => new ShellKeeper(new ShellDirectory(shellDirectory), new SimulatedShellRunner(host, this, time), time).RunAsync(Down));

    /// <summary>Who stands around a made-up computer: its customer's other computers, and things that nobody looks after.</summary>
    public async IAsyncEnumerable<ScanAnswer?> ScanAsync(ScanOrder order, [EnumeratorCancellation] CancellationToken cancel)
    {
        var around = Scenario.Around(host).ToDictionary(a => a.Address);
        foreach (var address in new AddressRange(order.First, order.Last).Addresses())
        {
            await Task.Delay(TimeSpan.FromSeconds((double)order.Ports.Count / order.ProbesPerSecond), time, cancel).ConfigureAwait(false);
            yield return around.GetValueOrDefault(address);
        }
    }

    public IAgentUpdate? Update(StateDirectory state) => update;

    public IPeopleHere People(StateDirectory state) => new SimulatedPeople(this, time);

    public IProber Prober(StateDirectory state) => new SimulatedProber(host, this, time);

    public DateTimeOffset? BootedAt(DateTimeOffset now) => Booted(now);

    private DateTimeOffset Booted(DateTimeOffset now) => restartedAt ?? SimulatedHealth.BootedAt(host, now);

    public AwayReason StopReason() => Goes is null ? AwayReason.AgentStopped : AwayReason.HostShuttingDown;

    private string Id(string what) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes($"{what} {host.Name}")));

    private async Task KeepAsync(string runDirectory)
    {
        await Task.Yield();
        if (Down.IsCancellationRequested)
        {
            return;
        }
        using var keeper = new Keeper(new RunDirectory(runDirectory), new SimulatedCommandRunner(host, this, time, runDirectory), time, BootId);
        await keeper.RunAsync(Down).ConfigureAwait(false);
    }
}
