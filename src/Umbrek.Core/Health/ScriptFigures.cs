using System.Globalization;
using Umbrek.Core.Estate;

namespace Umbrek.Core.Health;

/// <summary>Reads what a script prints: lines like <c>queue=14</c> or <c>age=90 s</c> are figures, the first other line is what it says.</summary>
public static class ScriptFigures
{
    /// <returns>Figures that are no numbers are left out of them and stand in what is said.</returns>
    public static (string Says, IReadOnlyList<ProbeFigure> Figures) Read(string output)
    {
        var figures = new List<ProbeFigure>();
        var said = new List<string>();
        foreach (var line in output.Split('\n').Select(l => l.Trim()).Where(l => l.Length > 0))
        {
            var equals = line.IndexOf('=', StringComparison.Ordinal);
            if (equals is > 0 and <= ProbeFigure.MaxName && line.AsSpan(0, equals).TrimEnd() is var name && IsName(name) && ReadValue(line[(equals + 1)..].Trim()) is var (value, unit))
            {
                if (figures.Count < ProbeReading.MaxFigures)
                {
                    figures.RemoveAll(f => f.Name == line[..equals].TrimEnd());
                    figures.Add(new ProbeFigure(line[..equals].TrimEnd(), value, unit));
                }
            }
            else if (said.Count < 3)
            {
                said.Add(line);
            }
        }
        return (string.Join(" · ", said), figures);
    }

    private static bool IsName(ReadOnlySpan<char> name)
    {
        foreach (var c in name)
        {
            if (!char.IsAsciiLetterOrDigit(c) && c is not ('_' or '-' or '.'))
            {
                return false;
            }
        }
        return name.Length > 0;
    }

    private static (double Value, Dimension Unit)? ReadValue(string text)
    {
        var length = text.TakeWhile(c => char.IsAsciiDigit(c) || c is '.' or '-' or '+' or 'e' or 'E').Count();
        var sign = text[length..].Trim();
        var unit = sign.Length == 0 ? QuantityUnit.None : QuantityUnit.Find(sign);
        return unit is not null && double.TryParse(text.AsSpan(0, length), NumberStyles.Float, CultureInfo.InvariantCulture, out var value) && double.IsFinite(value) ? (value * unit.Factor, unit.Dimension) : null;
    }
}
