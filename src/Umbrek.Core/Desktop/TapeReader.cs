using System.Text.Json;

namespace Umbrek.Core.Desktop;

/// <summary>Reads a recorded screen, entry by entry. One that is still written, or was cut off, ends with its last whole entry.</summary>
public sealed class TapeReader(Stream from)
{
    private const int LongestLine = 64 * 1024;
    private const int MostBytes = 1024 * 1024;
    private const double LongestSeconds = 366d * 24 * 3600;

    private byte[] held = new byte[64 * 1024];
    private int start;
    private int end;
    private TimeSpan last;

    /// <summary>How many bytes the header and the entries that were read take.</summary>
    public long Length { get; private set; }

    /// <exception cref="InvalidDataException">It begins no recording.</exception>
    public async Task<TapeHeader> ReadHeaderAsync(CancellationToken cancel)
    {
        var length = await LineAsync(cancel).ConfigureAwait(false) ?? throw new InvalidDataException("It is empty.");
        using var line = Parse(length);
        var root = line.RootElement;
        if (root.ValueKind != JsonValueKind.Object || !root.TryGetProperty("version", out var version) || !version.TryGetInt32(out var number) || !root.TryGetProperty("kind", out var kind) || TapeEntry.TextOf(kind) != "screen")
        {
            throw new InvalidDataException("Its first line is no header of a recorded screen.");
        }
        if (number != TapeWriter.Version)
        {
            throw new InvalidDataException($"It is of version {number}; version {TapeWriter.Version} can be read.");
        }
        var at = root.TryGetProperty("timestamp", out var stamp) && stamp.TryGetInt64(out var seconds) && seconds is >= 0 and < 253_402_300_800 ? DateTimeOffset.FromUnixTimeSeconds(seconds) : default;
        var title = root.TryGetProperty("title", out var words) ? TapeEntry.TextOf(words) : null;
        Take(length);
        return new TapeHeader(at, title, root.TryGetProperty("control", out var control) && control.ValueKind == JsonValueKind.True);
    }

    /// <returns>The next entry, its bytes good until the next call; null at the end.</returns>
    /// <exception cref="InvalidDataException">What follows is no entry.</exception>
    public async Task<TapeEntry?> ReadAsync(CancellationToken cancel)
    {
        if (await LineAsync(cancel).ConfigureAwait(false) is not { } length)
        {
            return null;
        }
        JsonElement root;
        using (var line = Parse(length))
        {
            root = line.RootElement.Clone();
        }
        if (root.ValueKind != JsonValueKind.Array || root.GetArrayLength() != 3 || root[0].ValueKind != JsonValueKind.Number || !root[0].TryGetDouble(out var at) || at is not (>= 0 and <= LongestSeconds) || TapeEntry.TextOf(root[1]) is not { } kind)
        {
            throw new InvalidDataException("A line of it is no entry.");
        }
        // Entries go forward: one that lies before its forerunner comes with it.
        last = TimeSpan.FromSeconds(Math.Max(last.TotalSeconds, at));
        if (kind != TapeKinds.Rfb)
        {
            Take(length);
            return new TapeEntry(last, kind, default, root[2]);
        }
        if (root[2].ValueKind != JsonValueKind.Number || !root[2].TryGetInt32(out var bytes) || bytes is < 0 or > MostBytes)
        {
            throw new InvalidDataException("A line of it does not say how many bytes follow.");
        }
        while (end - start < length + bytes)
        {
            if (!await FillAsync(cancel).ConfigureAwait(false))
            {
                return null;
            }
        }
        var entry = new TapeEntry(last, kind, held.AsMemory(start + length, bytes), default);
        Take(length + bytes);
        return entry;
    }

    /// <returns>How long the next line is, with its end; null where there is none.</returns>
    private async Task<int?> LineAsync(CancellationToken cancel)
    {
        var seen = 0;
        while (true)
        {
            var at = held.AsSpan(start + seen, end - start - seen).IndexOf((byte)'\n');
            if (at >= 0)
            {
                return seen + at + 1;
            }
            seen = end - start;
            if (seen > LongestLine)
            {
                throw new InvalidDataException("A line of it is too long.");
            }
            if (!await FillAsync(cancel).ConfigureAwait(false))
            {
                return null;
            }
        }
    }

    private async Task<bool> FillAsync(CancellationToken cancel)
    {
        if (start > 0)
        {
            held.AsSpan(start, end - start).CopyTo(held);
            (start, end) = (0, end - start);
        }
        if (end == held.Length)
        {
            Array.Resize(ref held, 2 * held.Length);
        }
        var got = await from.ReadAsync(held.AsMemory(end), cancel).ConfigureAwait(false);
        end += got;
        return got > 0;
    }

    private void Take(int length)
    {
        start += length;
        Length += length;
    }

    private JsonDocument Parse(int length)
    {
        try
        {
            return JsonDocument.Parse(held.AsMemory(start, length));
        }
        catch (JsonException e)
        {
            throw new InvalidDataException("A line of it is no JSON.", e);
        }
    }
}
