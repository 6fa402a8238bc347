using System.Buffers;
using System.Text;

namespace Umbrek.Core.Jobs;

/// <summary>
/// Puts a sign in the place of what may differ, line by line. The hot path of folding: one pass over the bytes, no
/// allocation. Everything is told by its form alone, at the beginning of a word; what has no such form stays as it is.
/// </summary>
public sealed class LineMasker
{
    /// <summary>A byte that UTF-8 never holds.</summary>
    private const byte SignByte = 0xff;

    private const byte RawSign = (byte)'r';
    private const byte TimeSign = (byte)'t';
    private const byte NameSign = (byte)'h';
    private const byte AddressSign = (byte)'a';
    private const byte NumberSign = (byte)'n';

    private static readonly SearchValues<byte> OfAddress = SearchValues.Create("0123456789abcdefABCDEF:.-"u8);
    private static readonly string[] Days = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
    private static readonly string[] Months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

    private readonly bool times;
    private readonly bool addresses;
    private readonly bool numbers;
    private readonly byte[][] names;
    private readonly bool[] startsName = new bool[256];

    /// <param name="ownNames">What the host is called; a part before the first dot counts as well.</param>
    public LineMasker(AnswerMask mask, IEnumerable<string> ownNames)
    {
        times = mask.HasFlag(AnswerMask.Times);
        addresses = mask.HasFlag(AnswerMask.Addresses);
        numbers = mask.HasFlag(AnswerMask.Numbers);
        names = !mask.HasFlag(AnswerMask.Names) ? [] :
            [.. ownNames.SelectMany(n => new[] { n, n.Split('.')[0] }).Where(n => n.Length > 1).Distinct(StringComparer.OrdinalIgnoreCase)
                .OrderByDescending(n => n.Length).Select(Encoding.UTF8.GetBytes)];
        foreach (var name in names)
        {
            startsName[Lower(name[0])] = true;
            startsName[Upper(name[0])] = true;
        }
    }

    /// <summary>The most bytes that a line of so many becomes: a sign has two, and may stand for one.</summary>
    public static int Most(int length) => 2 * length + 2;

    /// <summary>Writes the line as it counts into <paramref name="target"/>, which holds <see cref="Most"/> bytes.</summary>
    /// <param name="line">Without its end.</param>
    /// <returns>Bytes written.</returns>
    public int Mask(ReadOnlySpan<byte> line, Span<byte> target)
    {
        line = line.TrimEnd(" \t\r"u8);
        if (line.Contains(SignByte))
        {
            // No text in UTF-8: it counts as it is, and can't pass for a sign.
            Sign(target, RawSign);
            line.CopyTo(target[2..]);
            return line.Length + 2;
        }
        var written = 0;
        for (var i = 0; i < line.Length;)
        {
            var b = line[i];
            if (numbers && IsBlank(b))
            {
                target[written++] = (byte)' ';
                while (i < line.Length && IsBlank(line[i]))
                {
                    i++;
                }
                continue;
            }
            var rest = line[i..];
            if (startsName[b] && NameAt(rest) is > 0 and var name)
            {
                written += Sign(target[written..], NameSign);
                i += name;
            }
            else if (!IsWord(b) && !(b == ':' && addresses && (i == 0 || !IsWord(line[i - 1]))))
            {
                target[written++] = b;
                i++;
            }
            else if (addresses && AddressAt(rest) is > 0 and var address)
            {
                written += Sign(target[written..], AddressSign);
                i += address;
            }
            else if (!IsWord(b))
            {
                target[written++] = b;
                i++;
            }
            else if (times && TimeAt(rest) is > 0 and var time)
            {
                written += Sign(target[written..], TimeSign);
                i += time;
            }
            else if (numbers && NumberAt(rest) is > 0 and var number)
            {
                written += Sign(target[written..], NumberSign);
                i += number;
                // What stands right behind a figure is its unit.
                written += CopyWord(line, ref i, target[written..]);
            }
            else
            {
                written += CopyWord(line, ref i, target[written..]);
            }
        }
        return written;
    }

    private static int Sign(Span<byte> target, byte kind)
    {
        target[0] = SignByte;
        target[1] = kind;
        return 2;
    }

