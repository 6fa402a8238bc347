using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Umbrek.Core.Text;

namespace Umbrek.Cli.Hosting;

/// <summary>Reads what somebody typed for an option.</summary>
internal static class Typed
{
    /// <exception cref="ClientException">It is no time.</exception>
    public static TimeSpan Span(string text) => Units.ParseSpan(text) ?? throw new ClientException($"'{text}' is no time; write it like 30s, 5min, 48h or 2d.", ExitCodes.WrongUse);

    /// <summary>An enum's word, as the API has it.</summary>
    /// <exception cref="ClientException">There is none of that name.</exception>
    public static T Word<T>(string word, JsonTypeInfo<T> type, string what) where T : struct, Enum
    {
        try
        {
            return JsonSerializer.Deserialize($"\"{JsonEncodedText.Encode(word)}\"", type);
        }
        catch (JsonException)
        {
            throw new ClientException($"'{word}' is no {what}; there are {string.Join(", ", Enum.GetValues<T>().Select(v => JsonSerializer.Serialize(v, type).Trim('"')))}.", ExitCodes.WrongUse);
        }
    }
}
