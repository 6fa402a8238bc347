using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using Umbrek.Core.Text;

namespace Umbrek.Core.Jobs;

/// <summary>A runbook as a document says it.</summary>
/// <param name="Title">Null where the document has none.</param>
/// <param name="Command">Its steps, and how they run.</param>
public sealed record RunbookDocument(string? Title, string? Description, IReadOnlyList<ScriptParameter> Parameters, CommandSpec Command);

/// <summary>
/// Runbooks as documents that people read: Markdown (CommonMark 0.31.2) with a heading of level 2 for each step (section 4.2), its text in
/// a fenced code block (4.5) whose info string names the program that reads it, and list items (5.2) for what else there is to say.
/// <code>
/// # Bring the ticket printer back
/// What it is for.
/// - parameter: UNIT: text = ticket-print -- the unit
///
/// ## Look whether it runs
/// - may fail
/// ```sh
/// systemctl is-active "$UNIT"
/// ```
/// ## Start it
/// - when: "Look whether it runs" failed
/// - tries: 3, 10 s apart
/// ```sh
/// systemctl restart "$UNIT"
/// ```
/// </code>
/// </summary>
public static partial class RunbookText
{
    private static readonly string[] OfBook = ["parameter", "as", "in", "with", "niceness", "time-out", "output"];
    private static readonly string[] OfStep = ["when", "tries", "time-out", "may fail"];

    /// <summary>The document of a runbook; reading it gives the same again.</summary>
    public static string Write(RunbookDocument book)
    {
        var text = new StringBuilder();
        if (book.Title is { } title)
        {
            text.Append("# ").Append(title).Append('\n');
        }
        Paragraph(text, book.Description);
        Items(text, [
            .. book.Parameters.Select(p => $"parameter: {ParameterText.Write(p)}"),
            .. Settings(book.Command)]);
        foreach (var step in book.Command.Steps ?? [])
        {
            text.Append(text.Length > 0 ? "\n## " : "## ").Append(step.Name).Append('\n');
            Paragraph(text, step.Note);
            Items(text, Settings(step));
            var fence = new string('`', Math.Max(3, LongestFence().Matches(step.Text).Select(m => m.Length + 1).DefaultIfEmpty().Max()));
            text.Append('\n').Append(fence).Append(step.Shell ?? "sh").Append('\n').Append(step.Text);
            text.Append(step.Text.EndsWith('\n') ? "" : "\n").Append(fence).Append('\n');
        }
        return text.ToString();
    }

    /// <returns>Null with <paramref name="problem"/> saying what can't be read, and in which line. Whether the steps make sense, <see cref="RunbookSteps.Check"/> says.</returns>
    public static RunbookDocument? Read(string text, out string problem) => new Reader(text).Read(out problem);

    private static IEnumerable<string> Settings(CommandSpec command)
    {
        if (command.User is { } user)
        {
            yield return $"as: {user}";
        }
        if (command.WorkingDirectory is { } directory)
        {
            yield return $"in: {directory}";
        }
        foreach (var (name, value) in command.Environment ?? new Dictionary<string, string>())
        {
            yield return $"with: {name}={value}";
        }
        if (command.Niceness is { } niceness)
        {
            yield return $"niceness: {niceness}";
        }
        if (command.TimeoutSeconds is { } seconds)
        {
            yield return $"time-out: {Seconds(seconds)}";
        }
        if (command.OutputLimitBytes is { } limit)
        {
            yield return string.Create(CultureInfo.InvariantCulture, $"output: {limit}");
        }
    }

    private static IEnumerable<string> Settings(RunbookStep step)
    {
        foreach (var condition in step.When ?? [])
        {
            yield return $"when: {ConditionText.Write(condition)}";
        }
        if (step.MayFail)
        {
            yield return "may fail";
        }
        if (step.Tries > 1 || step.PauseSeconds is not null)
        {
            yield return string.Create(CultureInfo.InvariantCulture, $"tries: {step.Tries}{(step.PauseSeconds is { } pause ? $", {Seconds(pause)} apart" : "")}");
        }
        if (step.TimeoutSeconds is { } seconds)
        {
            yield return $"time-out: {Seconds(seconds)}";
        }
    }

    /// <summary>What a step has besides name, note and text, in a line for people.</summary>
    public static string Conditions(RunbookStep step) => string.Join("; ", Settings(step));

    private static void Paragraph(StringBuilder text, string? words)
    {
        if (!string.IsNullOrWhiteSpace(words))
        {
            text.Append('\n');
            foreach (var line in words.Trim().Split('\n'))
            {
                // What would begin something else at the start of a line is text here.
                text.Append(MeansMore(line) ? "\\" : "").Append(line.TrimEnd()).Append('\n');
            }
        }
    }

    private static bool MeansMore(string line) => Item().Match(line) is { Success: true } item
        ? KeyAndValue().Match(item.Groups[1].Value) is { Success: true } setting && (setting.Groups[2].Success || OfBook.Concat(OfStep).Contains(setting.Groups[1].Value.ToLowerInvariant()))
        : LooksLikeMore().IsMatch(line);

