using System.Globalization;
using System.Text;
using Umbrek.Service.Access;

namespace Umbrek.Service.Health;

/// <summary>Figures as OpenMetrics 1.0 text.</summary>
public sealed class OpenMetrics(EstateFigures figures)
{
    public const string ContentType = "application/openmetrics-text; version=1.0.0; charset=utf-8";

    public string Write(Asker by)
    {
        var text = new StringBuilder(64 * 1024);
        foreach (var family in figures.Of(by.Reach))
        {
            Write(text, family);
        }
        return text.Append("# EOF\n").ToString();
    }

    private static void Write(StringBuilder text, FigureFamily family)
    {
        text.Append(CultureInfo.InvariantCulture, $"# TYPE {family.Name} {family.Type}\n");
        if (family.Unit is not null)
        {
            text.Append(CultureInfo.InvariantCulture, $"# UNIT {family.Name} {family.Unit}\n");
        }
        text.Append(CultureInfo.InvariantCulture, $"# HELP {family.Name} {Escape(family.Help)}\n");
        foreach (var (labels, value) in family.Figures)
        {
            text.Append(family.Name).Append(family.Type == "counter" ? "_total" : "");
            if (labels.Count > 0)
            {
                text.Append('{').AppendJoin(',', labels.Select(l => $"{l.Name}=\"{Escape(l.Value)}\"")).Append('}');
            }
            text.Append(' ').Append(value.ToString("R", CultureInfo.InvariantCulture)).Append('\n');
        }
    }

    private static string Escape(string text) => text.Replace("\\", "\\\\").Replace("\"", "\\\"").Replace("\n", "\\n");
}
