namespace Umbrek.Core.Desktop;

/// <summary>How one viewer takes pictures.</summary>
/// <param name="Quality">Of JPEG, 1 to 100; 0 where it takes none.</param>
public sealed record ViewerTakes(PixelFormat Format, bool Zrle, bool CopyRect, int Quality)
{
    /// <summary>What every viewer takes.</summary>
    public static ViewerTakes Least { get; } = new(PixelFormat.Usual, false, false, 0);
}

/// <summary>
/// Says to one viewer what has changed of a screen. It remembers what the viewer shows, sends what differs from that, and knows
/// which of it was sent with losses.
/// </summary>
public sealed class ScreenEncoder(IJpegEncoder? jpeg) : IDisposable
{
    private const int Side = ZrleEncoder.TileSide;

    /// <summary>With more colours among every fourth pixel it is more like a photograph.</summary>
    private const int FewColours = 96;

    /// <summary>Smaller ones are not worth the header of a JPEG.</summary>
    private const int LeastJpeg = 1024;

    /// <summary>Where so much changes at once that looking for what was scrolled takes time.</summary>
    private const int LargeArea = 200_000;

    /// <summary>After so many pictures at most it is looked for again, where it was not found.</summary>
    private const int MostPause = 16;

    /// <summary>About so many of them go into a byte of JPEG.</summary>
    private const int PixelsPerByte = 6;

    /// <summary>Higher ones are not put together, so that the viewer can begin to draw.</summary>
    private const int MostHeight = 256;

    private readonly ZrleEncoder zrle = new();
    private readonly ScrollFinder scrolls = new();
    private readonly Palette colours = new(FewColours);
    private readonly List<(ScreenRect Part, Kind Kind)> open = [];
    private readonly List<(ScreenRect Part, Kind Kind)> row = [];
    private ScreenImage shown = new(1, 1);
    private bool[] lossy = [false];
    private int lossyTiles;
    private int tilesAcross = 1;
    private int scrollPause;
    private int scrollWait;

    private enum Kind
    {
        Few,
        Many,
    }

    /// <summary>Whether the viewer shows something that was sent with losses.</summary>
    public bool HasLosses => lossyTiles > 0;

    /// <summary>The viewer shows nothing of use any more: all is sent again.</summary>
    public void Forget(ScreenImage now)
    {
        shown = new ScreenImage(now.Width, now.Height);
        for (var i = 0; i < shown.Pixels.Length; i++)
        {
            // No picture has that, so every pixel differs from it.
            shown.Pixels[i] = 0xFF000000;
        }
        tilesAcross = (now.Width + Side - 1) / Side;
        lossy = new bool[tilesAcross * ((now.Height + Side - 1) / Side)];
        lossyTiles = 0;
    }

    /// <summary>The viewer asks for a part again, whether it has changed or not.</summary>
    public void Forget(ScreenRect part)
    {
        var clipped = part.Intersect(shown.Bounds);
        if (!clipped.IsEmpty)
        {
            shown.Fill(clipped, 0xFF000000);
        }
    }

    /// <summary>Writes the rectangles of what differs.</summary>
    /// <param name="now">As large as what <see cref="Forget(ScreenImage)"/> was given.</param>
    /// <param name="damage">Where it may differ; what was not written for want of room is left in it.</param>
    /// <param name="quality">Of what is sent with losses, 1 to 100.</param>
    /// <param name="mostBytes">No other rectangle is begun beyond that.</param>
    public void Encode(ScreenImage now, List<ScreenRect> damage, ViewerTakes takes, int quality, int mostBytes, RfbWriter to)
    {
        var began = to.Written.Length;
        // Small things first: what is typed is not kept waiting by a film.
        damage.Sort((a, b) => a.Area.CompareTo(b.Area));
        while (damage.Count > 0 && to.Rects < ushort.MaxValue - 2 * tilesAcross)
        {
            var part = damage[0].Intersect(now.Bounds);
            damage.RemoveAt(0);
            if (part.IsEmpty)
            {
                continue;
            }
            if (takes.CopyRect && Scrolled(now, part) is { } moved)
            {
                to.CopyRect(moved.To, moved.To.X, moved.FromY);
                shown.Move(moved.To.X, moved.FromY, moved.To);
                CarryLosses(moved.To, moved.FromY);
            }
            var left = Differences(now, part, takes, quality, began + mostBytes, to);
            if (!left.IsEmpty)
            {
                damage.Insert(0, left);
                return;
            }
        }
    }