    private static void Items(StringBuilder text, IEnumerable<string> items)
    {
        var first = true;
        foreach (var item in items)
        {
            text.Append(first ? "\n- " : "- ").Append(item).Append('\n');
            first = false;
        }
    }

    private static string Seconds(double seconds) => seconds > 0 && seconds % 60 == 0
        ? string.Create(CultureInfo.InvariantCulture, $"{seconds / 60:0} min")
        : string.Create(CultureInfo.InvariantCulture, $"{seconds:0.###} s");

    private static double? ReadSeconds(string text) =>
        Units.ParseSpan(text)?.TotalSeconds
        ?? (double.TryParse(text.Trim().TrimEnd('s').TrimEnd(), NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var seconds) ? seconds : null);

    [GeneratedRegex("`{3,}")]
    private static partial Regex LongestFence();

    [GeneratedRegex(@"^(\\| {0,3}(#{1,6}[ \t]|`{3}|~{3}))")]
    private static partial Regex LooksLikeMore();

    [GeneratedRegex(@"^ {0,3}(#{1,6})[ \t]+(.*?)(?:[ \t]+#+)?[ \t]*\z")]
    private static partial Regex Heading();

    [GeneratedRegex(@"^( {0,3})(`{3,}|~{3,})[ \t]*([^`]*?)[ \t]*\z")]
    private static partial Regex Fence();

    [GeneratedRegex(@"^ {0,3}[-*+][ \t]+(.+?)[ \t]*\z")]
    private static partial Regex Item();

    [GeneratedRegex(@"^([A-Za-z][A-Za-z -]{0,20}?)\s*(?::\s*(.*))?\z")]
    private static partial Regex KeyAndValue();

    [GeneratedRegex(@"^(\d+)(?:\s*,\s*(.+?)\s+apart)?\z")]
    private static partial Regex TriesAndPause();

    /// <summary>One reading of one document.</summary>
    private sealed class Reader(string text)
    {
        private readonly string[] lines = text.Replace("\r\n", "\n", StringComparison.Ordinal).Split('\n');
        private readonly List<ScriptParameter> parameters = [];
        private readonly SortedDictionary<string, string> variables = new(StringComparer.Ordinal);
        private readonly List<RunbookStep> steps = [];
        private readonly List<StepCondition> conditions = [];
        private readonly List<string> words = [];
        private CommandSpec command = new();
        private string? title;
        private string? description;
        private RunbookStep? step;
        private int at;
        private string problem = "";

        public RunbookDocument? Read(out string wrong)
        {
            for (at = 0; at < lines.Length && problem.Length == 0; at++)
            {
                Take(lines[at]);
            }
            if (problem.Length == 0)
            {
                EndStep();
            }
            if (problem.Length == 0 && steps.Count == 0)
            {
                problem = "The document has no step; a step begins with a line such as: ## Look whether it runs";
            }
            wrong = problem;
            return problem.Length > 0 ? null : new RunbookDocument(title, description, parameters, command with { Steps = steps, Environment = variables.Count > 0 ? variables : null });
        }

        private void Take(string line)
        {
            if (Fence().Match(line) is { Success: true } fence)
            {
                TakeText(fence);
            }
            else if (Heading().Match(line) is { Success: true } heading)
            {
                TakeHeading(heading.Groups[1].Length, heading.Groups[2].Value.Trim());
            }
            else if (Item().Match(line) is { Success: true } item && KeyAndValue().Match(item.Groups[1].Value) is { Success: true } setting)
            {
                TakeSetting(setting.Groups[1].Value.ToLowerInvariant(), setting.Groups[2].Success ? setting.Groups[2].Value : null, line);
            }
            else
            {
                words.Add(line.StartsWith('\\') ? line[1..] : line);
            }
        }

        private void TakeHeading(int level, string name)
        {
            if (level == 1 && title is null && step is null && words.TrueForAll(string.IsNullOrWhiteSpace))
            {
                title = name;
            }
            else if (level == 2)
            {
                EndStep();
                step = new RunbookStep(name, "");
            }
            else
            {
                Wrong(level == 1 ? "a heading of level 1 is the runbook's title, and stands once, at its beginning; a step's has two: ##" : "a step's heading has two: ##; deeper ones have no meaning here");
            }
        }

        private void EndStep()
        {
            var note = string.Join('\n', words).Trim('\n', ' ');
            words.Clear();
            if (step is null)
            {
                description = note.Length == 0 ? null : note;
                return;
            }
            if (step.Text.Length == 0)
            {
                problem = $"Step '{TerminalText.Line(step.Name)}' has nothing to run; put its text between two lines of ```.";
            }
            steps.Add(step with { Note = note.Length == 0 ? null : note, When = conditions.Count > 0 ? [.. conditions] : null });
            conditions.Clear();
        }

