using System.Buffers;
using System.Text.Encodings.Web;
using System.Text.Json;

namespace Umbrek.Core.Desktop;

/// <summary>
/// Writes a recorded screen: a header and an entry a line, each of them JSON, where an entry is <c>[seconds, kind, what]</c>; behind the
/// line of one whose kind is "rfb" stand as many bytes as it says.
/// </summary>
public sealed class TapeWriter
{
    public const int Version = 1;

    private static readonly JsonWriterOptions Plain = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };
    private readonly ArrayBufferWriter<byte> entry = new();

    /// <returns>The line with its end; good until the next call.</returns>
    public ReadOnlyMemory<byte> Header(TapeHeader header)
    {
        using var json = Begin();
        json.WriteStartObject();
        json.WriteNumber("version", Version);
        json.WriteString("kind", "screen");
        json.WriteNumber("timestamp", header.At.ToUnixTimeSeconds());
        if (header.Title is not null)
        {
            json.WriteString("title", header.Title);
        }
        json.WriteBoolean("control", header.Control);
        json.WriteEndObject();
        return End(json);
    }

    /// <inheritdoc cref="Header"/>
    public ReadOnlyMemory<byte> Rfb(TimeSpan at, ReadOnlySpan<byte> bytes)
    {
        using var json = Begin();
        Open(json, at, TapeKinds.Rfb);
        json.WriteNumberValue(bytes.Length);
        json.WriteEndArray();
        End(json);
        entry.Write(bytes);
        return entry.WrittenMemory;
    }

    /// <param name="tell">Writes the properties of what the entry tells.</param>
    /// <inheritdoc cref="Header"/>
    public ReadOnlyMemory<byte> Entry(TimeSpan at, string kind, Action<Utf8JsonWriter>? tell = null)
    {
        using var json = Begin();
        Open(json, at, kind);
        json.WriteStartObject();
        tell?.Invoke(json);
        json.WriteEndObject();
        json.WriteEndArray();
        return End(json);
    }

    private static void Open(Utf8JsonWriter json, TimeSpan at, string kind)
    {
        json.WriteStartArray();
        json.WriteNumberValue(Math.Round((decimal)at.Ticks / TimeSpan.TicksPerSecond, 3));
        json.WriteStringValue(kind);
    }

    private Utf8JsonWriter Begin()
    {
        entry.ResetWrittenCount();
        return new Utf8JsonWriter(entry, Plain);
    }

    private ReadOnlyMemory<byte> End(Utf8JsonWriter json)
    {
        json.Flush();
        entry.Write("\n"u8);
        return entry.WrittenMemory;
    }
}
