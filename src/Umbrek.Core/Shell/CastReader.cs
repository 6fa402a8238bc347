using System.Text.Json;

namespace Umbrek.Core.Shell;

/// <summary>Reads a recording in asciicast v2, line by line.</summary>
public static class CastReader
{
    private const double LongestSeconds = 366d * 24 * 3600;

    /// <exception cref="InvalidDataException">The line begins no recording.</exception>
    public static CastHeader ReadHeader(string line)
    {
        using var document = Parse(line);
        var root = document.RootElement;
        if (root.ValueKind != JsonValueKind.Object || !root.TryGetProperty("version", out var version) || !version.TryGetInt32(out var number))
        {
            throw new InvalidDataException("Its first line is no header of a recording.");
        }
        if (number != 2)
        {
            throw new InvalidDataException($"It is of version {number}; version 2 can be read.");
        }
        if (!root.TryGetProperty("width", out var width) || !width.TryGetInt32(out var columns) || !root.TryGetProperty("height", out var height) || !height.TryGetInt32(out var rows))
        {
            throw new InvalidDataException("Its header does not say how large the terminal is.");
        }
        string? Text(JsonElement of, string name) => of.ValueKind == JsonValueKind.Object && of.TryGetProperty(name, out var value) && value.ValueKind == JsonValueKind.String ? value.GetString() : null;
        var at = root.TryGetProperty("timestamp", out var stamp) && stamp.TryGetInt64(out var seconds) && seconds is >= 0 and < 253_402_300_800 ? DateTimeOffset.FromUnixTimeSeconds(seconds) : default;
        return new CastHeader(new TerminalSize(columns, rows).Within(), at, Text(root, "command"), Text(root, "title"), root.TryGetProperty("env", out var environment) ? Text(environment, "TERM") : null);
    }

    /// <returns>Null for an event that is of no known kind, which a reader passes over.</returns>
    /// <exception cref="InvalidDataException">The line is no event.</exception>
    public static CastEvent? ReadEvent(string line)
    {
        using var document = Parse(line);
        var root = document.RootElement;
        if (root.ValueKind != JsonValueKind.Array || root.GetArrayLength() < 3 || root[0].ValueKind != JsonValueKind.Number || root[1].ValueKind != JsonValueKind.String || root[2].ValueKind != JsonValueKind.String
            || !root[0].TryGetDouble(out var at) || at is not (>= 0 and <= LongestSeconds))
        {
            throw new InvalidDataException("A line of it is no event.");
        }
        var kind = root[1].GetString() is { Length: 1 } letter ? CastWriter.Letters.IndexOf(letter, StringComparison.Ordinal) : -1;
        return kind < 0 ? null : new CastEvent(TimeSpan.FromSeconds(at), (CastKind)kind, root[2].GetString()!);
    }

    private static JsonDocument Parse(string line)
    {
        try
        {
            return JsonDocument.Parse(line);
        }
        catch (JsonException e)
        {
            throw new InvalidDataException("A line of it is no JSON.", e);
        }
    }
}
