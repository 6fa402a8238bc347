using System.Reflection;
using Umbrek.Core.Desktop;

namespace Umbrek.Simulation.Desktop;

/// <summary>Draws on a picture of a screen: parts of one colour, and writing.</summary>
internal static class Drawing
{
    public const int LetterWidth = 8;
    public const int LetterHeight = 16;
    private const string Others = "·▸—äöüé€°";
    private static readonly byte[] Letters = Load();

    /// <param name="scale">How many times as large.</param>
    public static void Write(this ScreenImage image, int x, int y, string text, uint colour, int scale = 1)
    {
        foreach (var letter in text)
        {
            Letter(image, x, y, letter, colour, scale);
            x += LetterWidth * scale;
        }
    }

    /// <summary>A part that goes from one colour to another, from above.</summary>
    public static void Fade(this ScreenImage image, ScreenRect part, uint from, uint to)
    {
        var clipped = part.Intersect(image.Bounds);
        for (var y = clipped.Y; y < clipped.Bottom; y++)
        {
            image.Row(clipped, y).Fill(LetterFace.Mix(from, to, (y - part.Y) * 255 / Math.Max(1, part.Height - 1)));
        }
    }

    public static void Box(this ScreenImage image, ScreenRect part, uint colour)
    {
        var clipped = part.Intersect(image.Bounds);
        if (!clipped.IsEmpty)
        {
            image.Fill(clipped, colour);
        }
    }

    private static void Letter(ScreenImage image, int x, int y, char letter, uint colour, int scale)
    {
        var index = letter is >= ' ' and <= '~' ? letter - ' ' : Others.IndexOf(letter, StringComparison.Ordinal) is >= 0 and var other ? '~' - ' ' + 1 + other : '?' - ' ';
        for (var row = 0; row < LetterHeight * scale; row++)
        {
            for (var column = 0; column < LetterWidth * scale; column++)
            {
                var (px, py) = (x + column, y + row);
                var shows = Letters[index * LetterWidth * LetterHeight + row / scale * LetterWidth + column / scale];
                if (shows > 0 && px >= 0 && py >= 0 && px < image.Width && py < image.Height)
                {
                    ref var pixel = ref image.Pixels[py * image.Width + px];
                    pixel = LetterFace.Mix(pixel, colour, shows);
                }
            }
        }
    }

    private static byte[] Load()
    {
        using var from = Assembly.GetExecutingAssembly().GetManifestResourceStream("letters")!;
        var all = new byte[from.Length];
        from.ReadExactly(all);
        return all;
    }
}
