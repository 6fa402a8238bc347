using System.Globalization;
using CsvHelper;
using CsvHelper.Configuration;
using Umbrek.Core.Text;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Estate;

/// <summary>The tree as CSV (RFC 4180): one line a customer, group or host. A column that is left out leaves alone what it is about.</summary>
public static class TreeCsv
{
    private const string FieldPrefix = "field:";

    private static readonly CsvConfiguration Configuration = new(CultureInfo.InvariantCulture) { TrimOptions = TrimOptions.Trim, BadDataFound = null, MissingFieldFound = null, DetectColumnCountChanges = false };

    private static readonly string[] Columns = ["group", "host", "system name", "id", "tags", "notes", "contact", "address", "colour", "emblem"];

    public static string Write(IReadOnlyList<TreeLine> lines)
    {
        var fields = lines.SelectMany(l => l.Own?.Keys ?? []).Distinct(StringComparer.OrdinalIgnoreCase).Order(StringComparer.OrdinalIgnoreCase).ToList();
        using var text = new StringWriter();
        using (var csv = new CsvWriter(text, Configuration))
        {
            foreach (var column in Columns.Concat(fields.Select(f => FieldPrefix + f)))
            {
                csv.WriteField(column);
            }
            csv.NextRecord();
            foreach (var line in lines)
            {
                string?[] cells = [line.Group, line.Host, line.SystemName, line.Id?.ToString(), line.Tags is null ? null : string.Join("; ", line.Tags), line.Notes, line.Contact, line.Address, line.Colour, line.Emblem];
                foreach (var cell in cells.Concat(fields.Select(f => line.Own?.FirstOrDefault(o => string.Equals(o.Key, f, StringComparison.OrdinalIgnoreCase)).Value)))
                {
                    csv.WriteField(cell is null ? null : CsvText.Guard(cell));
                }
                csv.NextRecord();
            }
        }
        return text.ToString();
    }

    /// <returns>The lines with their numbers in the file, the first being 1, and what is wrong with single ones.</returns>
    /// <exception cref="ProblemException">It is no such table at all.</exception>
    public static (List<(int Number, TreeLine Line)> Lines, List<ImportProblem> Problems) Read(string text, int most)
    {
        using var csv = new CsvReader(new StringReader(text), Configuration);
        if (!csv.Read() || !csv.ReadHeader() || csv.HeaderRecord is not { } header)
        {
            throw ProblemException.Invalid("The table is empty; its first line names the columns, at least 'group'.");
        }
        var known = header.Select((h, i) => (Name: h.Trim().ToLowerInvariant(), Index: i)).ToList();
        if (known.GroupBy(k => k.Name).FirstOrDefault(g => g.Count() > 1) is { } twice)
        {
            throw ProblemException.Invalid($"The column '{twice.Key}' stands there twice.");
        }
        if (known.FirstOrDefault(k => !Columns.Contains(k.Name) && !k.Name.StartsWith(FieldPrefix, StringComparison.Ordinal)) is { Name: { } strange })
        {
            throw ProblemException.Invalid($"There is no column '{strange}'. Columns are {string.Join(", ", Columns)}, and {FieldPrefix}NAME for an own field.");
        }
        if (known.All(k => k.Name != "group"))
        {
            throw ProblemException.Invalid("The table has no column 'group'; it says where each line belongs.");
        }
        var lines = new List<(int, TreeLine)>();
        var last = csv.Context.Parser!.RawRow;
        var problems = new List<ImportProblem>();
        while (csv.Read())
        {
            // A line with a note of several lines is named by its first.
            var number = last + 1;
            last = csv.Context.Parser!.RawRow;
            if (lines.Count >= most)
            {
                throw ProblemException.Invalid($"The table has more than {most} lines; import it by parts.");
            }
            string? Cell(string name) => known.FirstOrDefault(k => k.Name == name) is { Name: not null } column ? CsvText.Unguard(csv.GetField(column.Index) ?? "") : null;
            if (csv.Parser.Count != header.Length)
            {
                problems.Add(new ImportProblem(number, $"The line has {csv.Parser.Count} cells, the first line has {header.Length}. A cell with a comma in it stands in quotation marks."));
                continue;
            }
            Guid? id = null;
            if (Cell("id") is { Length: > 0 } idText)
            {
                if (!Guid.TryParse(idText, out var read))
                {
                    problems.Add(new ImportProblem(number, $"'{idText}' is no host's id."));
                    continue;
                }
                id = read;
            }
            lines.Add((number, new TreeLine(
                Cell("group")!, Cell("host"), Cell("system name"), id, Cell("tags")?.Split(';', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries), Cell("notes"),
                Cell("contact"), Cell("address"), Cell("colour"), Cell("emblem"),
                known.Where(k => k.Name.StartsWith(FieldPrefix, StringComparison.Ordinal)).ToDictionary(k => header[k.Index].Trim()[FieldPrefix.Length..], k => CsvText.Unguard(csv.GetField(k.Index) ?? "")))));
        }
        return (lines, problems);
    }
}
