using System.Globalization;
using Umbrek.Core.Text;

namespace Umbrek.Core.Estate;

public enum OwnFieldKind
{
    Text,
    Number,

    /// <summary>A day without a time (RFC 3339 full-date).</summary>
    Date,

    /// <summary>One of a list.</summary>
    Choice,
}

/// <summary>A field that a customer's hosts have beside what is known of every host.</summary>
public sealed record OwnField(string Name, OwnFieldKind Kind, IReadOnlyList<string> Choices)
{
    public const int MaxFields = 40;
    public const int MaxChoices = 60;
    public const int MaxText = 500;

    /// <summary>Checks a field's definition.</summary>
    public static OwnField? Clean(string? name, OwnFieldKind kind, IReadOnlyList<string>? choices, out string problem)
    {
        var clean = Names.Clean(name, "field's name", out problem);
        if (clean is null)
        {
            return null;
        }
        var list = new List<string>();
        foreach (var choice in choices ?? [])
        {
            if (Names.Clean(choice, "choice", out problem) is not { } one)
            {
                return null;
            }
            list.Add(one);
        }
        problem = kind == OwnFieldKind.Choice && list.Count == 0 ? $"The field {clean} offers a choice; say of what."
            : kind != OwnFieldKind.Choice && list.Count > 0 ? $"The field {clean} is no choice, so it has no list to choose from."
            : list.Count > MaxChoices ? $"The field {clean} has {list.Count} choices; {MaxChoices} is the most."
            : list.GroupBy(c => c, StringComparer.OrdinalIgnoreCase).FirstOrDefault(g => g.Count() > 1) is { } twice ? $"The choice '{twice.Key}' stands there twice." : "";
        return problem.Length == 0 ? new OwnField(clean, kind, list) : null;
    }

    /// <summary>Reads a value as people type it.</summary>
    /// <returns>The value as it is kept, or null with <paramref name="problem"/> saying what the field takes.</returns>
    public OwnValue? Read(string text, out string problem)
    {
        problem = "";
        text = text.Trim();
        switch (Kind)
        {
            case OwnFieldKind.Number:
                if (decimal.TryParse(text, NumberStyles.AllowLeadingSign | NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var number) && text.Length <= 24)
                {
                    return new OwnValue(Name, number.ToString(CultureInfo.InvariantCulture), (double)number);
                }
                problem = $"{Name} takes a number, like 12 or 3.5, not '{text}'.";
                return null;
            case OwnFieldKind.Date:
                if (DateOnly.TryParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var day))
                {
                    return new OwnValue(Name, text, null, day);
                }
                problem = $"{Name} takes a day, like 2027-03-31, not '{text}'.";
                return null;
            case OwnFieldKind.Choice:
                if (Choices.FirstOrDefault(c => string.Equals(c, text, StringComparison.OrdinalIgnoreCase)) is { } choice)
                {
                    return new OwnValue(Name, choice);
                }
                problem = $"{Name} takes one of {string.Join(", ", Choices)}, not '{text}'.";
                return null;
            default:
                if (text.Length <= MaxText && text.EnumerateRunes().All(r => !Names.IsHidden(r)))
                {
                    return new OwnValue(Name, text);
                }
                problem = text.Length > MaxText ? $"{Name} takes at most {MaxText} characters; these are {text.Length}." : $"The text for {Name} holds an invisible character; leave it out.";
                return null;
        }
    }
}