    private static int CopyWord(ReadOnlySpan<byte> line, ref int i, Span<byte> target)
    {
        var from = i;
        while (i < line.Length && IsWord(line[i]))
        {
            i++;
        }
        line[from..i].CopyTo(target);
        return i - from;
    }

    private int NameAt(ReadOnlySpan<byte> s)
    {
        foreach (var name in names)
        {
            if (s.Length >= name.Length && (s.Length == name.Length || !IsWord(s[name.Length])) && Ascii.EqualsIgnoreCase(s[..name.Length], name))
            {
                return name.Length;
            }
        }
        return 0;
    }

    private static int AddressAt(ReadOnlySpan<byte> s)
    {
        var run = s.IndexOfAnyExcept(OfAddress) is >= 0 and var end ? end : s.Length;
        if (run < 2 || (run < s.Length && IsWord(s[run])))
        {
            return 0;
        }
        var word = s[..run].TrimEnd(".:-"u8);
        // "::" alone, and addresses that end so (RFC 4291, section 2.2).
        if (run > word.Length + 1 && s[word.Length] == ':' && s[word.Length + 1] == ':')
        {
            word = s[..(word.Length + 2)];
        }
        if (Hardware(word))
        {
            return word.Length;
        }
        // A port may follow an IPv4 address.
        var dots = word.Count((byte)'.');
        var colons = word.Count((byte)':');
        if (dots == 3 && colons <= 1)
        {
            var v4 = colons == 1 ? word[..word.IndexOf((byte)':')] : word;
            return IsV4(v4) ? v4.Length : 0;
        }
        return colons >= 2 && !word.Contains((byte)'-') && IsV6(word) ? word.Length : 0;
    }

    private static bool IsV4(ReadOnlySpan<byte> s)
    {
        var parts = 0;
        var digits = 0;
        var value = 0;
        foreach (var b in s)
        {
            if (IsDigit(b))
            {
                digits++;
                value = value * 10 + b - '0';
                if (digits > 3 || value > 255)
                {
                    return false;
                }
            }
            else if (b == '.' && digits > 0)
            {
                parts++;
                digits = value = 0;
            }
            else
            {
                return false;
            }
        }
        return parts == 3 && digits > 0;
    }

    /// <summary>Eight groups of hexadecimal digits, of which "::" stands for some; the last two may be an IPv4 address (RFC 4291, section 2.2).</summary>
    private static bool IsV6(ReadOnlySpan<byte> s)
    {
        var gap = s.IndexOf("::"u8);
        if (gap < 0)
        {
            return Groups(s) == 8;
        }
        var (before, behind) = (Groups(s[..gap]), Groups(s[(gap + 2)..]));
        return before >= 0 && behind >= 0 && before + behind < 8;
    }

    /// <returns>How many groups of 16 bits there are with single colons between them; -1 when something else stands there.</returns>
    private static int Groups(ReadOnlySpan<byte> s)
    {
        var groups = 0;
        while (!s.IsEmpty)
        {
            var end = s.IndexOf((byte)':');
            var group = end < 0 ? s : s[..end];
            if (end < 0 && group.Contains((byte)'.'))
            {
                return IsV4(group) ? groups + 2 : -1;
            }
            if (group.Length is 0 or > 4 || HexRun(group) < group.Length || end == s.Length - 1)
            {
                return -1;
            }
            groups++;
            s = end < 0 ? [] : s[(end + 1)..];
        }
        return groups;
    }

    /// <summary>Six pairs of hexadecimal digits (IEEE 802, section 8.1).</summary>
    private static bool Hardware(ReadOnlySpan<byte> s)
    {
        if (s.Length != 17 || s[2] is not ((byte)':' or (byte)'-'))
        {
            return false;
        }
        for (var i = 0; i < 17; i++)
        {
            if (i % 3 == 2 ? s[i] != s[2] : !IsHex(s[i]))
            {
                return false;
            }
        }
        return true;
    }

    private static int TimeAt(ReadOnlySpan<byte> s) =>
        IsDigit(s[0])
            ? DateAt(s) is > 0 and var date ? date + ClockBehind(s[date..]) : WordDateAt(s) is > 0 and var day ? day + ClockBehind(s[day..]) : ClockAt(s)
            : SpelledAt(s);

