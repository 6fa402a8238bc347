using System.Text.Json;
using System.Text.Json.Serialization.Metadata;

namespace Umbrek.Service.Hosting;

/// <summary>Enum words in queries: the same words as in bodies.</summary>
public static class QueryWord
{
    /// <returns>The value, or null when the query leaves it out.</returns>
    /// <exception cref="ProblemException">It is none of the words.</exception>
    public static T? Read<T>(string? word, JsonTypeInfo<T> type) where T : struct, Enum
    {
        if (string.IsNullOrEmpty(word))
        {
            return null;
        }
        try
        {
            return JsonSerializer.Deserialize($"\"{JsonEncodedText.Encode(word)}\"", type);
        }
        catch (JsonException)
        {
            var known = string.Join(", ", Enum.GetValues<T>().Select(v => JsonSerializer.Serialize(v, type).Trim('"')));
            throw ProblemException.Invalid($"'{word}' is not known here; there are {known}.");
        }
    }
}