    /// <summary>Sends what was sent with losses again, without.</summary>
    /// <param name="mostBytes">No other rectangle is begun beyond that; call it again then.</param>
    public void Repair(ScreenImage now, ViewerTakes takes, int mostBytes, RfbWriter to)
    {
        var began = to.Written.Length;
        for (var i = 0; i < lossy.Length && lossyTiles > 0; i++)
        {
            if (!lossy[i])
            {
                continue;
            }
            var part = TileAt(i).Intersect(now.Bounds);
            Write(now, part, Kind.Few, takes, 100, to);
            if (to.Written.Length - began > mostBytes || to.Rects > 1000)
            {
                return;
            }
        }
    }

    public void Dispose() => zrle.Dispose();

    /// <summary>What was scrolled in a part. In a film it is looked for ever more seldom.</summary>
    private (ScreenRect To, int FromY)? Scrolled(ScreenImage now, ScreenRect part)
    {
        var isLarge = part.Area > LargeArea;
        if (isLarge && scrollWait > 0)
        {
            scrollWait--;
            return null;
        }
        var found = scrolls.Find(shown, now, part);
        if (isLarge)
        {
            scrollWait = scrollPause = found is null ? Math.Min(MostPause, 2 * scrollPause + 1) : 0;
        }
        return found;
    }

    /// <returns>What is left for another time.</returns>
    private ScreenRect Differences(ScreenImage now, ScreenRect part, ViewerTakes takes, int quality, int until, RfbWriter to)
    {
        open.Clear();
        for (var top = part.Y; top < part.Bottom;)
        {
            var bottom = Math.Min(part.Bottom, (top / Side + 1) * Side);
            var strip = ScreenRect.Between(part.X, top, part.Right, bottom);
            row.Clear();
            if (Changed(now, strip) is { IsEmpty: false } rows)
            {
                for (var left = part.X; left < part.Right;)
                {
                    var right = Math.Min(part.Right, (left / Side + 1) * Side);
                    if (Changed(now, ScreenRect.Between(left, rows.Y, right, rows.Bottom)) is { IsEmpty: false } tile)
                    {
                        Join(tile, takes.Quality > 0 && jpeg is not null && IsMany(now, tile) ? Kind.Many : Kind.Few);
                    }
                    left = right;
                }
            }
            Close(now, takes, quality, to);
            if (to.Written.Length + open.Sum(o => o.Part.Area) / PixelsPerByte > until && bottom < part.Bottom)
            {
                Flush(now, takes, quality, to);
                return ScreenRect.Between(part.X, bottom, part.Right, part.Bottom);
            }
            top = bottom;
        }
        Flush(now, takes, quality, to);
        return default;
    }

    /// <summary>Puts a tile to the one on its left, where both are of one kind.</summary>
    private void Join(ScreenRect tile, Kind kind)
    {
        if (row.Count > 0 && row[^1] is var last && last.Kind == kind && last.Part.Right == tile.X && last.Part.Width + tile.Width <= TightRects.MostWidth)
        {
            row[^1] = (last.Part.Join(tile), kind);
        }
        else
        {
            row.Add((tile, kind));
        }
    }

    /// <summary>Ends a row of tiles: what goes on from the row above is put to it, what does not is written.</summary>
    private void Close(ScreenImage now, ViewerTakes takes, int quality, RfbWriter to)
    {
        for (var i = 0; i < row.Count; i++)
        {
            var (part, kind) = row[i];
            var above = kind == Kind.Few ? -1 : open.FindIndex(o => o.Kind == kind && o.Part.X == part.X && o.Part.Width == part.Width && o.Part.Bottom == part.Y && o.Part.Height + part.Height <= MostHeight);
            if (above >= 0)
            {
                row[i] = (open[above].Part.Join(part), kind);
                open.RemoveAt(above);
            }
        }
        Flush(now, takes, quality, to);
        open.AddRange(row);
    }

    private void Flush(ScreenImage now, ViewerTakes takes, int quality, RfbWriter to)
    {
        foreach (var (part, kind) in open)
        {
            Write(now, part, kind, takes, quality, to);
        }
        open.Clear();
    }

