using Umbrek.Agent.Desktop;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Files;
using Umbrek.Agent.Health;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Estate;
using Umbrek.Core.Files;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Platform;

/// <summary>What the agent needs of the system that it runs on. Each maker is one folder beside this file.</summary>
public interface IHostPlatform
{
    /// <summary>The system's own name.</summary>
    string SystemName { get; }

    /// <summary>An id that stays the same over restarts, or null when the system has none.</summary>
    string? MachineId { get; }

    /// <summary>The version of the agent program that runs here.</summary>
    string AgentVersion { get; }

    /// <summary>The id of the board (SMBIOS system UUID), or null when the system does not show one.</summary>
    string? HardwareId { get; }

    /// <summary>An id of this one boot, or null.</summary>
    string? BootId { get; }

    /// <summary>Everything that is known of the host now; what can't be read is left out.</summary>
    IReadOnlyList<Fact> GatherFacts(DateTimeOffset now);

    /// <summary>One reading; rates are over the time since the last call.</summary>
    Sample TakeSample(DateTimeOffset now);

    /// <summary>Starts what keeps one run (see <see cref="Keeper"/>) so that it outlives the agent.</summary>
    void StartKeeper(string runDirectory);

    /// <summary>Starts what keeps one shell (see <see cref="Shell.ShellKeeper"/>) so that it outlives the agent.</summary>
    void StartShellKeeper(string shellDirectory);

    /// <summary>How the agent program is replaced here, or null where it is run by hand.</summary>
    IAgentUpdate? Update(StateDirectory state);

    /// <summary>The people who are logged in here.</summary>
    IPeopleHere People(StateDirectory state);

    /// <summary>Looks who answers at addresses around this host: one element for each address that was tried, null where nobody did.</summary>
    IAsyncEnumerable<ScanAnswer?> ScanAsync(ScanOrder order, CancellationToken cancel);

    /// <summary>Reads the processes of this host; whoever looks has one of his own.</summary>
    IProcessReader Processes();

    /// <summary>Reads the services of this host.</summary>
    IServiceReader Services();

    /// <summary>Reads the logs of this host.</summary>
    /// <param name="roots">Folders that technicians are let into to read files; null for everywhere. The journal is no file.</param>
    ILogReader Logs(IReadOnlyList<string>? roots);

    /// <summary>The files of this host, to be looked at and read.</summary>
    /// <param name="roots">Folders that technicians are let into, with all below them; null for everywhere.</param>
    IHostFiles Files(IReadOnlyList<string>? roots);

    /// <summary>The same, to be changed.</summary>
    IFileChanges FileChanges(StateDirectory state, PartLedger ledger, IReadOnlyList<string>? roots);

    /// <summary>Where a named place lies here: one for the system, or one for each person who is logged in.</summary>
    /// <exception cref="IOException">There is none.</exception>
    IReadOnlyList<PlaceHere> PlacesOf(NamedPlace place);

    /// <summary>The screens of this host.</summary>
    IDesktops Desktops(StateDirectory state);

    /// <summary>How checks look at this host, and help it.</summary>
    IProber Prober(StateDirectory state);

    /// <summary>When the host started; null when the system does not show it.</summary>
    DateTimeOffset? BootedAt(DateTimeOffset now);

    /// <summary>Why the agent is being stopped, as far as the system shows it.</summary>
    AwayReason StopReason();
}
