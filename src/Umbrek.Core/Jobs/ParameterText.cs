using System.Globalization;
using System.Text;
using Umbrek.Core.Text;

namespace Umbrek.Core.Jobs;

/// <summary>
/// A script's parameter in a line: <c>DAYS: whole 1..90 = 14 -- how old</c>. A name with ? may stay without a value; a choice has its
/// words behind it, with commas between them; what stands behind = is the value when none is given.
/// </summary>
public static class ParameterText
{
    private const string Form = "write it like: DAYS: whole 1..90 = 14 -- how old";

    /// <summary>The line of a parameter; reading it gives the same again.</summary>
    public static string Write(ScriptParameter parameter)
    {
        var line = new StringBuilder(parameter.Name).Append(parameter.Optional ? "?: " : ": ").Append(KindWord(parameter.Kind));
        if (parameter.Least is not null || parameter.Most is not null)
        {
            line.Append(' ').Append(Bound(parameter.Least)).Append("..").Append(Bound(parameter.Most));
        }
        if (parameter.Choices is { Count: > 0 } choices)
        {
            line.Append(' ').AppendJoin(", ", choices);
        }
        if (parameter.Default is { } value)
        {
            line.Append(" = ").Append(value.Length == 0 || value != value.Trim() || value[0] == '"' || value.Contains("--", StringComparison.Ordinal) || value.AsSpan().ContainsAny('\n', '\r')
                ? $"\"{value.Replace("\\", "\\\\", StringComparison.Ordinal).Replace("\"", "\\\"", StringComparison.Ordinal).Replace("\n", "\\n", StringComparison.Ordinal).Replace("\r", "\\r", StringComparison.Ordinal)}\""
                : value);
        }
        if (!string.IsNullOrEmpty(parameter.Description))
        {
            line.Append(" -- ").Append(parameter.Description);
        }
        return line.ToString();
    }

    /// <returns>Null with <paramref name="problem"/> saying what can't be read. Whether the parameter makes sense, <see cref="ScriptParameter.Check"/> says.</returns>
    public static ScriptParameter? Read(string text, out string problem)
    {
        problem = "";
        var colon = text.IndexOf(':', StringComparison.Ordinal);
        if (colon <= 0)
        {
            problem = $"'{TerminalText.Line(text)}' is no parameter; {Form}.";
            return null;
        }
        var name = text[..colon].Trim();
        var optional = name.EndsWith('?');
        var rest = text[(colon + 1)..].Trim();
        string? description = null;
        string? value = null;
        var equals = rest.IndexOf('=', StringComparison.Ordinal);
        var dashes = (" " + rest).IndexOf(" -- ", StringComparison.Ordinal);
        if (equals >= 0 && !(dashes >= 0 && dashes < equals))
        {
            var behind = rest[(equals + 1)..].TrimStart();
            rest = rest[..equals].Trim();
            if (behind.StartsWith('"'))
            {
                if (ReadQuoted(behind, out var length) is not { } quoted)
                {
                    problem = $"The value of {TerminalText.Line(name)} begins with a quotation mark and has none at its end; {Form}.";
                    return null;
                }
                value = quoted;
                behind = behind[length..].Trim();
                if (behind.Length > 0 && !(behind + " ").StartsWith("-- ", StringComparison.Ordinal))
                {
                    problem = $"Behind the value of {TerminalText.Line(name)} stands '{TerminalText.Line(behind)}'; a description begins with --.";
                    return null;
                }
                description = behind.Length > 3 ? behind[3..].Trim() : null;
            }
            else
            {
                (value, description) = Cut(behind);
            }
        }
        else
        {
            (rest, description) = Cut(rest);
        }
        var words = rest.Split(' ', 2, StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries);
        var kindWord = words.Length == 0 ? "text" : words[0];
        if (Enum.GetValues<ParameterKind>().Where(k => kindWord.Equals(KindWord(k), StringComparison.OrdinalIgnoreCase)).Select(k => (ParameterKind?)k).FirstOrDefault() is not { } kind)
        {
            problem = $"'{TerminalText.Line(kindWord)}' is no kind of parameter; it is one of {string.Join(", ", Enum.GetValues<ParameterKind>().Select(KindWord))}.";
            return null;
        }
        var parameter = new ScriptParameter(optional ? name[..^1].Trim() : name, kind, string.IsNullOrEmpty(description) ? null : description, value, optional);
        return words.Length < 2 ? parameter : Limit(parameter, words[1], out problem);
    }

    private static ScriptParameter? Limit(ScriptParameter parameter, string text, out string problem)
    {
        problem = "";
        if (parameter.Kind == ParameterKind.Choice)
        {
            return parameter with { Choices = text.Split(',', StringSplitOptions.TrimEntries) };
        }
        var ends = text.Split("..");
        if (ends.Length == 2 && ReadBound(ends[0], out var least) && ReadBound(ends[1], out var most))
        {
            return parameter with { Least = least, Most = most };
        }
        problem = $"'{TerminalText.Line(text)}' behind the kind of {parameter.Name} is no range; {Form}.";
        return null;
    }

    private static (string Before, string? Description) Cut(string text)
    {
        var at = (" " + text + " ").IndexOf(" -- ", StringComparison.Ordinal);
        return at < 0 ? (text.Trim(), null) : (text[..Math.Max(0, at - 1)].Trim(), text[Math.Min(text.Length, at + 2)..].Trim());
    }

    /// <summary>Reads what stands between the quotation mark that a text begins with and the next one.</summary>
    /// <param name="length">Of what was read, marks and all.</param>
    internal static string? ReadQuoted(string text, out int length)
    {
        var value = new StringBuilder();
        for (length = 1; length < text.Length; length++)
        {
            var c = text[length];
            if (c == '"')
            {
                length++;
                return value.ToString();
            }
            if (c == '\\' && length + 1 < text.Length)
            {
                c = text[++length] switch { 'n' => '\n', 'r' => '\r', var other => other };
            }
            value.Append(c);
        }
        return null;
    }

    private static string Bound(decimal? number) => number is { } n ? ScriptParameter.Number(n) : "";

    private static bool ReadBound(string text, out decimal? bound)
    {
        bound = null;
        if (text.Trim().Length == 0)
        {
            return true;
        }
        var isOne = decimal.TryParse(text.Trim(), NumberStyles.AllowLeadingSign | NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var number);
        bound = number;
        return isOne;
    }

    /// <summary>The word by which a kind is written: "yes-no".</summary>
    public static string KindWord(ParameterKind kind) => kind == ParameterKind.YesNo ? "yes-no" : kind.ToString().ToLowerInvariant();
}
