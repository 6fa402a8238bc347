using System.CommandLine;
using System.Globalization;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;

namespace Umbrek.Cli.Jobs;

/// <summary>Which processes are shown, and in what order.</summary>
internal sealed class ProcessView
{
    private readonly Argument<string[]> words = new("words") { Description = "Only processes that have these words in name, user, number or command line.", Arity = ArgumentArity.ZeroOrMore };
    private readonly Option<string> sort = new("--sort") { Description = "processor, memory, used (processor time since its start), started, name or number.", DefaultValueFactory = _ => "processor" };
    private readonly Option<bool> tree = new("--tree") { Description = "Each below the one that started it." };
    private readonly Option<string?> user = new("--user") { Description = "Only processes of this user.", HelpName = "user" };

    public ProcessView() => sort.AcceptOnlyFromAmong("processor", "memory", "used", "started", "name", "number");

    public Argument Words => words;

    public IEnumerable<Option> Options => [sort, tree, user];

    /// <summary>Those of a reading that are wanted, each with how deep it stands.</summary>
    public List<(HostProcess Process, int Depth)> Of(ParseResult parsed, ProcessReading reading)
    {
        var wanted = reading.Processes.Where(p => (parsed.GetValue(user) is not { } of || p.User == of) && p.Has(parsed.GetValue(words) ?? [])).ToList();
        var order = Order(parsed.GetRequiredValue(sort));
        return parsed.GetValue(tree) ? ProcessTree.Order(wanted, order) : [.. wanted.Order(order).Select(p => (p, 0))];
    }

    private static Comparer<HostProcess> Order(string by)
    {
        Comparison<HostProcess> first = by switch
        {
            "memory" => (a, b) => b.MemoryBytes.CompareTo(a.MemoryBytes),
            "used" => (a, b) => b.ProcessorSeconds.CompareTo(a.ProcessorSeconds),
            "started" => (a, b) => b.Start.CompareTo(a.Start),
            "name" => (a, b) => string.Compare(a.Name, b.Name, StringComparison.OrdinalIgnoreCase),
            "number" => (_, _) => 0,
            _ => (a, b) => (b.ProcessorPercent ?? 0).CompareTo(a.ProcessorPercent ?? 0),
        };
        return Comparer<HostProcess>.Create((a, b) => first(a, b) is not 0 and var order ? order : a.Pid.CompareTo(b.Pid));
    }

    public static string Percent(double? percent) => percent is { } p ? p.ToString("0.0", CultureInfo.InvariantCulture) : "";

    public static string Used(double seconds) => seconds < 3600
        ? $"{(int)seconds / 60}:{((int)seconds % 60).ToString("00", CultureInfo.InvariantCulture)}"
        : $"{(int)seconds / 3600}:{((int)seconds / 60 % 60).ToString("00", CultureInfo.InvariantCulture)}:{((int)seconds % 60).ToString("00", CultureInfo.InvariantCulture)}";

    public static string CommandLine(HostProcess process, int depth) => $"{new string(' ', 2 * depth)}{TerminalText.Line(process.CommandLine ?? $"[{process.Name}]")}";

    /// <summary>One screen of a terminal: the head, and as many processes as fit.</summary>
    public static string Screen(string where, ProcessReading reading, List<(HostProcess Process, int Depth)> shown, int width, int height)
    {
        var busy = reading.Processes.Sum(p => p.ProcessorPercent ?? 0) / reading.Processors;
        string Fit(string line) => line.Length <= width ? line : line[..Math.Max(0, width - 1)] + "…";
        List<string> lines =
        [
            Fit($"{where}   {reading.At.UtcDateTime:HH:mm:ss} UTC   {reading.Processes.Count} processes   processor {busy.ToString("0", CultureInfo.InvariantCulture)} %   Ctrl-C ends"),
            "",
            Fit($"{"NUMBER",7}  {"USER",-12}  {"PROC %",6}  {"MEMORY",9}  {"USED",9}  {"NICE",4}  COMMAND LINE"),
        ];
        lines.AddRange(shown.Take(Math.Max(0, height - lines.Count - 1)).Select(s => Fit(
            $"{s.Process.Pid,7}  {(s.Process.User.Length > 12 ? s.Process.User[..11] + "…" : s.Process.User),-12}  {Percent(s.Process.ProcessorPercent),6}  {Units.Bytes(s.Process.MemoryBytes),9}  {Used(s.Process.ProcessorSeconds),9}  {s.Process.Niceness,4}  {CommandLine(s.Process, s.Depth)}")));
        return string.Join("\n", lines);
    }
}
