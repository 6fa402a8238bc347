using Umbrek.Core.Desktop;

namespace Umbrek.Core.Tests.Desktop;

/// <summary>Pictures as desktops have them, made by a number.</summary>
internal static class Pictures
{
    /// <summary>Windows of one colour, lines of writing, a gradient and something like a photograph.</summary>
    public static ScreenImage Desktop(int width, int height, int seed)
    {
        var random = new Random(seed);
        var image = new ScreenImage(width, height);
        image.Fill(image.Bounds, (uint)random.Next(0x1000000));
        for (var i = 0; i < 6; i++)
        {
            Draw(image, Part(image, random), random);
        }
        return image;
    }

    /// <summary>Changes a part or two.</summary>
    public static List<ScreenRect> Change(ScreenImage image, Random random)
    {
        var parts = new List<ScreenRect>();
        for (var i = random.Next(1, 4); i > 0; i--)
        {
            var part = Part(image, random);
            Draw(image, part, random);
            parts.Add(part);
        }
        return parts;
    }

    public static void Draw(ScreenImage image, ScreenRect part, Random random)
    {
        var (a, b, kind) = ((uint)random.Next(0x1000000), (uint)random.Next(0x1000000), random.Next(5));
        for (var y = part.Y; y < part.Bottom; y++)
        {
            var row = image.Row(part, y);
            for (var x = 0; x < row.Length; x++)
            {
                row[x] = kind switch
                {
                    0 => a,
                    1 => random.Next(6) == 0 ? b : a,
                    2 => (uint)((x * 255 / row.Length << 16) | ((y - part.Y) * 255 / part.Height << 8) | 40),
                    3 => (uint)random.Next(0x1000000),
                    _ => (x / 3 + y) % 9 < 3 ? a ^ (uint)(y / 5 * 0x010203 & 0xFFFFFF) : b,
                };
            }
        }
    }

    private static ScreenRect Part(ScreenImage image, Random random)
    {
        var (x, y) = (random.Next(image.Width), random.Next(image.Height));
        return new ScreenRect(x, y, random.Next(1, image.Width - x + 1), random.Next(1, image.Height - y + 1));
    }
}

/// <summary>Stands for JPEG where no picture is looked at: as long as it is wide.</summary>
internal sealed class CountingJpeg : IJpegEncoder
{
    private readonly byte[] bytes = new byte[5000];

    public int Calls { get; private set; }
    public List<int> Qualities { get; } = [];

    public ReadOnlySpan<byte> Encode(ScreenImage image, ScreenRect part, int quality, bool halfColour)
    {
        Calls++;
        Qualities.Add(quality);
        return bytes.AsSpan(0, Math.Min(bytes.Length, part.Width));
    }
}