    /// <summary>A calendar date in figures: 2026-11-25 (ISO 8601), 25.11.2026, 25/11/2026, 2026/11/25.</summary>
    private static int DateAt(ReadOnlySpan<byte> s)
    {
        if (s.Length < 10 || (s.Length > 10 && (IsDigit(s[10]) || (IsLetter(s[10]) && s[10] != 'T'))))
        {
            return 0;
        }
        if (Digits(s, 4) && s[4] is (byte)'-' or (byte)'/' && s[7] == s[4] && Digits(s[5..], 2) && Digits(s[8..], 2))
        {
            return 10;
        }
        return Digits(s, 2) && s[2] is (byte)'.' or (byte)'/' && s[5] == s[2] && Digits(s[3..], 2) && Digits(s[6..], 4) ? 10 : 0;
    }

    /// <summary>25 Nov 2026.</summary>
    private static int WordDateAt(ReadOnlySpan<byte> s)
    {
        var day = Run(s);
        if (day > 2 || s.Length < day + 4 || s[day] != ' ' || !IsOneOf(Months, s[(day + 1)..]))
        {
            return 0;
        }
        var i = day + 4;
        return i + 4 < s.Length && s[i] == ' ' && Run(s[(i + 1)..]) == 4 ? i + 5 : i;
    }

    private static int ClockAt(ReadOnlySpan<byte> s)
    {
        var hours = Run(s);
        if (hours is 0 or > 2 || s.Length < hours + 3 || s[hours] != ':' || Run(s[(hours + 1)..]) != 2)
        {
            return 0;
        }
        var i = hours + 3;
        if (i + 2 < s.Length && s[i] == ':' && Run(s[(i + 1)..]) == 2)
        {
            i += 3;
            if (i + 1 < s.Length && s[i] is (byte)'.' or (byte)',' && Run(s[(i + 1)..]) is > 0 and var fraction)
            {
                i += 1 + fraction;
            }
        }
        if (i < s.Length && s[i] == 'Z')
        {
            i++;
        }
        else if (i + 4 < s.Length && s[i] is (byte)'+' or (byte)'-' && Run(s[(i + 1)..]) is 2 or 4)
        {
            i += 1 + Run(s[(i + 1)..]);
            if (i + 2 < s.Length && s[i] == ':' && Run(s[(i + 1)..]) == 2)
            {
                i += 3;
            }
        }
        // Half of something else, such as a hardware address.
        return i < s.Length && (IsWord(s[i]) || (s[i] == ':' && i + 1 < s.Length && IsWord(s[i + 1]))) ? 0 : i;
    }

    private static int ClockBehind(ReadOnlySpan<byte> s)
    {
        if (s.Length < 5 || s[0] is not ((byte)' ' or (byte)'T') || ClockAt(s[1..]) is not (> 0 and var clock))
        {
            return 0;
        }
        var i = 1 + clock;
        // " +0000" and " UTC", as date(1) and mail write them.
        if (i + 5 < s.Length && s[i] == ' ' && s[i + 1] is (byte)'+' or (byte)'-' && Run(s[(i + 2)..]) == 4)
        {
            i += 6;
        }
        return i;
    }

    /// <summary>Thu Nov 26 14:55:29 UTC 2026, Nov 26 14:55:29, Thu, 26 Nov 2026 14:55:29 +0000.</summary>
    private static int SpelledAt(ReadOnlySpan<byte> s)
    {
        var i = 0;
        if (IsOneOf(Days, s))
        {
            i = 3;
            if (i < s.Length && s[i] == ',')
            {
                i++;
            }
            if (!SkipBlanks(s, ref i))
            {
                return 0;
            }
            if (i < s.Length && IsDigit(s[i]))
            {
                return DateAt(s[i..]) is > 0 and var figures ? i + figures + ClockBehind(s[(i + figures)..])
                    : WordDateAt(s[i..]) is > 0 and var date ? i + date + ClockBehind(s[(i + date)..])
                    : 0;
            }
        }
        if (i >= s.Length || !IsOneOf(Months, s[i..]))
        {
            return 0;
        }
        i += 3;
        if (!SkipBlanks(s, ref i) || Run(s[i..]) is not (1 or 2))
        {
            return 0;
        }
        i += Run(s[i..]);
        i += ClockBehind(s[i..]);
        // The zone and the year, as date(1) writes them.
        var j = i;
        if (SkipBlanks(s, ref j) && j + 3 <= s.Length && IsUpper(s[j]))
        {
            var zone = j;
            while (zone < s.Length && IsUpper(s[zone]))
            {
                zone++;
            }
            if (zone - j is >= 3 and <= 5 && SkipBlanks(s, ref zone) && zone + 4 <= s.Length && Run(s[zone..]) == 4)
            {
                return zone + 4;
            }
        }
        j = i;
        if (SkipBlanks(s, ref j) && j + 4 <= s.Length && Run(s[j..]) == 4)
        {
            return j + 4;
        }
        return i < s.Length && IsWord(s[i]) ? 0 : i;
    }

