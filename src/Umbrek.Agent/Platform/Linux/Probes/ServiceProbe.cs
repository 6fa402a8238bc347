using Umbrek.Agent.Health;
using Umbrek.Core.Health;

namespace Umbrek.Agent.Platform.Linux.Probes;

/// <summary>A service of the system has to run.</summary>
public sealed class ServiceProbe : IProbe
{
    public ProbeKind Kind => ProbeKind.Service;

    public Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel) => LinuxServices.LookAsync(probe.Target, cancel);
}
