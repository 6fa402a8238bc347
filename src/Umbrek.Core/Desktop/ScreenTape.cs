using System.Text.Json;

namespace Umbrek.Core.Desktop;

/// <summary>What entries of a recorded screen tell; a reader passes over kinds that it does not know.</summary>
public static class TapeKinds
{
    /// <summary>Bytes of RFB 3.8 (RFC 6143) as its server sent them; their number, and then they themselves.</summary>
    public const string Rfb = "rfb";

    /// <summary>A screen is shown, and RFB begins anew: <c>screen</c>, <c>person</c> where somebody is logged in, <c>control</c>.</summary>
    public const string Opened = "open";

    /// <summary>The screen that was shown is gone: <c>why</c>.</summary>
    public const string Gone = "gone";

    /// <summary>Where the viewer's pointer is: <c>x</c>, <c>y</c>, <c>buttons</c>.</summary>
    public const string Mouse = "mouse";

    /// <summary>A key, where keys are recorded: <c>down</c>, <c>sym</c> as X numbers it.</summary>
    public const string Key = "key";

    /// <summary>Something is typed, of which only that is recorded: begins after a while without.</summary>
    public const string Typing = "typing";

    /// <summary>A text went from one clipboard to the other: <c>from</c> is "host" or "viewer", <c>bytes</c>. What it was is not recorded.</summary>
    public const string Clipboard = "clipboard";

    /// <summary>Keyboards and mice of the host were taken, or given back: <c>taken</c>.</summary>
    public const string Input = "input";

    /// <summary>A secret of the vault was typed, which nobody saw: <c>name</c>.</summary>
    public const string Secret = "secret";

    /// <summary>Somebody, or the recorder, says something of this place: <c>text</c>.</summary>
    public const string Mark = "mark";
}

/// <summary>The first line of a recorded screen.</summary>
/// <param name="Title">Where, and by whom.</param>
/// <param name="Control">Whether the viewer acted there, or looked on.</param>
public sealed record TapeHeader(DateTimeOffset At, string? Title, bool Control);

/// <summary>One entry of a recorded screen.</summary>
/// <param name="At">Since the beginning.</param>
/// <param name="Bytes">Of <see cref="TapeKinds.Rfb"/>; empty for the others.</param>
/// <param name="Said">What the others tell.</param>
public sealed record TapeEntry(TimeSpan At, string Kind, ReadOnlyMemory<byte> Bytes, JsonElement Said)
{
    public string? Text(string name) => Said.ValueKind == JsonValueKind.Object && Said.TryGetProperty(name, out var value) ? TextOf(value) : null;

    /// <returns>Null where it is none, or no text of Unicode.</returns>
    internal static string? TextOf(JsonElement value)
    {
        try
        {
            return value.ValueKind == JsonValueKind.String ? value.GetString() : null;
        }
        catch (InvalidOperationException)
        {
            return null;
        }
    }

    public int? Number(string name) => Said.ValueKind == JsonValueKind.Object && Said.TryGetProperty(name, out var value) && value.ValueKind == JsonValueKind.Number && value.TryGetInt32(out var number) ? number : null;

    public bool IsSet(string name) => Said.ValueKind == JsonValueKind.Object && Said.TryGetProperty(name, out var value) && value.ValueKind == JsonValueKind.True;
}
