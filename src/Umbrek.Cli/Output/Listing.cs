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
                Terminal.Data.WriteLine(JsonSerializer.Serialize([.. items], json));
                break;
            case OutputFormat.Csv:
                Terminal.Data.Write(ToCsv(items, columns));
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
                Terminal.Data.WriteLine(JsonSerializer.Serialize(item, json));
                break;
            case OutputFormat.Csv:
                Terminal.Data.Write(ToCsv(lines, new Column<(string Name, string? Value)>("name", l => l.Name), new Column<(string Name, string? Value)>("value", l => l.Value ?? "")));
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
                Terminal.Data.WriteLine(JsonSerializer.Serialize(item, json));
                break;
            case OutputFormat.Csv:
                Terminal.Data.Write(ToCsv([sentence], new Column<string>("done", s => s)));
                break;
            default:
                Console.Out.WriteLine(sentence);
                break;
        }
    }

    private static string ToCsv<T>(IEnumerable<T> items, params IReadOnlyList<Column<T>> columns)
    {
        var csv = new StringBuilder();
        csv.AppendJoin(',', columns.Select(c => CsvText.Escape(c.Title.ToLowerInvariant()))).Append("\r\n");
        foreach (var item in items)
        {
            csv.AppendJoin(',', columns.Select(c => CsvText.Escape((c.Machine ?? c.Plain)(item)))).Append("\r\n");
        }
        return csv.ToString();
    }

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

/// <summary>
/// The person's terminal. Whatever is written to <see cref="Console.Out"/> and <see cref="Console.Error"/> is shown and never obeyed:
/// hosts, services and people elsewhere wrote much of it. Only what is drawn here goes there as it is.
/// </summary>
public static class Terminal
{
    private static TextWriter? output;
    private static TextWriter? errors;

    /// <summary>Width and colours; wide and plain when the output goes elsewhere.</summary>
    public static IAnsiConsole Out { get; } = Create(new AnsiConsoleOutput(output ?? Console.Out), Console.IsOutputRedirected);

    /// <summary>For machines: a file or a pipe gets it to the letter, a terminal sees what is in it.</summary>
    public static TextWriter Data => Console.IsOutputRedirected && output is not null ? output : Console.Out;

    /// <summary>Called before anything is written.</summary>
    public static void Guard()
    {
        (output, errors) = (Console.Out, Console.Error);
        Console.SetOut(TextWriter.Synchronized(new ShownText(output)));
        Console.SetError(TextWriter.Synchronized(new ShownText(errors)));
    }

    /// <summary>Draws over the whole screen, or moves the cursor: control sequences of our own, and no text of others that was not made harmless.</summary>
    public static void Draw(string sequence) => (output ?? Console.Out).Write(sequence);

    /// <summary>Puts a line of progress in the place of the one before, where somebody looks on; empty takes it away.</summary>
    public static void Progress(string line)
    {
        if (!Console.IsErrorRedirected)
        {
            // Erase in Line (ECMA-48, 8.3.41).
            (errors ?? Console.Error).Write($"\r\e[K{TerminalText.Line(line)}");
        }
    }

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
