using System.Buffers;
using System.Globalization;

namespace Umbrek.Core.Text;

/// <summary>Sizes and times as people read them.</summary>
public static class Units
{
    private static readonly SearchValues<char> NumberLetters = SearchValues.Create("0123456789.");
    private static readonly string[] Binary = ["B", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"];

    /// <summary>A size in bytes with a binary unit (IEC 80000-13) and three significant figures.</summary>
    public static string Bytes(double bytes)
    {
        var unit = 0;
        while (Math.Abs(bytes) >= 1024 && unit < Binary.Length - 1)
        {
            bytes /= 1024;
            unit++;
        }
        var format = unit == 0 || Math.Abs(bytes) >= 100 ? "0" : Math.Abs(bytes) >= 10 ? "0.0" : "0.00";
        return $"{bytes.ToString(format, CultureInfo.InvariantCulture)} {Binary[unit]}";
    }

    /// <summary>A length of time in its two largest units: "4 min", "3 h 12 min", "9 d".</summary>
    public static string Span(TimeSpan span)
    {
        if (span < TimeSpan.Zero)
        {
            span = TimeSpan.Zero;
        }
        if (span.TotalSeconds < 60)
        {
            return $"{(int)span.TotalSeconds} s";
        }
        if (span.TotalMinutes < 60)
        {
            return $"{(int)span.TotalMinutes} min";
        }
        if (span.TotalHours < 24)
        {
            return span.Minutes == 0 ? $"{span.Hours} h" : $"{span.Hours} h {span.Minutes} min";
        }
        return span.Hours == 0 || span.TotalDays >= 7 ? $"{(int)span.TotalDays} d" : $"{(int)span.TotalDays} d {span.Hours} h";
    }

    /// <summary>Reads "4096", "64 KiB", "1.5 MiB", and decimal units: "10 MB".</summary>
    /// <returns>The number of bytes, or null when the text is none.</returns>
    public static long? ParseBytes(string text)
    {
        text = text.Trim();
        var digits = text.AsSpan().IndexOfAnyExcept(NumberLetters) is var at && at < 0 ? text.Length : at;
        if (!double.TryParse(text.AsSpan(0, digits), NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var number))
        {
            return null;
        }
        var unit = text[digits..].TrimStart();
        var binary = unit.Length == 0 ? 0 : Array.FindIndex(Binary, b => b.Equals(unit, StringComparison.OrdinalIgnoreCase));
        var factor = binary >= 0 ? Math.Pow(1024, binary) : unit.ToUpperInvariant() switch { "KB" => 1e3, "MB" => 1e6, "GB" => 1e9, "TB" => 1e12, _ => double.NaN };
        var bytes = number * factor;
        return bytes is >= 0 and < long.MaxValue ? (long)bytes : null;
    }

    /// <summary>
    /// Reads "90", "90s", "15min", "2h", "7d" (a space may stand before the unit).
    /// </summary>
    /// <returns>The time, or null when the text is none.</returns>
    public static TimeSpan? ParseSpan(string text)
    {
        text = text.Trim();
        var digits = text.AsSpan().IndexOfAnyExceptInRange('0', '9') is var at && at < 0 ? text.Length : at;
        if (digits == 0 || digits > 9)
        {
            return null;
        }
        var number = int.Parse(text.AsSpan(0, digits), CultureInfo.InvariantCulture);
        return text[digits..].TrimStart() switch
        {
            "" or "s" => TimeSpan.FromSeconds(number),
            "min" or "m" => TimeSpan.FromMinutes(number),
            "h" => TimeSpan.FromHours(number),
            "d" when number <= 36500 => TimeSpan.FromDays(number),
            _ => null,
        };
    }
}
