namespace Umbrek.Core.Desktop;

/// <summary>A part of a screen, in pixels from its upper left corner.</summary>
public readonly record struct ScreenRect(int X, int Y, int Width, int Height)
{
    public int Right => X + Width;
    public int Bottom => Y + Height;
    public bool IsEmpty => Width <= 0 || Height <= 0;
    public long Area => IsEmpty ? 0 : (long)Width * Height;

    public static ScreenRect Between(int left, int top, int right, int bottom) => new(left, top, right - left, bottom - top);

    /// <summary>What both cover; empty where they do not meet.</summary>
    public ScreenRect Intersect(ScreenRect other)
    {
        var both = Between(Math.Max(X, other.X), Math.Max(Y, other.Y), Math.Min(Right, other.Right), Math.Min(Bottom, other.Bottom));
        return both.IsEmpty ? default : both;
    }

    /// <summary>The smallest one that covers both.</summary>
    public ScreenRect Join(ScreenRect other) =>
        IsEmpty ? other : other.IsEmpty ? this : Between(Math.Min(X, other.X), Math.Min(Y, other.Y), Math.Max(Right, other.Right), Math.Max(Bottom, other.Bottom));

    public bool Covers(ScreenRect other) => other.X >= X && other.Y >= Y && other.Right <= Right && other.Bottom <= Bottom;
}
