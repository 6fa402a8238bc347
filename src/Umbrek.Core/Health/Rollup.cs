using System.Buffers.Binary;
using System.Text;

namespace Umbrek.Core.Health;

/// <summary>How much time one roll-up covers, and how long it is kept.</summary>
public enum RollupSpan
{
    FiveMinutes,
    Hour,
}

public static class RollupSpans
{
    public static TimeSpan Length(this RollupSpan span) => span == RollupSpan.Hour ? TimeSpan.FromHours(1) : TimeSpan.FromMinutes(5);

    /// <summary>30 days, and 13 months.</summary>
    public static TimeSpan Retention(this RollupSpan span) => span == RollupSpan.Hour ? TimeSpan.FromDays(396) : TimeSpan.FromDays(30);

    /// <summary>The beginning of the part that the time falls into.</summary>
    public static DateTimeOffset Floor(this RollupSpan span, DateTimeOffset at)
    {
        var length = span.Length().Ticks;
        return new DateTimeOffset(at.UtcTicks - at.UtcTicks % length, TimeSpan.Zero);
    }
}

/// <summary>One metric's figures over a part of time; for metrics with parts (file systems, interfaces) one for each.</summary>
public readonly record struct RollupFigure(Metric Metric, string Part, float Min, float Mean, float Max);

/// <summary>What samples of a part of time come to.</summary>
/// <param name="Count">Samples in it.</param>
public sealed record Rollup(int Count, IReadOnlyList<RollupFigure> Figures)
{
    /// <summary>Most bytes of an encoded one.</summary>
    public const int MaxBytes = 16 * 1024;

    public static Rollup Of(IReadOnlyCollection<Sample> samples) => new(
        samples.Count,
        [.. Metric.All.SelectMany(m => samples.SelectMany(m.Read).Where(v => double.IsFinite(v.Value)).GroupBy(v => v.Part, StringComparer.Ordinal)
            .Select(g => new RollupFigure(m, g.Key, (float)g.Min(v => v.Value), (float)g.Average(v => v.Value), (float)g.Max(v => v.Value))))]);

    /// <summary>Several parts of time as one; means count by their samples.</summary>
    public static Rollup Merge(IReadOnlyCollection<Rollup> parts) => new(
        parts.Sum(p => p.Count),
        [.. parts.SelectMany(p => p.Figures.Select(f => (p.Count, Figure: f))).GroupBy(f => (f.Figure.Metric.Code, f.Figure.Part))
            .OrderBy(g => g.Key.Code).ThenBy(g => g.Key.Part, StringComparer.Ordinal)
            .Select(g => new RollupFigure(
                g.First().Figure.Metric, g.Key.Part, g.Min(f => f.Figure.Min),
                (float)(g.Sum(f => (double)f.Figure.Mean * f.Count) / Math.Max(1, g.Sum(f => f.Count))), g.Max(f => f.Figure.Max)))]);

    /// <summary>
    /// As it is stored: u8 version (1) | u32 count | for each figure u8 metric | u8 length of the part's name | its UTF-8 | f32 min | f32 mean | f32 max,
    /// all little-endian.
    /// </summary>
    public byte[] Encode()
    {
        using var stream = new MemoryStream();
        Span<byte> buffer = stackalloc byte[12];
        stream.WriteByte(1);
        BinaryPrimitives.WriteInt32LittleEndian(buffer, Count);
        stream.Write(buffer[..4]);
        foreach (var figure in Figures)
        {
            var part = Encoding.UTF8.GetBytes(figure.Part);
            if (part.Length > 255 || stream.Length + part.Length + 14 > MaxBytes)
            {
                continue;
            }
            stream.WriteByte(figure.Metric.Code);
            stream.WriteByte((byte)part.Length);
            stream.Write(part);
            BinaryPrimitives.WriteSingleLittleEndian(buffer, figure.Min);
            BinaryPrimitives.WriteSingleLittleEndian(buffer[4..], figure.Mean);
            BinaryPrimitives.WriteSingleLittleEndian(buffer[8..], figure.Max);
            stream.Write(buffer);
        }
        return stream.ToArray();
    }

    /// <summary>Reads one back; figures of metrics that are not known any more are left out.</summary>
    /// <param name="wanted">Only these; null is all.</param>
    /// <exception cref="InvalidDataException">It is damaged.</exception>
    public static Rollup Decode(ReadOnlySpan<byte> bytes, IReadOnlySet<Metric>? wanted = null)
    {
        if (bytes.Length < 5 || bytes[0] != 1)
        {
            throw new InvalidDataException("not a roll-up");
        }
        var count = BinaryPrimitives.ReadInt32LittleEndian(bytes[1..]);
        var figures = new List<RollupFigure>();
        for (var rest = bytes[5..]; rest.Length > 0;)
        {
            if (rest.Length < 14 || rest.Length < 14 + rest[1])
            {
                throw new InvalidDataException("a roll-up that ends in the middle");
            }
            var length = rest[1];
            if (Metric.Find(rest[0]) is { } metric && wanted?.Contains(metric) != false)
            {
                var values = rest[(2 + length)..];
                figures.Add(new RollupFigure(metric, length == 0 ? "" : Encoding.UTF8.GetString(rest.Slice(2, length)), BinaryPrimitives.ReadSingleLittleEndian(values), BinaryPrimitives.ReadSingleLittleEndian(values[4..]), BinaryPrimitives.ReadSingleLittleEndian(values[8..])));
            }
            rest = rest[(14 + length)..];
        }
        return new Rollup(count, figures);
    }

    public RollupFigure? Find(string metric, string part = "")
    {
        foreach (var figure in Figures)
        {
            if (figure.Metric.Name == metric && figure.Part == part)
            {
                return figure;
            }
        }
        return null;
    }
}
