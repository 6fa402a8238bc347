using System.Globalization;

namespace Umbrek.Core.Enrolment;

/// <summary>IPv4 addresses from the first to the last, both included. Addresses are numbers in network order, most significant byte first.</summary>
public sealed record AddressRange(uint First, uint Last)
{
    /// <summary>A /20.</summary>
    public const int MostAddresses = 4096;

    public int Count => (int)(Last - First + 1);

    /// <summary>
    /// Reads "198.51.100.0/24" (RFC 4632), "198.51.100.10-50", "198.51.100.10-198.51.101.9" or one address.
    /// </summary>
    /// <returns>The range, or null with what is wrong and what to write.</returns>
    public static AddressRange? Parse(string text, out string problem)
    {
        problem = "";
        text = text.Trim();
        if (text.Contains(':'))
        {
            problem = "An IPv6 network has more addresses than can be tried one by one. Scan the IPv4 range of the same place.";
            return null;
        }
        AddressRange? range = null;
        var slash = text.IndexOf('/');
        var dash = text.IndexOf('-');
        if (slash > 0)
        {
            if (Address(text[..slash]) is { } address && int.TryParse(text[(slash + 1)..], NumberStyles.None, CultureInfo.InvariantCulture, out var bits) && bits is >= 0 and <= 32)
            {
                var mask = bits == 0 ? 0 : uint.MaxValue << (32 - bits);
                var (first, last) = (address & mask, address | ~mask);
                // The network's own address and its broadcast address are no hosts (RFC 1122 §3.2.1.3).
                range = bits <= 30 ? new AddressRange(first + 1, last - 1) : new AddressRange(first, last);
            }
        }
        else if (dash > 0)
        {
            if (Address(text[..dash].Trim()) is { } first)
            {
                var end = text[(dash + 1)..].Trim();
                var last = end.Contains('.') ? Address(end) : byte.TryParse(end, NumberStyles.None, CultureInfo.InvariantCulture, out var low) ? (first & 0xFFFFFF00) | low : null;
                if (last is { } to && to < first)
                {
                    problem = $"The range ends before it begins: {text}.";
                    return null;
                }
                range = last is { } l ? new AddressRange(first, l) : null;
            }
        }
        else if (Address(text) is { } one)
        {
            range = new AddressRange(one, one);
        }
        if (range is null)
        {
            problem = $"'{text}' is no range of addresses; write it like 198.51.100.0/24 or 198.51.100.10-60.";
            return null;
        }
        if ((ulong)range.Last - range.First + 1 > MostAddresses)
        {
            problem = $"{text} has {(ulong)range.Last - range.First + 1} addresses; {MostAddresses} (a /20) is the most that is scanned at once. Scan it in parts.";
            return null;
        }
        return range;
    }

    public IEnumerable<string> Addresses()
    {
        for (var address = First; ; address++)
        {
            yield return Text(address);
            if (address == Last)
            {
                yield break;
            }
        }
    }

    public override string ToString() => First == Last ? Text(First) : $"{Text(First)}-{Text(Last)}";

    private static string Text(uint address) => string.Create(CultureInfo.InvariantCulture, $"{address >> 24}.{(address >> 16) & 255}.{(address >> 8) & 255}.{address & 255}");

    private static uint? Address(string text)
    {
        var parts = text.Split('.');
        if (parts.Length != 4)
        {
            return null;
        }
        uint address = 0;
        foreach (var part in parts)
        {
            if (part.Length > 3 || !byte.TryParse(part, NumberStyles.None, CultureInfo.InvariantCulture, out var value))
            {
                return null;
            }
            address = (address << 8) | value;
        }
        return address;
    }
}
