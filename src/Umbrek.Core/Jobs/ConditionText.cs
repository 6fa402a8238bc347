using System.Globalization;
using System.Text.RegularExpressions;
using Umbrek.Core.Text;

namespace Umbrek.Core.Jobs;

/// <summary>
/// A step's condition in a line: <c>always</c>, <c>something failed</c>, <c>"Look" succeeded</c>, <c>"Look" failed</c>,
/// <c>"Look" was left out</c>, <c>"Look" ended with 3, 4</c>, <c>MODE is full</c>, <c>MODE is not full</c>, <c>MODE is ""</c>.
/// </summary>
public static partial class ConditionText
{
    public const string Forms = "always; something failed; \"STEP\" succeeded, failed, was left out, or ended with 3, 4; PARAMETER is VALUE, or is not VALUE";

    /// <summary>The line of a condition; reading it gives the same again.</summary>
    public static string Write(StepCondition condition) => condition.Kind switch
    {
        ConditionKind.SomethingFailed => "something failed",
        ConditionKind.Succeeded => $"\"{condition.Of}\" succeeded",
        ConditionKind.Failed => $"\"{condition.Of}\" failed",
        ConditionKind.LeftOut => $"\"{condition.Of}\" was left out",
        ConditionKind.Exit => $"\"{condition.Of}\" ended with {string.Join(", ", condition.Exits ?? [])}",
        ConditionKind.Is => $"{condition.Of} is {Value(condition.Value ?? "")}",
        ConditionKind.IsNot => $"{condition.Of} is not {Value(condition.Value ?? "")}",
        _ => "always",
    };

    /// <returns>Null with <paramref name="problem"/> saying what can't be read. Whether there is such a step, <see cref="RunbookSteps.Check"/> says.</returns>
    public static StepCondition? Read(string text, out string problem)
    {
        problem = "";
        var line = text.Trim();
        if (line.Equals("always", StringComparison.OrdinalIgnoreCase))
        {
            return new StepCondition(ConditionKind.Always);
        }
        if (line.Equals("something failed", StringComparison.OrdinalIgnoreCase))
        {
            return new StepCondition(ConditionKind.SomethingFailed);
        }
        if (OfStep().Match(line) is { Success: true } step)
        {
            var name = step.Groups[1].Value;
            switch (step.Groups[2].Value.ToLowerInvariant())
            {
                case "succeeded":
                    return new StepCondition(ConditionKind.Succeeded, name);
                case "failed":
                    return new StepCondition(ConditionKind.Failed, name);
                case "was left out":
                    return new StepCondition(ConditionKind.LeftOut, name);
            }
            var exits = step.Groups[3].Value.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries);
            if (exits.Length > 0 && exits.All(e => int.TryParse(e, NumberStyles.None, CultureInfo.InvariantCulture, out _)))
            {
                return new StepCondition(ConditionKind.Exit, name, [.. exits.Select(e => int.Parse(e, CultureInfo.InvariantCulture))]);
            }
        }
        else if (OfParameter().Match(line) is { Success: true } parameter && ReadValue(parameter.Groups[3].Value.Trim()) is { } value)
        {
            return new StepCondition(parameter.Groups[2].Success ? ConditionKind.IsNot : ConditionKind.Is, parameter.Groups[1].Value, null, value);
        }
        problem = $"'{TerminalText.Line(line)}' is no condition; write one of these: {Forms}.";
        return null;
    }

    private static string Value(string value) =>
        value.Length == 0 || value != value.Trim() || value[0] == '"' || value.StartsWith("not ", StringComparison.OrdinalIgnoreCase) || value.AsSpan().ContainsAny('\n', '\r', '\\')
            ? $"\"{value.Replace("\\", "\\\\", StringComparison.Ordinal).Replace("\"", "\\\"", StringComparison.Ordinal).Replace("\n", "\\n", StringComparison.Ordinal).Replace("\r", "\\r", StringComparison.Ordinal)}\""
            : value;

    private static string? ReadValue(string text) => text.StartsWith('"')
        ? ParameterText.ReadQuoted(text, out var length) is { } value && length == text.Length ? value : null
        : text;

    [GeneratedRegex("^\"([^\"]+)\"\\s+(succeeded|failed|was left out|ended with\\s+(.+))\\z", RegexOptions.IgnoreCase)]
    private static partial Regex OfStep();

    [GeneratedRegex("^([A-Za-z_][A-Za-z0-9_]*) is( not)? (.+)\\z", RegexOptions.IgnoreCase)]
    private static partial Regex OfParameter();
}
