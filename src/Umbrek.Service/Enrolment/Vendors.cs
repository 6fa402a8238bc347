using Umbrek.Core.Enrolment;

namespace Umbrek.Service.Enrolment;

/// <summary>The registry of network hardware as Debian's package ieee-data brings it; read when it is first asked, empty without the package.</summary>
public sealed class Vendors
{
    private const string List = "/usr/share/ieee-data/oui.txt";
    private readonly Lazy<HardwarePrefixes> prefixes = new(() => new HardwarePrefixes(File.Exists(List) ? File.ReadLines(List) : []));

    public string? Find(string? hardwareAddress) => hardwareAddress is null ? null : prefixes.Value.Find(hardwareAddress);
}
