using Umbrek.Cli.Output;
using Umbrek.Core.Health;
using Umbrek.Core.Text;
using Umbrek.Wire.Health;

namespace Umbrek.Cli.Health;

/// <summary>What <c>umbrek watch</c> shows: the estate's state at a moment.</summary>
/// <param name="Problem">Why it is not of now; null when it is.</param>
public sealed record WatchState(HealthOverview Overview, IReadOnlyList<AlertLine> Alerts, DateTimeOffset At, string? Problem = null);

/// <summary>Draws the estate as lines of text that fit a terminal: what needs a person first, then every place by subsystem.</summary>
public static class WatchView
{
    private const int LeastWidth = 40;
    private const int LeastAlerts = 3;
    private const int SeverityWidth = 12;
    private const int SinceWidth = 10;
    private static readonly (Subsystem Subsystem, string Title)[] Columns =
    [
        (Subsystem.Reachability, "reach"), (Subsystem.Processor, "proc"), (Subsystem.Memory, "mem"), (Subsystem.Storage, "stor"), (Subsystem.Services, "serv"), (Subsystem.Updates, "upd"), (Subsystem.Security, "sec"), (Subsystem.Hardware, "hard"),
    ];

    /// <param name="chosen">Which alert line is marked, kept within what there is; below 0 nobody chooses, and no keys are named.</param>
    /// <param name="colour">Whether severities are coloured besides their words.</param>
    /// <returns>At most <paramref name="height"/> lines of at most <paramref name="width"/> columns each, escape sequences not counted.</returns>
    public static List<string> Draw(WatchState state, int width, int height, int chosen, bool colour)
    {
        width = Math.Max(LeastWidth, width);
        var whole = state.Overview.Whole;
        var head = new List<string> { Spread($"{(whole.Path.Length == 0 ? "Everything" : whole.Path.Replace("/", " ▸ "))}", $"{whole.Hosts} {(whole.Hosts == 1 ? "host" : "hosts")}  {whole.Linked} linked  {whole.Lost} lost  {state.At:HH:mm:ss} UTC", width) };
        if (state.Problem is { } problem)
        {
            head.Add(Cut($"What stands here is of {state.At:HH:mm:ss}: {TerminalText.Line(problem)}", width));
        }
        head.Add("");
        List<string> foot = chosen < 0 ? [] : ["", Cut("q ends   ↑ ↓ choose   a: I am at it   (the console has the whole of it)", width)];
        var places = Places(state.Overview, width, colour);
        var room = height - head.Count - foot.Count - 1;
        // Places give way before alerts do.
        var shownPlaces = places.Count > 0 && room - (places.Count + 1) >= Math.Min(LeastAlerts, state.Alerts.Count) ? places : [];
        var alerts = Alerts(state, width, room - (shownPlaces.Count == 0 ? 0 : shownPlaces.Count + 1), chosen, colour);
        return [.. new[] { head, alerts, shownPlaces.Count == 0 ? [] : [.. shownPlaces.Prepend("")], foot }.SelectMany(part => part).Take(height)];
    }

    private static List<string> Alerts(WatchState state, int width, int room, int chosen, bool colour)
    {
        if (state.Alerts.Count == 0)
        {
            return ["  Nothing needs anybody."];
        }
        var whereWidth = Math.Clamp(width / 4, 10, 32);
        var lines = new List<string> { Cut($"  {"Severity".PadRight(SeverityWidth)}{"Since".PadRight(SinceWidth)}{"Where".PadRight(whereWidth + 2)}What", width) };
        var visible = Math.Max(1, room - 2);
        chosen = Math.Min(chosen, state.Alerts.Count - 1);
        var first = Math.Clamp(chosen - visible + 1, 0, Math.Max(0, state.Alerts.Count - visible));
        foreach (var (line, i) in state.Alerts.Select((l, i) => (l, i)).Skip(first).Take(visible))
        {
            var lead = line.Alerts[0];
            var where = line.Place ?? (line.Alerts.All(a => a.HostId == lead.HostId) ? lead.Label : $"{line.Alerts.Select(a => a.HostId).Distinct().Count()} hosts");
            var what = line.State == AlertState.Open ? line.What : $"({(line.State == AlertState.Acknowledged && lead.StateBy is { } by ? $"{by} is at it" : Words.Of(line.State))}) {line.What}";
            var text = Cut($"{(i == chosen ? '>' : ' ')} {Words.Of(line.Severity).PadRight(SeverityWidth)}{Units.Span(state.At - line.RaisedAt).PadRight(SinceWidth)}{Cut(where, whereWidth).PadRight(whereWidth + 2)}{what}", width);
            lines.Add(line.State == AlertState.Open ? Coloured(text, line.Severity, colour, 2, SeverityWidth) : text);
        }
        lines.Add(first + visible < state.Alerts.Count || first > 0 ? Cut($"  {first + 1} to {Math.Min(state.Alerts.Count, first + visible)} of {state.Alerts.Count}", width) : "");
        return lines;
    }

    private static List<string> Places(HealthOverview overview, int width, bool colour)
    {
        if (overview.Places.Count == 0)
        {
            return [];
        }
        const int cell = 7, count = 8;
        var nameWidth = width - 2 - 2 * count - Columns.Length * cell;
        // A narrow terminal has no room for a word in each subsystem: the worst of each place stands for all.
        var narrow = nameWidth < 16;
        nameWidth = narrow ? width - 2 - 2 * count - SeverityWidth : Math.Min(nameWidth, 36);
        var lines = new List<string> { Cut($"  {"Place".PadRight(nameWidth)}{"Hosts",6}  {"Linked",6}  {(narrow ? "Worst" : string.Concat(Columns.Select(c => c.Title.PadRight(cell))))}", width) };
        foreach (var place in overview.Places)
        {
            var line = $"  {Cut(place.Path[(place.Path.LastIndexOf('/') + 1)..], nameWidth - 1).PadRight(nameWidth)}{place.Hosts,6}  {place.Linked,6}  ";
            if (narrow)
            {
                line += place.Subsystems.Count == 0 ? "" : Coloured(Words.Of(place.Subsystems.Max(s => s.Worst)), place.Subsystems.Max(s => s.Worst), colour, 0, SeverityWidth);
            }
            else
            {
                line += string.Concat(Columns.Select(c => place.Subsystems.FirstOrDefault(s => s.Subsystem == c.Subsystem) is { } s ? Coloured(Short(s.Worst).PadRight(cell), s.Worst, colour, 0, cell) : "·".PadRight(cell)));
            }
            lines.Add(line.TrimEnd());
        }
        return lines;
    }

    private static string Short(Severity severity) => severity switch { Severity.Critical => "crit", Severity.Warning => "warn", _ => "info" };

    /// <summary>Colours a part of a line; the words in it say the same.</summary>
    private static string Coloured(string line, Severity severity, bool colour, int from, int length)
    {
        if (!colour || line.Length <= from)
        {
            return line;
        }
        var to = Math.Min(line.Length, from + length);
        var code = severity switch { Severity.Critical => "1;31", Severity.Warning => "35", _ => "36" };
        return $"{line[..from]}\u001b[{code}m{line[from..to]}\u001b[0m{line[to..]}";
    }

    private static string Spread(string left, string right, int width) =>
        left.Length + right.Length + 2 <= width ? left + new string(' ', width - left.Length - right.Length) + right : Cut($"{left}  {right}", width);

    private static string Cut(string text, int width)
    {
        var line = TerminalText.Line(text);
        return line.Length <= width ? line : line[..(width - 1)] + "…";
    }
}
