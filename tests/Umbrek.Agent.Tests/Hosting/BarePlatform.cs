using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Files;
using Umbrek.Agent.Health;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Platform;
using Umbrek.Core.Estate;
using Umbrek.Core.Files;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Tests.Hosting;

/// <summary>A host that has nothing; a test gives it what it needs.</summary>
internal class BarePlatform : IHostPlatform
{
    public virtual string SystemName => "test";
    public string? MachineId => null;
    public string AgentVersion => "0";
    public string? HardwareId => null;
    public string? BootId => null;

    public IReadOnlyList<Fact> GatherFacts(DateTimeOffset now) => [];

    public Sample TakeSample(DateTimeOffset now) => new() { At = now };

    public virtual void StartKeeper(string runDirectory) => throw new NotSupportedException();

    public void StartShellKeeper(string shellDirectory) => throw new NotSupportedException();

    public IAgentUpdate? Update(StateDirectory state) => null;

    public virtual IPeopleHere People(StateDirectory state) => throw new NotSupportedException();

    public IAsyncEnumerable<ScanAnswer?> ScanAsync(ScanOrder order, CancellationToken cancel) => throw new NotSupportedException();

    public virtual IProber Prober(StateDirectory state) => throw new NotSupportedException();

    public IProcessReader Processes() => throw new NotSupportedException();

    public IServiceReader Services() => throw new NotSupportedException();

    public ILogReader Logs(IReadOnlyList<string>? roots) => throw new NotSupportedException();

    public virtual IReadOnlyList<PlaceHere> PlacesOf(NamedPlace place) => throw new NotSupportedException();

    public virtual IHostFiles Files(IReadOnlyList<string>? roots) => throw new NotSupportedException();

    public virtual Umbrek.Agent.Desktop.IDesktops Desktops(StateDirectory state) => new Umbrek.Agent.Platform.Linux.LinuxDesktops(state, TimeProvider.System);

    public virtual IFileChanges FileChanges(StateDirectory state, PartLedger ledger, IReadOnlyList<string>? roots) => throw new NotSupportedException();

    public DateTimeOffset? BootedAt(DateTimeOffset now) => null;

    public AwayReason StopReason() => AwayReason.AgentStopped;
}