    private static int NumberAt(ReadOnlySpan<byte> s)
    {
        if (s.Length > 2 && s[0] == '0' && s[1] is (byte)'x' or (byte)'X' && IsHex(s[2]))
        {
            return 2 + HexRun(s[2..]);
        }
        var hex = HexRun(s);
        if (hex == 8 && Uuid(s))
        {
            return 36;
        }
        // An id of eight hexadecimal digits and more, with a figure among them.
        if (hex >= 8 && (hex == s.Length || !IsWord(s[hex])) && s[..hex].ContainsAnyInRange((byte)'0', (byte)'9'))
        {
            return hex;
        }
        var i = Run(s);
        while (i > 0 && i + 1 < s.Length && s[i] is (byte)'.' or (byte)',' && IsDigit(s[i + 1]))
        {
            i += 1 + Run(s[(i + 1)..]);
        }
        return i;
    }

    /// <summary>RFC 9562, section 4.</summary>
    private static bool Uuid(ReadOnlySpan<byte> s)
    {
        if (s.Length < 36 || (s.Length > 36 && IsWord(s[36])))
        {
            return false;
        }
        for (var i = 0; i < 36; i++)
        {
            if (i is 8 or 13 or 18 or 23 ? s[i] != '-' : !IsHex(s[i]))
            {
                return false;
            }
        }
        return true;
    }

    private static bool IsOneOf(string[] words, ReadOnlySpan<byte> s)
    {
        if (s.Length < 3 || (s.Length > 3 && IsWord(s[3])))
        {
            return false;
        }
        foreach (var word in words)
        {
            if (s[0] == word[0] && s[1] == word[1] && s[2] == word[2])
            {
                return true;
            }
        }
        return false;
    }

    private static bool SkipBlanks(ReadOnlySpan<byte> s, ref int i)
    {
        var from = i;
        while (i < s.Length && s[i] == ' ')
        {
            i++;
        }
        return i > from;
    }

    private static bool Digits(ReadOnlySpan<byte> s, int count) => s.Length >= count && !s[..count].ContainsAnyExceptInRange((byte)'0', (byte)'9');

    private static int Run(ReadOnlySpan<byte> s) => s.IndexOfAnyExceptInRange((byte)'0', (byte)'9') is >= 0 and var end ? end : s.Length;

    private static int HexRun(ReadOnlySpan<byte> s)
    {
        var i = 0;
        while (i < s.Length && IsHex(s[i]))
        {
            i++;
        }
        return i;
    }

    private static bool IsBlank(byte b) => b is (byte)' ' or (byte)'\t';
    private static bool IsDigit(byte b) => (uint)(b - '0') <= 9;
    private static bool IsUpper(byte b) => (uint)(b - 'A') <= 25;
    private static bool IsLetter(byte b) => (uint)((b | 0x20) - 'a') <= 25;
    private static bool IsHex(byte b) => IsDigit(b) || (uint)((b | 0x20) - 'a') <= 5;

    /// <summary>Letters of other scripts than Latin count as parts of words too.</summary>
    private static bool IsWord(byte b) => IsLetter(b) || IsDigit(b) || b == '_' || b >= 0x80;
    private static byte Lower(byte b) => IsUpper(b) ? (byte)(b | 0x20) : b;
    private static byte Upper(byte b) => IsLetter(b) ? (byte)(b & ~0x20) : b;
}
