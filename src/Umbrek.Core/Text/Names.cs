using System.Globalization;
using System.Text;

namespace Umbrek.Core.Text;

/// <summary>What a person may call a host, a group or a technician.</summary>
public static class Names
{
    /// <summary>Longest name, in Unicode scalar values.</summary>
    public const int MaxLength = 120;

    /// <summary>
    /// Trims and normalises (Unicode form C) a name.
    /// </summary>
    /// <returns>The name to keep, or null with <paramref name="problem"/> saying in one sentence what is wrong.</returns>
    public static string? Clean(string? text, string what, out string problem)
    {
        problem = "";
        if (string.IsNullOrWhiteSpace(text))
        {
            problem = $"The {what} is empty; give it at least one visible character.";
            return null;
        }
        string name;
        try
        {
            name = text.Trim().Normalize(NormalizationForm.FormC);
        }
        catch (ArgumentException)
        {
            problem = $"The {what} holds broken Unicode text; type it again.";
            return null;
        }
        var length = 0;
        foreach (var rune in name.EnumerateRunes())
        {
            length++;
            // A lone half of a surrogate pair is read as the replacement character.
            if (rune == Rune.ReplacementChar)
            {
                problem = $"The {what} holds broken Unicode text; type it again.";
                return null;
            }
            if (IsHidden(rune))
            {
                problem = $"The {what} holds an invisible character (U+{rune.Value:X4}); leave it out.";
                return null;
            }
        }
        if (length > MaxLength)
        {
            problem = $"The {what} has {length} characters; {MaxLength} is the most.";
            return null;
        }
        return name;
    }

    /// <summary>
    /// Control characters, line breaks and direction overrides: they would let one name look like another.
    /// The joiners that scripts and emoji need stay allowed.
    /// </summary>
    public static bool IsHidden(Rune rune)
    {
        if (rune.Value is 0x200C or 0x200D)
        {
            return false;
        }
        return Rune.GetUnicodeCategory(rune) is UnicodeCategory.Control or UnicodeCategory.Format
            or UnicodeCategory.LineSeparator or UnicodeCategory.ParagraphSeparator
            or UnicodeCategory.Surrogate or UnicodeCategory.PrivateUse;
    }
}
