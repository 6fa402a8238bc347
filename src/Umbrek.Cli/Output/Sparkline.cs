namespace Umbrek.Cli.Output;

/// <summary>A row of figures as bars of eight heights; a gap where nothing is known.</summary>
public static class Sparkline
{
    public const int Width = 40;
    private const string Bars = "▁▂▃▄▅▆▇█";

    /// <param name="top">What the highest bar stands for; the most there is when it is left out.</param>
    public static string Draw(IReadOnlyList<double?> values, double? top = null)
    {
        var most = top ?? values.Max() ?? 0;
        var least = top is null ? Math.Min(0, values.Min() ?? 0) : 0;
        return string.Concat(values.Select(v => v is not { } known ? ' ' : most <= least ? Bars[0] : Bars[Math.Clamp((int)((known - least) / (most - least) * Bars.Length), 0, Bars.Length - 1)]));
    }
}
