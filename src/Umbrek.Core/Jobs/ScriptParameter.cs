using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using Umbrek.Core.Text;

namespace Umbrek.Core.Jobs;

/// <summary>What a value of a script's parameter may be.</summary>
public enum ParameterKind
{
    Text,

    /// <summary>A whole number.</summary>
    Whole,

    /// <summary>A number with or without decimals.</summary>
    Number,

    /// <summary>The script reads yes or no.</summary>
    YesNo,

    /// <summary>One of some words.</summary>
    Choice,

    /// <summary>An absolute path on the host.</summary>
    Path,

    /// <summary>A calendar day, as RFC 3339 writes a full-date.</summary>
    Day,
}

/// <summary>Something that a script is told each time it runs. It reads the value as a variable of its environment, so that no value can be taken for a part of the script.</summary>
/// <param name="Name">The name of the variable.</param>
/// <param name="Default">What it is when nothing is given.</param>
/// <param name="Optional">Without a value the variable is not set.</param>
/// <param name="Least">For numbers.</param>
/// <param name="Most">For numbers.</param>
/// <param name="Choices">For <see cref="ParameterKind.Choice"/>.</param>
public sealed partial record ScriptParameter(
    string Name,
    ParameterKind Kind = ParameterKind.Text,
    string? Description = null,
    string? Default = null,
    bool Optional = false,
    decimal? Least = null,
    decimal? Most = null,
    IReadOnlyList<string>? Choices = null)
{
    /// <summary>Longest value, in UTF-16 units.</summary>
    public const int LongestValue = 4000;

    private const int MostChoices = 100;
    private const int LongestDescription = 300;

    private bool IsNumber => Kind is ParameterKind.Whole or ParameterKind.Number;

    /// <returns>Null when a script can have it, else what is wrong with it and what to do.</returns>
    public string? Check()
    {
        if (!CommandSpec.IsVariableName(Name))
        {
            return $"'{TerminalText.Line(Name ?? "")}' is no name of a parameter; use letters, digits and _, and begin with no digit.";
        }
        if (HasMeaning().IsMatch(Name))
        {
            return $"The system gives {Name} a meaning of its own; choose another name for the parameter.";
        }
        if (Description is { Length: > LongestDescription } || (Description ?? "").EnumerateRunes().Any(Names.IsHidden))
        {
            return $"The description of {Name} must be one line of at most {LongestDescription} characters.";
        }
        if (!IsNumber && (Least is not null || Most is not null))
        {
            return $"{Name} has bounds, which only numbers have; leave them out.";
        }
        if (Least > Most)
        {
            return $"{Name} goes from {Number(Least.Value)} to {Number(Most!.Value)}, which is nothing; swap them.";
        }
        if (Kind == ParameterKind.Whole && (Broken(Least) || Broken(Most)))
        {
            return $"{Name} is a whole number; its bounds must be whole as well.";
        }
        if (CheckChoices() is { } wrong)
        {
            return wrong;
        }
        return Default is { } value && Read(value, out var problem) is null ? $"What {Name} is without a value does not fit: {problem}" : null;
    }

    private string? CheckChoices()
    {
        if (Kind != ParameterKind.Choice)
        {
            return Choices is { Count: > 0 } ? $"{Name} has choices and is not of the kind choice; make it one, or leave them out." : null;
        }
        if (Choices is not { Count: > 0 and <= MostChoices })
        {
            return $"{Name} is a choice of 1 to {MostChoices} words; say which.";
        }
        if (Choices.FirstOrDefault(c => !IsChoice(c)) is { } wrong)
        {
            return $"'{TerminalText.Line(wrong ?? "")}' can't be a choice of {Name}: use a word without commas, quotation marks, '=' and '--'.";
        }
        return Choices.Distinct(StringComparer.Ordinal).Count() < Choices.Count ? $"A choice of {Name} is there twice; leave one out." : null;
    }

    private static bool IsChoice(string? word) =>
        !string.IsNullOrWhiteSpace(word) && word.Length <= 100 && word == word.Trim() && word.IndexOfAny([',', '"', '=']) < 0 && !word.Contains("--", StringComparison.Ordinal) && !word.EnumerateRunes().Any(Names.IsHidden);

    /// <summary>Reads a value as a person writes it.</summary>
    /// <returns>As the script gets it, or null with <paramref name="problem"/> saying what would fit.</returns>
    public string? Read(string typed, out string problem)
    {
        problem = "";
        var (value, wanted) = Kind switch
        {
            ParameterKind.Whole => (ReadNumber(typed, NumberStyles.AllowLeadingSign), $"a whole number{Bounds}"),
            ParameterKind.Number => (ReadNumber(typed, NumberStyles.AllowLeadingSign | NumberStyles.AllowDecimalPoint), $"a number{Bounds}"),
            ParameterKind.YesNo => (typed.Trim().ToLowerInvariant() switch { "yes" or "y" or "true" => "yes", "no" or "n" or "false" => "no", _ => null }, "yes or no"),
            ParameterKind.Choice => ((Choices ?? []).FirstOrDefault(c => c == typed.Trim()), $"one of {string.Join(", ", Choices ?? [])}"),
            ParameterKind.Path => (typed.StartsWith('/') || PathOfDrive().IsMatch(typed) ? typed : null, "an absolute path, such as /var/log"),
            ParameterKind.Day => (DateOnly.TryParseExact(typed.Trim(), "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var day) ? day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture) : null, "a day, written like 2026-03-29"),
            _ => (typed, "text"),
        };
        if (value is null)
        {
            problem = $"{Name} must be {wanted}, not '{TerminalText.Line(typed)}'.";
            return null;
        }
        if (value.Length > LongestValue || value.Contains('\0'))
        {
            problem = $"The value of {Name} must have at most {LongestValue} characters and no zero character.";
            return null;
        }
        return value;
    }

    private string? ReadNumber(string typed, NumberStyles how) =>
        decimal.TryParse(typed.Trim(), how, CultureInfo.InvariantCulture, out var number) && !(number < Least) && !(number > Most) ? Number(number) : null;

    private string Bounds => (Least, Most) switch
    {
        ({ } least, { } most) => $" from {Number(least)} to {Number(most)}",
        ({ } least, null) => $" from {Number(least)} up",
        (null, { } most) => $" up to {Number(most)}",
        _ => "",
    };

    internal static string Number(decimal number) => number.ToString("0.############################", CultureInfo.InvariantCulture);

    private static bool Broken(decimal? number) => number is { } n && decimal.Truncate(n) != n;

    /// <summary>POSIX.1-2017, Base Definitions, section 8.3, and what loaders and shells run or load because of it.</summary>
    [GeneratedRegex(@"^(PATH|HOME|USER|LOGNAME|SHELL|IFS|ENV|BASH_ENV|PWD|LD_.*|UMBREK_.*)\z")]
    private static partial Regex HasMeaning();

    [GeneratedRegex(@"^[A-Za-z]:[\\/]")]
    private static partial Regex PathOfDrive();
}

/// <summary>The parameters of a script together.</summary>
public static class ScriptParameters
{
    private const int Most = 50;

    /// <returns>Null when a script can have them, else what is wrong.</returns>
    public static string? Check(IReadOnlyList<ScriptParameter> parameters)
    {
        if (parameters.Count > Most)
        {
            return $"There are {parameters.Count} parameters; {Most} is the most.";
        }
        var names = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        foreach (var parameter in parameters)
        {
            if (parameter is null)
            {
                return "A parameter is empty; give it a name.";
            }
            if (parameter.Check() is { } problem)
            {
                return problem;
            }
            if (!names.Add(parameter.Name))
            {
                return $"There are two parameters {parameter.Name}; rename one.";
            }
        }
        return null;
    }

    /// <summary>The variables that a script gets.</summary>
    /// <param name="given">Values by name; an empty one is none, except for text.</param>
    /// <returns>Null with <paramref name="problem"/> saying all that does not fit.</returns>
    public static Dictionary<string, string>? Fill(IReadOnlyList<ScriptParameter> parameters, IReadOnlyDictionary<string, string> given, out string problem)
    {
        var problems = new List<string>();
        var values = new Dictionary<string, string>(StringComparer.Ordinal);
        foreach (var unknown in given.Keys.Where(k => !parameters.Any(p => p.Name == k)))
        {
            problems.Add($"The script has no parameter '{TerminalText.Line(unknown)}'{(Similarity.Closest(unknown, parameters.Select(p => p.Name)) is { } close ? $"; did you mean {close}?" : parameters.Count == 0 ? "; it has none." : $"; it has {string.Join(", ", parameters.Select(p => p.Name))}.")}");
        }
        foreach (var parameter in parameters)
        {
            var typed = given.GetValueOrDefault(parameter.Name);
            if (typed is null || (typed.Length == 0 && parameter.Kind != ParameterKind.Text))
            {
                typed = parameter.Default;
            }
            if (typed is null)
            {
                if (!parameter.Optional)
                {
                    problems.Add($"{parameter.Name} is needed{(parameter.Description is { } what ? $" ({what})" : "")}.");
                }
                continue;
            }
            if (parameter.Read(typed, out var wrong) is { } value)
            {
                values[parameter.Name] = value;
            }
            else
            {
                problems.Add(wrong);
            }
        }
        problem = string.Join(' ', problems);
        return problems.Count == 0 ? values : null;
    }
}
