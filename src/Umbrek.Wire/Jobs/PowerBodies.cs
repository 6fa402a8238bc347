namespace Umbrek.Wire.Jobs;

/// <summary>Which hosts are to be woken over the network.</summary>
public sealed record NewWake(string Selection);

/// <summary>What came of it.</summary>
/// <param name="Job">The job by which neighbours send the packets; null when nobody could be woken.</param>
public sealed record WakeInfo(JobInfo? Job, IReadOnlyList<WakeHost> Hosts);

/// <summary>How a host can be woken.</summary>
/// <param name="Neighbours">Who sends the packet: hosts that are linked and stand in one network with it.</param>
/// <param name="Problem">Why nobody does; null when somebody does.</param>
public sealed record WakeHost(Guid HostId, string Label, string GroupPath, IReadOnlyList<HostNeighbour> Neighbours, string? Problem);

/// <param name="Network">The network in which both stand.</param>
public sealed record HostNeighbour(Guid HostId, string Label, string Network);
