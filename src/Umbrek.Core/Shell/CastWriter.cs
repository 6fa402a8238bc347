using System.Buffers;
using System.Globalization;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;

namespace Umbrek.Core.Shell;

/// <summary>The first line of a recording.</summary>
/// <param name="Size">Of the terminal at the beginning.</param>
/// <param name="Command">What runs in it, as a person would read it.</param>
/// <param name="Title">Where, and by whom.</param>
/// <param name="TerminalType">As TERM has it; null where no terminal was wanted.</param>
public sealed record CastHeader(TerminalSize Size, DateTimeOffset At, string? Command, string? Title, string? TerminalType);

/// <summary>What a line of a recording tells: the letters of asciicast v2, "Supported event codes".</summary>
public enum CastKind
{
    /// <summary>"o": the terminal was sent it.</summary>
    Output,

    /// <summary>"i": it was typed.</summary>
    Input,

    /// <summary>"r": the terminal has another size.</summary>
    Resize,

    /// <summary>"m": somebody, or the recorder, marks the place.</summary>
    Marker,
}

/// <summary>One event of a recording.</summary>
/// <param name="At">Since the beginning.</param>
/// <param name="Text">What was shown or typed; "COLUMNSxROWS" of a new size; the words of a mark.</param>
public readonly record struct CastEvent(TimeSpan At, CastKind Kind, string Text)
{
    /// <summary>The new size; null when the event tells of none.</summary>
    public TerminalSize? Size => Kind == CastKind.Resize && Text.Split('x') is [var columns, var rows]
        && int.TryParse(columns, NumberStyles.None, CultureInfo.InvariantCulture, out var c) && int.TryParse(rows, NumberStyles.None, CultureInfo.InvariantCulture, out var r) ? new TerminalSize(c, r).Within() : null;
}

/// <summary>
/// Writes a recording as asciicast v2: a header and an event a line, each of them JSON. Bytes become text as they come, a character
/// that is cut between two pieces stands in the later one, and what is no UTF-8 becomes U+FFFD.
/// </summary>
public sealed class CastWriter
{
    internal const string Letters = "oirm";
    private static readonly JsonWriterOptions Plain = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    private readonly ArrayBufferWriter<byte> line = new();
    private readonly Dictionary<ShellStream, Decoder> decoders = [];
    private char[] text = new char[1024];

    /// <returns>The line with its end; good until the next.</returns>
    public ReadOnlyMemory<byte> Header(CastHeader header)
    {
        using var json = Begin();
        json.WriteStartObject();
        json.WriteNumber("version", 2);
        json.WriteNumber("width", header.Size.Columns);
        json.WriteNumber("height", header.Size.Rows);
        json.WriteNumber("timestamp", header.At.ToUnixTimeSeconds());
        if (header.Command is not null)
        {
            json.WriteString("command", header.Command);
        }
        if (header.Title is not null)
        {
            json.WriteString("title", header.Title);
        }
        if (header.TerminalType is not null)
        {
            json.WriteStartObject("env");
            json.WriteString("TERM", header.TerminalType);
            json.WriteEndObject();
        }
        json.WriteEndObject();
        return End(json);
    }

    /// <summary>Bytes of one of a shell's streams: typed ones, or shown ones.</summary>
    /// <returns>The line with its end, good until the next; empty where the bytes end no character.</returns>
    public ReadOnlyMemory<byte> Bytes(TimeSpan at, ShellStream stream, ReadOnlySpan<byte> bytes)
    {
        if (!decoders.TryGetValue(stream, out var decoder))
        {
            decoders[stream] = decoder = Encoding.UTF8.GetDecoder();
        }
        if (text.Length < bytes.Length + 2)
        {
            text = new char[bytes.Length + 2];
        }
        var length = decoder.GetChars(bytes, text, flush: false);
        return length == 0 ? default : Event(at, stream == ShellStream.Input ? CastKind.Input : CastKind.Output, text.AsSpan(0, length));
    }

    /// <inheritdoc cref="Header"/>
    public ReadOnlyMemory<byte> Resize(TimeSpan at, TerminalSize size) => Event(at, CastKind.Resize, string.Create(CultureInfo.InvariantCulture, $"{size.Columns}x{size.Rows}"));

    /// <inheritdoc cref="Header"/>
    public ReadOnlyMemory<byte> Marker(TimeSpan at, string words) => Event(at, CastKind.Marker, words);

    private ReadOnlyMemory<byte> Event(TimeSpan at, CastKind kind, ReadOnlySpan<char> data)
    {
        using var json = Begin();
        json.WriteStartArray();
        json.WriteNumberValue(Math.Round((decimal)at.Ticks / TimeSpan.TicksPerSecond, 6));
        json.WriteStringValue(Letters.AsSpan((int)kind, 1));
        json.WriteStringValue(data);
        json.WriteEndArray();
        return End(json);
    }

    private Utf8JsonWriter Begin()
    {
        line.ResetWrittenCount();
        return new Utf8JsonWriter(line, Plain);
    }

    private ReadOnlyMemory<byte> End(Utf8JsonWriter json)
    {
        json.Flush();
        line.Write("\n"u8);
        return line.WrittenMemory;
    }
}
