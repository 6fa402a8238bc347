using System.Text.Json;
using Umbrek.Core.Estate;

namespace Umbrek.Core.Inventory;

/// <summary>The single values in a fact, as selections compare them: a list has one for each of its items.</summary>
public static class FactValues
{
    /// <summary>Longest text, in UTF-16 units; the rest is not compared.</summary>
    public const int MaxLength = 200;

    /// <summary>Most values of one fact.</summary>
    public const int Most = 64;

    public static IReadOnlyList<FactValue> Of(JsonElement value) => value.ValueKind == JsonValueKind.Array
        ? [.. value.EnumerateArray().Take(Most).Select(One).OfType<FactValue>()]
        : One(value) is { } one ? [one] : [];

    private static FactValue? One(JsonElement value)
    {
        switch (value.ValueKind)
        {
            case JsonValueKind.String:
                try
                {
                    return new FactValue(Cut(value.GetString()!));
                }
                catch (InvalidOperationException)
                {
                    // Half of a surrogate pair: no text at all.
                    return null;
                }
            case JsonValueKind.Number:
                return new FactValue(Cut(value.GetRawText()), value.TryGetDouble(out var number) && double.IsFinite(number) ? number : null);
            case JsonValueKind.True or JsonValueKind.False:
                return new FactValue(value.GetRawText());
            default:
                return null;
        }
    }

    /// <summary>Databases take no zero character.</summary>
    private static string Cut(string text)
    {
        text = text.Replace('\0', '\uFFFD');
        return text.Length <= MaxLength ? text : text[..(char.IsHighSurrogate(text[MaxLength - 1]) ? MaxLength - 1 : MaxLength)];
    }
}
