using Umbrek.Core.Estate;

namespace Umbrek.Core.Health;

/// <summary>One limit on a figure of a probe: <c>left &lt; 14 d</c>.</summary>
public sealed record ProbeLimit(string Figure, Relation Relation, Quantity Than)
{
    public override string ToString() => $"{Figure} {Relation.Sign()} {Than}";
}

/// <summary>Limits on a probe's figures, any of which is enough: <c>left &lt; 14 d or lost &gt; 20 %</c>. A failed probe is bad with or without them.</summary>
public sealed record ProbeLimits(IReadOnlyList<ProbeLimit> Any)
{
    private const int Most = 10;

    public static ProbeLimits None { get; } = new([]);

    /// <param name="known">The figures there are; null when any name will do.</param>
    /// <returns>Null with what is wrong.</returns>
    public static ProbeLimits? Read(string? text, IReadOnlyList<string>? known, out string problem)
    {
        problem = "";
        var words = (text ?? "").Replace("<", " < ", StringComparison.Ordinal).Replace(">", " > ", StringComparison.Ordinal).Replace("=", " = ", StringComparison.Ordinal)
            .Replace("<  =", "<=", StringComparison.Ordinal).Replace(">  =", ">=", StringComparison.Ordinal).Replace("%", " % ", StringComparison.Ordinal)
            .Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries);
        var limits = new List<ProbeLimit>();
        foreach (var part in Parts(words))
        {
            if (part.Count is not (3 or 4) || Relations.Read(part[1]) is not { } relation)
            {
                problem = $"'{string.Join(' ', part)}' is no limit. Write a figure, a sign and a quantity, with 'or' between several: {Example(known)}.";
                return null;
            }
            if (known?.Contains(part[0]) == false)
            {
                problem = known.Count == 0 ? "This probe has no figures to set limits to; leave that out." : $"This probe has no figure '{part[0]}'; it has {string.Join(" and ", known)}.";
                return null;
            }
            // The unit may stand close to its amount: 14d.
            var amount = part[2].TakeWhile(c => char.IsAsciiDigit(c) || c == '.').Count();
            var sign = part.Count == 4 && amount == part[2].Length ? part[3] : part.Count == 3 ? part[2][amount..] : "?";
            if (part[0].Length > ProbeFigure.MaxName || Quantity.ReadAmount(part[2][..amount]) is not { } number || (sign.Length == 0 ? QuantityUnit.None : QuantityUnit.Find(sign)) is not { } unit)
            {
                problem = $"'{string.Join(' ', part.Skip(2))}' is no quantity. Write a number, with a unit such as s, min, h, d, % or MiB where it has one.";
                return null;
            }
            limits.Add(new ProbeLimit(part[0], relation, new Quantity(number, unit)));
        }
        if (limits.Count > Most)
        {
            problem = $"{Most} limits are the most.";
            return null;
        }
        return new ProbeLimits(limits);
    }

    /// <summary>What is past its limit, and what can't be told for it is not there or measured in something else.</summary>
    public (ProbeLimit? Past, ProbeLimit? Untold) Judge(IReadOnlyList<ProbeFigure> figures)
    {
        ProbeLimit? untold = null;
        foreach (var limit in Any)
        {
            var figure = figures.FirstOrDefault(f => f.Name == limit.Figure);
            if (figure is null || (figure.Unit != limit.Than.Unit.Dimension && limit.Than.Unit.Dimension != Dimension.Count) || !double.IsFinite(figure.Value))
            {
                untold ??= limit;
            }
            else if (limit.Relation.Holds(figure.Value, limit.Than.Value))
            {
                return (limit, untold);
            }
        }
        return (null, untold);
    }

    /// <summary>What a result says of now.</summary>
    public Reading Read(ProbeResult result) => result.State switch
    {
        ProbeState.Failed => Reading.Bad,
        ProbeState.Well => Judge(result.Figures) switch { ({ }, _) => Reading.Bad, (_, { }) => Reading.Unknown, _ => Reading.Good },
        _ => Reading.Unknown,
    };

    public override string ToString() => string.Join(" or ", Any);

    private static string Example(IReadOnlyList<string>? known) => (known is [var first, ..] ? first : null) switch { "left" => "left < 14 d", "lost" => "lost > 20 %", "status" => "took > 2 s", "took" => "took > 2 s", { } other => $"{other} > 3", _ => "queue > 100" };

    private static IEnumerable<List<string>> Parts(string[] words)
    {
        var part = new List<string>();
        foreach (var word in words)
        {
            if (word.Equals("or", StringComparison.OrdinalIgnoreCase))
            {
                yield return part;
                part = [];
            }
            else
            {
                part.Add(word);
            }
        }
        if (words.Length > 0)
        {
            yield return part;
        }
    }
}
