namespace Umbrek.Core.Enrolment;

/// <summary>Makers of network hardware by the first three bytes of its addresses, from the registry's list "oui.txt" (IEEE Std 802, MA-L).</summary>
public sealed class HardwarePrefixes
{
    private readonly Dictionary<int, string> makers = [];

    /// <param name="lines">Lines of the list; those that matter read like "00-00-5E   (hex)\t\tICANN, IANA Department".</param>
    public HardwarePrefixes(IEnumerable<string> lines)
    {
        foreach (var line in lines)
        {
            var at = line.IndexOf("(hex)", StringComparison.Ordinal);
            if (at > 0 && Prefix(line.AsSpan(0, at)) is { } prefix)
            {
                makers[prefix] = line[(at + 5)..].Trim();
            }
        }
    }

    public int Count => makers.Count;

    /// <param name="address">Like 00:00:5e:00:53:07 or with hyphens.</param>
    /// <returns>The maker, or null when it is not known: not registered, or an address that a system made up (bit 2 of the first byte).</returns>
    public string? Find(string? address) => address is not null && Prefix(address) is { } prefix ? makers.GetValueOrDefault(prefix) : null;

    private static int? Prefix(ReadOnlySpan<char> text)
    {
        var value = 0;
        var digits = 0;
        foreach (var c in text)
        {
            if (char.IsAsciiHexDigit(c))
            {
                value = (value << 4) | Convert.ToInt32(c.ToString(), 16);
                if (++digits == 6)
                {
                    return value;
                }
            }
            else if (c is not (':' or '-' or ' ' or '\t'))
            {
                return null;
            }
        }
        return null;
    }
}
