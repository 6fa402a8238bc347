using System.Text;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Spectre.Console;
using Umbrek.Core.Text;

namespace Umbrek.Cli.Output;

public enum OutputFormat
{
    Table,
    Json,
    Csv,
}

/// <param name="Plain">The value for a person.</param>
/// <param name="Machine">The value for CSV where it differs from <paramref name="Plain"/>.</param>
public sealed record Column<T>(string Title, Func<T, string> Plain, bool Right = false, Func<T, string>? Machine = null);

/// <summary>Prints a list as a table for people, as JSON (the API's own field names) or CSV (RFC 4180) for machines.</summary>
public static class Listing
{
    public static void Print<T>(OutputFormat format, IReadOnlyList<T> items, JsonTypeInfo<List<T>> json, string whenEmpty, params Column<T>[] columns)
    {
        switch (format)
        {
            case OutputFormat.Json:
                Console.Out.WriteLine(JsonSerializer.Serialize([.. items], json));
                break;
            case OutputFormat.Csv:
                Console.Out.Write(ToCsv(items, columns));
                break;
            default:
                PrintTable(items, whenEmpty, columns);
                break;
        }
    }

    /// <summary>Prints one thing: as JSON, or as lines "name  value".</summary>
    public static void PrintOne<T>(OutputFormat format, T item, JsonTypeInfo<T> json, params (string Name, string? Value)[] lines)
    {
        switch (format)
        {
            case OutputFormat.Json:
                Console.Out.WriteLine(JsonSerializer.Serialize(item, json));
                break;
            case OutputFormat.Csv:
                Console.Out.Write(ToCsv(lines, new Column<(string Name, string? Value)>("name", l => l.Name), new Column<(string Name, string? Value)>("value", l => l.Value ?? "")));
                break;
            default:
                var width = lines.Max(l => l.Name.Length) + 2;
                foreach (var (name, value) in lines.Where(l => l.Value is not null))
                {
                    Console.Out.WriteLine($"{name.PadRight(width)}{TerminalText.Neutralise(value!).Replace("\n", "\n" + new string(' ', width))}");
                }
                break;
        }
    }

    /// <summary>Says what was done in a sentence, or prints what it was done to for machines.</summary>
    public static void Say<T>(OutputFormat format, string sentence, T item, JsonTypeInfo<T> json)
    {
        switch (format)
        {
            case OutputFormat.Json:
                Console.Out.WriteLine(JsonSerializer.Serialize(item, json));
                break;
            case OutputFormat.Csv:
                Console.Out.Write(ToCsv([sentence], new Column<string>("done", s => s)));
                break;
            default:
                Console.Out.WriteLine(sentence);
                break;
        }
    }

    private static string ToCsv<T>(IEnumerable<T> items, params IReadOnlyList<Column<T>> columns)
    {
        var csv = new StringBuilder();
        csv.AppendJoin(',', columns.Select(c => Escape(c.Title.ToLowerInvariant()))).Append("\r\n");
        foreach (var item in items)
        {
            csv.AppendJoin(',', columns.Select(c => Escape((c.Machine ?? c.Plain)(item)))).Append("\r\n");
        }
        return csv.ToString();
    }

    private static string Escape(string value) =>
        value.AsSpan().IndexOfAny(",\"\r\n") < 0 ? value : $"\"{value.Replace("\"", "\"\"")}\"";

    private static void PrintTable<T>(IReadOnlyList<T> items, string whenEmpty, IReadOnlyList<Column<T>> columns)
    {
        if (items.Count == 0)
        {
            Console.Out.WriteLine(whenEmpty);
            return;
        }
        var table = new Table().NoBorder().NoSafeBorder();
        foreach (var column in columns)
        {
            var header = new TableColumn(new Text(column.Title, new Style(decoration: Decoration.Underline))).PadLeft(0).PadRight(2);
            table.AddColumn(column.Right ? header.RightAligned() : header);
        }
        foreach (var item in items)
        {
            table.AddRow(columns.Select(c => new Text(TerminalText.Neutralise(c.Plain(item)))));
        }
        Terminal.Out.Write(table);
    }
}

/// <summary>The terminal's width and colours; wide and plain when the output goes elsewhere.</summary>
public static class Terminal
{
    public static IAnsiConsole Out { get; } = Create(new AnsiConsoleOutput(Console.Out), Console.IsOutputRedirected);

    private static IAnsiConsole Create(IAnsiConsoleOutput output, bool redirected)
    {
        var console = AnsiConsole.Create(new AnsiConsoleSettings
        {
            Out = output,
            Ansi = redirected ? AnsiSupport.No : AnsiSupport.Detect,
            ColorSystem = redirected || Environment.GetEnvironmentVariable("NO_COLOR") is { Length: > 0 } ? ColorSystemSupport.NoColors : ColorSystemSupport.Detect,
            Interactive = InteractionSupport.No,
        });
        if (redirected)
        {
            console.Profile.Width = 240;
        }
        return console;
    }
}
