namespace Umbrek.Wire.Enrolment;

public enum ScanState
{
    Running,
    Done,
    Cancelled,
    Failed,
}

/// <param name="Range">Like 198.51.100.0/24 or 198.51.100.10-60; at most a /20.</param>
/// <param name="Ports">TCP ports to try, 1 to 16 of them; null is a usual few.</param>
/// <param name="ProbesPerSecond">1 to 500.</param>
public sealed record NewScan(Guid HostId, string Range, IReadOnlyList<int>? Ports = null, int ProbesPerSecond = 100);

/// <param name="Probed">Addresses tried so far, of <paramref name="Total"/>.</param>
public sealed record ScanInfo(
    Guid Id, Guid HostId, string HostLabel, string GroupPath, string Range, IReadOnlyList<int> Ports, int ProbesPerSecond, ScanState State, string? Problem,
    DateTimeOffset StartedAt, string StartedBy, DateTimeOffset? EndedAt, int Probed, int Total, int Found, int NotOurs);

/// <summary>Something that answers at an address.</summary>
/// <param name="Vendor">Maker of its network hardware, by the address's prefix.</param>
/// <param name="OursHostId">The host of ours that has this address.</param>
public sealed record ScanFind(string Address, string? Name, string? HardwareAddress, string? Vendor, IReadOnlyList<int> OpenPorts, Guid? OursHostId, string? OursLabel);

public sealed record ScanDetail(ScanInfo Info, IReadOnlyList<ScanFind> Finds);

/// <summary>Sent to live views: the scan as it stands, and finds that are new or changed.</summary>
public sealed record ScanChanges(bool Reset, ScanInfo Info, IReadOnlyList<ScanFind> Finds);
