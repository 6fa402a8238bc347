using System.Globalization;

namespace Umbrek.Core.Estate;

/// <summary>What a figure is measured in.</summary>
public enum Dimension
{
    /// <summary>A bare number.</summary>
    Count,
    Percent,

    /// <summary>Bytes.</summary>
    Size,

    /// <summary>Seconds.</summary>
    Time,
}

/// <summary>A unit as people write it.</summary>
/// <param name="Factor">How much of the dimension's base (bytes, seconds, percent) one of it is.</param>
public sealed record QuantityUnit(string Sign, Dimension Dimension, double Factor)
{
    public static readonly QuantityUnit None = new("", Dimension.Count, 1);
    public static readonly QuantityUnit Percent = new("%", Dimension.Percent, 1);

    /// <summary>Sizes by powers of 1024 (IEC 80000-13) and of 1000 (SI), spans from seconds to weeks.</summary>
    public static readonly IReadOnlyList<QuantityUnit> All =
    [
        Percent,
        new("B", Dimension.Size, 1), new("KiB", Dimension.Size, 1L << 10), new("MiB", Dimension.Size, 1L << 20), new("GiB", Dimension.Size, 1L << 30), new("TiB", Dimension.Size, 1L << 40),
        new("kB", Dimension.Size, 1e3), new("MB", Dimension.Size, 1e6), new("GB", Dimension.Size, 1e9), new("TB", Dimension.Size, 1e12),
        new("s", Dimension.Time, 1), new("min", Dimension.Time, 60), new("h", Dimension.Time, 3600), new("d", Dimension.Time, 86400), new("w", Dimension.Time, 604800),
    ];

    /// <summary>Ignores case: "gib" and "GiB" are one.</summary>
    public static QuantityUnit? Find(string sign) => All.FirstOrDefault(u => string.Equals(u.Sign, sign, StringComparison.OrdinalIgnoreCase));

    public static string Signs(Dimension dimension) => string.Join(", ", All.Where(u => u.Dimension == dimension).Select(u => u.Sign));
}

/// <summary>A figure with its unit, kept as it was written.</summary>
public sealed record Quantity(decimal Amount, QuantityUnit Unit)
{
    /// <summary>In the dimension's base.</summary>
    public double Value => (double)Amount * Unit.Factor;

    public override string ToString()
    {
        var amount = Amount.ToString("0.############", CultureInfo.InvariantCulture);
        return Unit.Sign.Length == 0 ? amount : $"{amount} {Unit.Sign}";
    }

    /// <summary>Digits with at most one point; no sign, no exponent, fifteen digits before and twelve after the point.</summary>
    public static decimal? ReadAmount(string text) =>
        text.Length is > 0 and <= 28 && text.All(c => char.IsAsciiDigit(c) || c == '.') && text.IndexOf('.') is var point && (point < 0 ? text.Length <= 15 : point is > 0 and <= 15 && text.Length - point - 1 is > 0 and <= 12)
        && decimal.TryParse(text, NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var amount) ? amount : null;
}

/// <summary>How a figure is compared.</summary>
public enum Relation
{
    Below,
    AtMost,
    Equal,
    AtLeast,
    Above,
}

public static class Relations
{
    private static readonly (Relation Relation, string Sign)[] Signs = [(Relation.Below, "<"), (Relation.AtMost, "<="), (Relation.Equal, "="), (Relation.AtLeast, ">="), (Relation.Above, ">")];

    public static string Sign(this Relation relation) => Signs.First(s => s.Relation == relation).Sign;

    public static Relation? Read(string sign) => Signs.Where(s => s.Sign == sign).Select(s => (Relation?)s.Relation).FirstOrDefault();

    public static bool Holds(this Relation relation, double left, double right) => Holds(relation, left.CompareTo(right));

    /// <param name="order">What CompareTo gave.</param>
    public static bool Holds(this Relation relation, int order) => relation switch
    {
        Relation.Below => order < 0,
        Relation.AtMost => order <= 0,
        Relation.Equal => order == 0,
        Relation.AtLeast => order >= 0,
        _ => order > 0,
    };
}
