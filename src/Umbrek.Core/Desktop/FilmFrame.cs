namespace Umbrek.Core.Desktop;

/// <summary>One picture of a film: as large as all the others, what is shown in its middle, the pointer on it.</summary>
public static class FilmFrame
{
    private const uint Around = 0x12151C;

    public static void Draw(TapeShow show, ScreenImage into)
    {
        if (show.Image is not { } image)
        {
            into.Fill(into.Bounds, Around);
            return;
        }
        if (image.Width < into.Width || image.Height < into.Height)
        {
            into.Fill(into.Bounds, Around);
        }
        var (width, height) = (Math.Min(image.Width, into.Width), Math.Min(image.Height, into.Height));
        var (left, top) = ((into.Width - width) / 2, (into.Height - height) / 2);
        for (var y = 0; y < height; y++)
        {
            image.Row(y)[..width].CopyTo(into.Row(top + y)[left..]);
        }
        if (show is { Cursor: { } cursor, PointerAt: var (x, y0) })
        {
            Point(cursor, left + x - cursor.HotX, top + y0 - cursor.HotY, into);
        }
    }

    private static void Point(ScreenCursor cursor, int left, int top, ScreenImage into)
    {
        for (var y = Math.Max(0, -top); y < cursor.Height && top + y < into.Height; y++)
        {
            for (var x = Math.Max(0, -left); x < cursor.Width && left + x < into.Width; x++)
            {
                if (cursor.Pixels[y * cursor.Width + x] >> 24 != 0)
                {
                    into.Row(top + y)[left + x] = cursor.Pixels[y * cursor.Width + x] & 0xFFFFFF;
                }
            }
        }
    }
}
