using System.Buffers.Binary;
using System.Collections.Frozen;
using System.IO.Compression;

namespace Umbrek.Core.Desktop;

/// <summary>
/// Writing on a picture, without a font library: letters of two sizes as they were drawn once (Latin, Greek and Cyrillic; Atkinson Hyperlegible
/// Next, and DejaVu Sans for what it lacks). Any other letter shows as the mark of one that is missing.
/// </summary>
public sealed class LetterFace
{
    private const char Missing = '\uFFFD';
    private static readonly Lazy<(LetterFace Plain, LetterFace Strong)> Both = new(Load);

    private readonly FrozenDictionary<char, Glyph> glyphs;

    private LetterFace(int height, int ascent, FrozenDictionary<char, Glyph> glyphs) => (Height, Ascent, this.glyphs) = (height, ascent, glyphs);

    /// <param name="Shade">How much of each pixel it covers, row by row: 0 to 255.</param>
    private sealed record Glyph(int Advance, int Left, int Top, int Width, int Height, byte[] Shade);

    /// <summary>For text.</summary>
    public static LetterFace Plain => Both.Value.Plain;

    /// <summary>For headings.</summary>
    public static LetterFace Strong => Both.Value.Strong;

    /// <summary>From one line to the next, in pixels.</summary>
    public int Height { get; }

    /// <summary>From the top of a line to where letters stand.</summary>
    public int Ascent { get; }

    public int Measure(ReadOnlySpan<char> text)
    {
        var width = 0;
        foreach (var letter in text)
        {
            width += Find(letter).Advance;
        }
        return width;
    }

    /// <summary>Writes a line; what does not fit on the picture is left out.</summary>
    /// <param name="y">The top of the line.</param>
    /// <returns>Where it ends.</returns>
    public int Write(ScreenImage image, int x, int y, ReadOnlySpan<char> text, uint colour)
    {
        foreach (var letter in text)
        {
            var glyph = Find(letter);
            Draw(image, x + glyph.Left, y + Ascent - glyph.Top, glyph, colour);
            x += glyph.Advance;
        }
        return x;
    }

    /// <summary>Breaks a text into lines that are no wider; a word that is wider by itself is broken.</summary>
    public List<string> Wrap(string text, int width, int most)
    {
        var lines = new List<string>();
        foreach (var paragraph in text.ReplaceLineEndings("\n").Split('\n'))
        {
            var line = "";
            foreach (var word in paragraph.Split(' ', StringSplitOptions.RemoveEmptyEntries))
            {
                var rest = word;
                if (line.Length > 0 && Measure($"{line} {rest}") <= width)
                {
                    line = $"{line} {rest}";
                    continue;
                }
                if (line.Length > 0)
                {
                    lines.Add(line);
                }
                while (Measure(rest) > width && rest.Length > 1)
                {
                    var fits = rest.Length - 1;
                    while (fits > 1 && Measure(rest.AsSpan(0, fits)) > width)
                    {
                        fits--;
                    }
                    lines.Add(rest[..fits]);
                    rest = rest[fits..];
                }
                line = rest;
            }
            lines.Add(line);
        }
        return lines.Count <= most ? lines : [.. lines.Take(most - 1), Shorten(lines[most - 1] + " …", width)];
    }

    /// <summary>As much of it as fits, with a mark where something is left out.</summary>
    public string Shorten(string text, int width)
    {
        if (Measure(text) <= width)
        {
            return text;
        }
        var length = text.Length;
        while (length > 0 && Measure(text.AsSpan(0, length)) + Find('…').Advance > width)
        {
            length--;
        }
        return text[..length].TrimEnd() + "…";
    }

    /// <summary>Lays one colour over another.</summary>
    /// <param name="part">How much of it: 0 to 255.</param>
    public static uint Mix(uint under, uint over, int part)
    {
        uint One(int shift) => (uint)(((under >> shift & 255) * (255 - part) + (over >> shift & 255) * part) / 255) << shift;
        return One(16) | One(8) | One(0);
    }

    private Glyph Find(char letter) => glyphs.TryGetValue(letter, out var glyph) ? glyph : glyphs[Missing];

    private static void Draw(ScreenImage image, int x, int y, Glyph glyph, uint colour)
    {
        for (var row = 0; row < glyph.Height; row++)
        {
            if (y + row < 0 || y + row >= image.Height)
            {
                continue;
            }
            var into = image.Row(y + row);
            for (var column = 0; column < glyph.Width; column++)
            {
                var shade = glyph.Shade[row * glyph.Width + column];
                if (shade > 0 && x + column >= 0 && x + column < into.Length)
                {
                    into[x + column] = Mix(into[x + column], colour, shade);
                }
            }
        }
    }

    /// <summary>Of each face its height, its ascent and its letters: which, how far to the next, where it begins, its size, its shades.</summary>
    private static (LetterFace Plain, LetterFace Strong) Load()
    {
        using var packed = new ZLibStream(typeof(LetterFace).Assembly.GetManifestResourceStream("faces")!, CompressionMode.Decompress);
        using var all = new MemoryStream();
        packed.CopyTo(all);
        ReadOnlySpan<byte> data = all.ToArray();
        return (Read(ref data), Read(ref data));
    }

    private static LetterFace Read(ref ReadOnlySpan<byte> data)
    {
        var (height, ascent, count) = (data[0], data[1], BinaryPrimitives.ReadUInt16LittleEndian(data[2..]));
        data = data[4..];
        var glyphs = new Dictionary<char, Glyph>(count);
        for (var i = 0; i < count; i++)
        {
            var (width, rows) = (data[5], data[6]);
            var length = width * rows;
            glyphs[(char)BinaryPrimitives.ReadUInt16LittleEndian(data)] = new Glyph(data[2], (sbyte)data[3], (sbyte)data[4], width, rows, data.Slice(7, length).ToArray());
            data = data[(7 + length)..];
        }
        return new LetterFace(height, ascent, glyphs.ToFrozenDictionary());
    }
}
