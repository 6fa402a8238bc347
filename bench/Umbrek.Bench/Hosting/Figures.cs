using System.Globalization;

namespace Umbrek.Bench.Hosting;

/// <summary>Prints each figure beside its reference, as a ratio.</summary>
internal static class Figures
{
    public static void Machine()
    {
        var model = File.ReadLines("/proc/cpuinfo").FirstOrDefault(l => l.StartsWith("model name", StringComparison.Ordinal))?.Split(':')[1].Trim();
        Console.WriteLine($"{Environment.ProcessorCount} x {model}, .NET {Environment.Version}");
        Console.WriteLine($"{"",-46}{"ours",14}{"reference",14}{"ratio",9}   budget");
    }

    public static void Line(string what, double ours, double reference, string unit, string budget) =>
        Console.WriteLine($"{what,-46}{Show(ours, unit),14}{Show(reference, unit),14}{(ours / reference).ToString("0.00", CultureInfo.InvariantCulture),9}   {budget}");

    public static void Alone(string what, double ours, string unit, string budget) =>
        Console.WriteLine($"{what,-46}{Show(ours, unit),14}{"",14}{"",9}   {budget}");

    public static double Median(IEnumerable<double> values) => values.Order().ToList() is var v ? v[v.Count / 2] : 0;

    private static string Show(double value, string unit) => $"{value.ToString(value < 10 ? "0.00" : value < 100 ? "0.0" : "0", CultureInfo.InvariantCulture)} {unit}";
}