        private void TakeText(Match fence)
        {
            var opened = at;
            var (indent, mark, reader) = (fence.Groups[1].Length, fence.Groups[2].Value, fence.Groups[3].Value);
            var inside = new List<string>();
            while (++at < lines.Length && !IsEnd(lines[at], mark))
            {
                // A block that stands further in has its lines further in (section 4.5).
                var blanks = lines[at].TakeWhile(c => c == ' ').Take(indent).Count();
                inside.Add(lines[at][blanks..]);
            }
            if (at >= lines.Length)
            {
                at = opened;
                Wrong($"the block that begins here has no end; write {mark} behind it");
            }
            else if (step is null)
            {
                at = opened;
                Wrong("a block of text belongs to a step; write the step's heading before it, such as: ## Look whether it runs");
            }
            else if (step.Text.Length > 0)
            {
                at = opened;
                Wrong($"step '{TerminalText.Line(step.Name)}' has a block already; make another step of this one");
            }
            else
            {
                step = step with { Text = string.Join('\n', inside) + "\n", Shell = reader is "" or "sh" ? null : reader };
            }
        }

        private static bool IsEnd(string line, string mark)
        {
            var trimmed = line.Trim();
            return trimmed.Length >= mark.Length && trimmed.All(c => c == mark[0]);
        }

        private void TakeSetting(string key, string? value, string line)
        {
            var known = step is null ? OfBook : OfStep;
            if (!known.Contains(key))
            {
                if (value is null)
                {
                    // An item of a list as people write them.
                    words.Add(line);
                    return;
                }
                Wrong($"'{TerminalText.Line(key)}' is nothing that {(step is null ? "a runbook" : "a step")} has; it has {string.Join(", ", known)}. Words for people go without a colon");
                return;
            }
            if (value is null && key != "may fail")
            {
                Wrong($"behind '{key}' goes a colon and what it is");
                return;
            }
            if (step is null)
            {
                TakeOfBook(key, value!);
            }
            else
            {
                TakeOfStep(step, key, value);
            }
        }

        private void TakeOfBook(string key, string value)
        {
            switch (key)
            {
                case "parameter" when ParameterText.Read(value, out var wrong) is { } parameter:
                    parameters.Add(parameter);
                    break;
                case "parameter":
                    ParameterText.Read(value, out var why);
                    problem = $"Line {at + 1}: {why}";
                    break;
                case "as":
                    command = command with { User = value };
                    break;
                case "in":
                    command = command with { WorkingDirectory = value };
                    break;
                case "with" when value.IndexOf('=', StringComparison.Ordinal) is > 0 and var equals:
                    variables[value[..equals]] = value[(equals + 1)..];
                    break;
                case "niceness" when int.TryParse(value, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var niceness):
                    command = command with { Niceness = niceness };
                    break;
                case "time-out" when ReadSeconds(value) is { } seconds:
                    command = command with { TimeoutSeconds = seconds };
                    break;
                case "output" when Units.ParseBytes(value) is { } bytes:
                    command = command with { OutputLimitBytes = bytes };
                    break;
                default:
                    Wrong(key switch
                    {
                        "with" => "write it like: with: LANG=C.UTF-8",
                        "niceness" => $"'{TerminalText.Line(value)}' is no whole number",
                        "output" => $"'{TerminalText.Line(value)}' is no number of bytes; write it like 20 MiB",
                        _ => NoTime(value),
                    });
                    break;
            }
        }

        private void TakeOfStep(RunbookStep of, string key, string? value)
        {
            switch (key)
            {
                case "may fail" when string.IsNullOrEmpty(value):
                    step = of with { MayFail = true };
                    break;
                case "when" when ConditionText.Read(value!, out var wrong) is { } condition:
                    conditions.Add(condition);
                    break;
                case "when":
                    ConditionText.Read(value!, out var why);
                    problem = $"Line {at + 1}: {why}";
                    break;
                case "tries" when TriesAndPause().Match(value!) is { Success: true } tries && int.TryParse(tries.Groups[1].Value, NumberStyles.None, CultureInfo.InvariantCulture, out var count) && (!tries.Groups[2].Success || ReadSeconds(tries.Groups[2].Value) is not null):
                    step = of with { Tries = count, PauseSeconds = tries.Groups[2].Success ? ReadSeconds(tries.Groups[2].Value) : null };
                    break;
                case "time-out" when ReadSeconds(value!) is { } seconds:
                    step = of with { TimeoutSeconds = seconds };
                    break;
                default:
                    Wrong(key switch
                    {
                        "may fail" => "'may fail' stands alone; leave out what is behind it",
                        "tries" => "write it like: tries: 3, 10 s apart",
                        _ => NoTime(value!),
                    });
                    break;
            }
        }

        private static string NoTime(string value) => $"'{TerminalText.Line(value)}' is no length of time; write it like 90 s, 15 min or 2h";

        private void Wrong(string what) => problem = $"Line {at + 1}: {what}.";
    }
}
