namespace Umbrek.Core.Desktop;

/// <summary>A picture of a screen: one number 0x00RRGGBB for each pixel, row by row.</summary>
public sealed class ScreenImage
{
    /// <summary>Wider or higher ones are not taken: each side goes into 16 bits on the wire, and memory is bounded.</summary>
    public const int MostSide = 16_384;

    /// <summary>More pixels are not taken (8 million pixels more than four screens of 3840x2160).</summary>
    public const int MostPixels = 40_000_000;

    public ScreenImage(int width, int height)
    {
        if (!IsPossible(width, height))
        {
            throw new ArgumentOutOfRangeException(nameof(width), $"a screen of {width} x {height}");
        }
        (Width, Height, Pixels) = (width, height, new uint[width * height]);
    }

    public int Width { get; }
    public int Height { get; }
    public uint[] Pixels { get; }
    public ScreenRect Bounds => new(0, 0, Width, Height);

    public static bool IsPossible(int width, int height) => width is > 0 and <= MostSide && height is > 0 and <= MostSide && (long)width * height <= MostPixels;

    public Span<uint> Row(int y) => Pixels.AsSpan(y * Width, Width);

    /// <summary>A row of a part.</summary>
    public Span<uint> Row(ScreenRect part, int y) => Pixels.AsSpan(y * Width + part.X, part.Width);

    public void Fill(ScreenRect part, uint pixel)
    {
        for (var y = part.Y; y < part.Bottom; y++)
        {
            Row(part, y).Fill(pixel);
        }
    }

    /// <summary>Takes a part of another picture, at the same place.</summary>
    public void Copy(ScreenImage from, ScreenRect part)
    {
        for (var y = part.Y; y < part.Bottom; y++)
        {
            from.Row(part, y).CopyTo(Row(part, y));
        }
    }

    /// <summary>Moves what lies elsewhere in this picture into a part of it; they may overlap.</summary>
    public void Move(int fromX, int fromY, ScreenRect to)
    {
        var from = new ScreenRect(fromX, fromY, to.Width, to.Height);
        for (var i = 0; i < to.Height; i++)
        {
            // From the end that is not overwritten before it is read.
            var row = fromY < to.Y ? to.Height - 1 - i : i;
            Row(from, fromY + row).CopyTo(Row(to, to.Y + row));
        }
    }

    /// <summary>Takes a smaller picture of a part of another one: each pixel is the mean of those that it stands for.</summary>
    /// <param name="part">Of this picture.</param>
    public void Shrink(ScreenImage from, ScreenRect part)
    {
        for (var y = part.Y; y < part.Bottom; y++)
        {
            var (top, bottom) = (y * from.Height / Height, Math.Max(y * from.Height / Height + 1, (y + 1) * from.Height / Height));
            for (var x = part.X; x < part.Right; x++)
            {
                var (left, right) = (x * from.Width / Width, Math.Max(x * from.Width / Width + 1, (x + 1) * from.Width / Width));
                var (red, green, blue) = (0u, 0u, 0u);
                for (var row = top; row < bottom; row++)
                {
                    foreach (var pixel in from.Row(row)[left..right])
                    {
                        red += pixel >> 16 & 255;
                        green += pixel >> 8 & 255;
                        blue += pixel & 255;
                    }
                }
                var count = (uint)((bottom - top) * (right - left));
                Pixels[y * Width + x] = red / count << 16 | green / count << 8 | blue / count;
            }
        }
    }

    public bool IsSame(ScreenImage other, ScreenRect part)
    {
        for (var y = part.Y; y < part.Bottom; y++)
        {
            if (!Row(part, y).SequenceEqual(other.Row(part, y)))
            {
                return false;
            }
        }
        return true;
    }
}