    private void Write(ScreenImage now, ScreenRect part, Kind kind, ViewerTakes takes, int quality, RfbWriter to)
    {
        var isLossy = false;
        if (kind == Kind.Many && part.Area >= LeastJpeg && jpeg!.Encode(now, part, Math.Min(quality, takes.Quality), halfColour: true) is { Length: <= TightRects.MostBytes } packed)
        {
            to.Rect(part, RfbEncoding.Tight);
            TightRects.WriteJpeg(packed, to.Bytes);
            isLossy = true;
        }
        else if (takes.Zrle)
        {
            to.Rect(part, RfbEncoding.Zrle);
            zrle.Write(now, part, takes.Format, to.Bytes);
        }
        else
        {
            to.Rect(part, RfbEncoding.Raw);
            WriteRaw(now, part, takes.Format, to);
        }
        shown.Copy(now, part);
        Mark(part, isLossy);
    }

    private static void WriteRaw(ScreenImage now, ScreenRect part, PixelFormat format, RfbWriter to)
    {
        var size = format.BytesPerPixel;
        for (var y = part.Y; y < part.Bottom; y++)
        {
            var span = to.Bytes.GetSpan(part.Width * size);
            var x = 0;
            foreach (var pixel in now.Row(part, y))
            {
                format.Put(pixel, span[(x++ * size)..]);
            }
            to.Bytes.Advance(part.Width * size);
        }
    }

    /// <summary>The smallest part of a part in which something differs; empty where nothing does.</summary>
    private ScreenRect Changed(ScreenImage now, ScreenRect part)
    {
        var (top, bottom, left, right) = (-1, 0, part.Width, 0);
        for (var y = part.Y; y < part.Bottom; y++)
        {
            var a = now.Row(part, y);
            var b = shown.Row(part, y);
            if (a.SequenceEqual(b))
            {
                continue;
            }
            top = top < 0 ? y : top;
            bottom = y + 1;
            left = Math.Min(left, a.CommonPrefixLength(b));
            var last = a.Length - 1;
            while (last >= right && a[last] == b[last])
            {
                last--;
            }
            right = Math.Max(right, last + 1);
        }
        return top < 0 ? default : ScreenRect.Between(part.X + left, top, part.X + right, bottom);
    }

    private bool IsMany(ScreenImage now, ScreenRect tile)
    {
        colours.Clear();
        for (var y = tile.Y; y < tile.Bottom; y += 2)
        {
            var pixels = now.Row(tile, y);
            for (var x = 0; x < pixels.Length; x += 2)
            {
                colours.Add(pixels[x]);
            }
            if (colours.Colours > FewColours)
            {
                return true;
            }
        }
        return false;
    }

    private ScreenRect TileAt(int index) => new(index % tilesAcross * Side, index / tilesAcross * Side, Side, Side);

    /// <summary>A tile is without losses only when all of it was sent so.</summary>
    private void Mark(ScreenRect part, bool isLossy)
    {
        for (var y = part.Y / Side; y * Side < part.Bottom; y++)
        {
            for (var x = part.X / Side; x * Side < part.Right; x++)
            {
                var index = y * tilesAcross + x;
                if (isLossy || part.Covers(TileAt(index).Intersect(shown.Bounds)))
                {
                    SetLossy(index, isLossy);
                }
            }
        }
    }

    private void SetLossy(int index, bool isLossy)
    {
        if (lossy[index] != isLossy)
        {
            lossy[index] = isLossy;
            lossyTiles += isLossy ? 1 : -1;
        }
    }

    /// <summary>What is copied from where there are losses has them too.</summary>
    private void CarryLosses(ScreenRect to, int fromY)
    {
        if (lossyTiles == 0)
        {
            return;
        }
        var from = new ScreenRect(to.X, fromY, to.Width, to.Height);
        for (var y = from.Y / Side; y * Side < from.Bottom; y++)
        {
            for (var x = from.X / Side; x * Side < from.Right; x++)
            {
                if (lossy[y * tilesAcross + x])
                {
                    var tile = TileAt(y * tilesAcross + x).Intersect(from);
                    Mark(tile with { Y = tile.Y + to.Y - fromY }, isLossy: true);
                }
            }
        }
    }
}
