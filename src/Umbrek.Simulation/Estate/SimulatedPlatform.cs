using System.Runtime.CompilerServices;
using System.Security.Cryptography;
using System.Text;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Health;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Inventory;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Platform;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Simulation.Health;
using Umbrek.Simulation.Jobs;
using Umbrek.Wire.Links;

namespace Umbrek.Simulation.Estate;

/// <summary>A made-up computer under the real agent.</summary>
public sealed class SimulatedPlatform(SimulatedHost host, TimeProvider time, StateDirectory? state = null) : IHostPlatform
{
    private readonly SimulatedUpdate update = new(host, time, state);

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

    public string? BootId => Id("boot");

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
        facts.Add(FactNames.BootedAt, SimulatedHealth.BootedAt(host, now).ToString("yyyy-MM-ddTHH:mm:ssZ"));
        facts.Add(FactNames.Users, host.Person is null ? [] : [host.Person]);
        facts.Add(FactNames.ServicesFailed, PrinterFailed ? [PrinterUnit] : []);
        facts.Add(FactNames.UpdatesPending, host.Updates.All);
        facts.Add(FactNames.UpdatesSecurity, host.Updates.Security);
        facts.Add(FactNames.ClockKept, host.Story == HostStory.ClockBehind ? "no" : "yes");
        facts.Add(FactNames.RestartNeeded, host.NeedsRestart ? "yes" : "no");
        return facts.Items;
    }

    /// <summary>The keeper lives in this process: a simulated host has no processes of its own.</summary>
    public void StartKeeper(string runDirectory) => _ = KeepAsync(runDirectory);

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

    public IPeopleHere People(StateDirectory state) => new SimulatedPeople(host, time);

    public IProber Prober(StateDirectory state) => new SimulatedProber(host, this, time);

    public DateTimeOffset? BootedAt(DateTimeOffset now) => SimulatedHealth.BootedAt(host, now);

    public AwayReason StopReason() => AwayReason.AgentStopped;

    private string Id(string what) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes($"{what} {host.Name}")));

    private async Task KeepAsync(string runDirectory)
    {
        await Task.Yield();
        using var keeper = new Keeper(new RunDirectory(runDirectory), new SimulatedCommandRunner(host, this, time), time);
        await keeper.RunAsync(CancellationToken.None).ConfigureAwait(false);
    }
}
