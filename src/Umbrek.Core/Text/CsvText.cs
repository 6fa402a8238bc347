using System.Text.RegularExpressions;

namespace Umbrek.Core.Text;

/// <summary>
/// Cells of tables that spreadsheets open: what hosts and people wrote stays a text, and is never taken for a formula
/// (OWASP ASVS 5.0, section 1.2). Numbers stay numbers.
/// </summary>
public static partial class CsvText
{
    private const char Mark = '\'';

    /// <summary>The cell with an apostrophe before what would begin a formula.</summary>
    public static string Guard(string cell) => IsGuarded(cell) || BeginsFormula(cell) ? $"{Mark}{cell}" : cell;

    /// <summary>The cell as it was before it was guarded.</summary>
    public static string Unguard(string cell) => IsGuarded(cell) ? cell[1..] : cell;

    /// <summary>Guarded for a CSV file, in quotation marks where it takes them (RFC 4180, section 2).</summary>
    public static string Escape(string cell)
    {
        var guarded = Guard(cell);
        return guarded.AsSpan().IndexOfAny(",\"\r\n") < 0 ? guarded : $"\"{guarded.Replace("\"", "\"\"")}\"";
    }

    /// <summary>An apostrophe of one's own before such a cell gets another, so that what comes back is what was written.</summary>
    private static bool IsGuarded(string cell) => cell.Length > 1 && cell[0] == Mark && (BeginsFormula(cell[1..]) || IsGuarded(cell[1..]));

    private static bool BeginsFormula(string cell) => cell is ['=' or '+' or '-' or '@' or '\t' or '\r' or '\0', ..] && !Number().IsMatch(cell);

    [GeneratedRegex(@"^[+-]?[\d.,]+(e[+-]?\d+)?( ?%)?\z", RegexOptions.IgnoreCase)]
    private static partial Regex Number();
}
