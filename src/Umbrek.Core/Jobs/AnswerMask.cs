namespace Umbrek.Core.Jobs;

/// <summary>What may differ between the answers of two hosts without meaning anything.</summary>
[Flags]
public enum AnswerMask
{
    None = 0,

    /// <summary>Dates and times of day.</summary>
    Times = 1,

    /// <summary>The host's own names.</summary>
    Names = 2,

    /// <summary>IPv4, IPv6 and hardware addresses.</summary>
    Addresses = 4,

    /// <summary>Figures, hexadecimal ids, and the blanks that columns of them are padded with.</summary>
    Numbers = 8,
}

public static class AnswerMasks
{
    /// <summary>What is passed over when nobody says otherwise. Figures stay: a version is one too.</summary>
    public const AnswerMask Usual = AnswerMask.Times | AnswerMask.Names | AnswerMask.Addresses;

    private static readonly (string Word, AnswerMask Mask)[] Known =
        [("times", AnswerMask.Times), ("names", AnswerMask.Names), ("addresses", AnswerMask.Addresses), ("numbers", AnswerMask.Numbers)];

    /// <summary>Reads words with commas between them; "nothing" is none of them.</summary>
    /// <returns>Null, with <paramref name="problem"/> saying what can be written.</returns>
    public static AnswerMask? Parse(string text, out string problem)
    {
        problem = "";
        var mask = AnswerMask.None;
        foreach (var word in text.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries))
        {
            var found = Array.Find(Known, k => k.Word.Equals(word, StringComparison.OrdinalIgnoreCase)).Mask;
            if (found == AnswerMask.None && !word.Equals("nothing", StringComparison.OrdinalIgnoreCase))
            {
                problem = $"'{word}' is nothing that can be passed over; write some of {string.Join(", ", Known.Select(k => k.Word))} with commas between them, or: nothing.";
                return null;
            }
            mask |= found;
        }
        return mask;
    }

    public static string Write(this AnswerMask mask) =>
        mask == AnswerMask.None ? "nothing" : string.Join(",", Known.Where(k => mask.HasFlag(k.Mask)).Select(k => k.Word));
}
