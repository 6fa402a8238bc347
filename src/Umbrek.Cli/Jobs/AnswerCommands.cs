using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>Reading what the hosts of a job answered.</summary>
public static class AnswerCommands
{
    /// <summary>Lines of one answer that are shown when nothing else is said.</summary>
    public const int UsualLines = 12;

    public static Command Answers(ClientContext client)
    {
        var id = JobCommands.IdArgument();
        var passOver = PassOver();
        var whole = new Option<bool>("--whole") { Description = "Shows the output to its end." };
        var command = ClientCommands.Named("answers", "Shows equal answers as one: the odd ones first.", "umbrek job answers 8fda0d97\n  umbrek job answers 8fda0d97 --pass-over nothing");
        command.Add(id, passOver, whole);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var job = await JobCommands.FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            return await PrintAsync(client, parsed, api, job.Id, parsed.GetValue(passOver), parsed.GetValue(whole) ? int.MaxValue : UsualLines, cancel).ConfigureAwait(false);
        });
        return command;
    }

    /// <summary>Fetches the folded answers of a job and prints them.</summary>
    public static async Task<int> PrintAsync(ClientContext client, ParseResult parsed, ApiClient api, Guid jobId, string? passOver, int lines, CancellationToken cancel)
    {
        var answers = await api.GetAsync($"jobs/{jobId}/answers{(passOver is null ? "" : $"?passOver={Uri.EscapeDataString(passOver)}")}", WireJson.Default.JobAnswers, cancel).ConfigureAwait(false);
        if (client.Format(parsed) == OutputFormat.Json)
        {
            Listing.PrintOne(OutputFormat.Json, answers, WireJson.Default.JobAnswers);
            return ExitCodes.Done;
        }
        var detail = await api.GetAsync($"jobs/{jobId}", WireJson.Default.JobDetail, cancel).ConfigureAwait(false);
        if (client.Format(parsed) == OutputFormat.Csv)
        {
            var labels = detail.Runs.ToDictionary(r => r.Id, r => r.HostLabel);
            Listing.Print(OutputFormat.Csv, [.. answers.Folds], WireJson.Default.ListFoldedAnswer, "",
                new("Hosts", f => $"{f.Runs.Count}"), new("State", f => Words.Of(f.State)), new("Exit", f => $"{f.ExitStatus}"), new("Reason", f => f.Reason ?? ""), new("Variants", f => $"{f.Variants}"),
                new("Lines", f => $"{f.Lines}"), new("Bytes", f => $"{f.Bytes}"), new("Names", f => string.Join(' ', f.Runs.Select(r => labels.GetValueOrDefault(r)))));
            return ExitCodes.Done;
        }
        await new AnswerPrinter(api, Console.Out, lines).PrintAsync(detail, answers, cancel).ConfigureAwait(false);
        return ExitCodes.Done;
    }

    public static Command Compare(ClientContext client)
    {
        var id = JobCommands.IdArgument();
        var first = new Argument<string>("host") { Description = "A host of the job." };
        var second = new Argument<string>("other") { Description = "The host to compare it with." };
        var passOver = PassOver();
        var all = new Option<bool>("--whole") { Description = "Shows the lines that both have as well." };
        var command = ClientCommands.Named("compare", "Compares two hosts' output line by line.", "umbrek job compare 8fda0d97 quay-ticket-01 quay-ticket-02");
        command.Add(id, first, second, passOver, all);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var job = await JobCommands.FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var runs = (await api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, cancel).ConfigureAwait(false)).Runs;
            var one = JobCommands.RunOf(runs, parsed.GetRequiredValue(first), job);
            var other = JobCommands.RunOf(runs, parsed.GetRequiredValue(second), job);
            var mask = parsed.GetValue(passOver) is { } words ? $"&passOver={Uri.EscapeDataString(words)}" : "";
            var comparison = await api.GetAsync($"runs/{one.Id}/comparison?with={other.Id}{mask}", WireJson.Default.AnswerComparison, cancel).ConfigureAwait(false);
            if (client.Format(parsed) == OutputFormat.Json)
            {
                Listing.PrintOne(OutputFormat.Json, comparison, WireJson.Default.AnswerComparison);
                return ExitCodes.Done;
            }
            PrintComparison(comparison, parsed.GetValue(all));
            return ExitCodes.Done;
        });
        return command;
    }

    private static void PrintComparison(AnswerComparison comparison, bool all)
    {
        var (first, second) = (comparison.First, comparison.Second);
        Console.Out.WriteLine($"< {TerminalText.Line(first.HostLabel)} of {first.GroupPath}: {Words.Of(first)}");
        Console.Out.WriteLine($"> {TerminalText.Line(second.HostLabel)} of {second.GroupPath}: {Words.Of(second)}");
        foreach (var stream in comparison.Streams)
        {
            if (stream.Stream == RunEventKind.Stderr)
            {
                Console.Out.WriteLine("stderr:");
            }
            PrintLines(stream.Lines, all);
        }
        if (comparison.Cut)
        {
            Console.Out.WriteLine($"(only the first {Units.Bytes(AnswerDifference.MostBytes)} of each were compared)");
        }
    }

    /// <summary>Lines that only one of two has, with the sign of the one.</summary>
    /// <param name="all">Lines that both have as well; otherwise they are counted.</param>
    internal static void PrintLines(IReadOnlyList<AnswerLine> lines, bool all)
    {
        var skipped = 0;
        foreach (var line in lines)
        {
            if (line.Kind == DifferenceKind.Same && !all)
            {
                skipped++;
                continue;
            }
            SayEqual(ref skipped);
            Console.Out.WriteLine($"{(line.Kind switch { DifferenceKind.OnlyFirst => '<', DifferenceKind.OnlySecond => '>', _ => ' ' })} {line.First ?? line.Second,5}  {TerminalText.Neutralise(line.Text)}");
        }
        SayEqual(ref skipped);
    }

    private static void SayEqual(ref int lines)
    {
        if (lines > 0)
        {
            Console.Out.WriteLine($"         … {lines} equal {(lines == 1 ? "line" : "lines")}");
        }
        lines = 0;
    }

    public static Command Search(ClientContext client)
    {
        var id = JobCommands.IdArgument();
        var text = new Argument<string>("text") { Description = "What to look for; letters of either case." };
        var most = new Option<int>("--most") { Description = "How many lines are shown.", DefaultValueFactory = _ => 200 };
        var command = ClientCommands.Named("search", "Finds lines in the output of all hosts.", "umbrek job search 8fda0d97 'no space left'");
        command.Add(id, text, most);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var job = await JobCommands.FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var sought = parsed.GetRequiredValue(text);
            var found = await api.GetAsync($"jobs/{job.Id}/search?text={Uri.EscapeDataString(sought)}&limit={parsed.GetValue(most)}", WireJson.Default.FoundLines, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), [.. found.Lines], WireJson.Default.ListFoundLine, $"No host printed '{TerminalText.Line(sought)}'.",
                new("Host", l => l.HostLabel), new("Stream", l => l.Stream == RunEventKind.Stderr ? "stderr" : "stdout"), new("Line", l => $"{l.Line}", Right: true), new("Text", l => l.Text));
            if (found.Lines.Count > 0 && client.Format(parsed) == OutputFormat.Table)
            {
                await Console.Error.WriteLineAsync($"{found.Lines.Count} {(found.Lines.Count == 1 ? "line" : "lines")} on {found.Hosts} {(found.Hosts == 1 ? "host" : "hosts")}{(found.More ? "; there are more, show them with --most" : "")}").ConfigureAwait(false);
            }
            if (found.Gone > 0 && client.Format(parsed) == OutputFormat.Table)
            {
                await Console.Error.WriteLineAsync($"What {found.Gone} {(found.Gone == 1 ? "host" : "hosts")} printed is not kept any longer.").ConfigureAwait(false);
            }
            return found.Lines.Count > 0 ? ExitCodes.Done : ExitCodes.NothingMatched;
        });
        return command;
    }

    public static Command Fetch(ClientContext client)
    {
        var id = JobCommands.IdArgument();
        var form = new Option<string>("--as") { Description = "ndjson: a line of JSON for each host. zip: files for each host, every byte.", DefaultValueFactory = _ => "ndjson" };
        form.AcceptOnlyFromAmong("ndjson", "zip");
        var to = new Option<string?>("--to") { Description = "The file that it goes to; standard output when left out.", HelpName = "file" };
        var command = ClientCommands.Named("fetch", "Fetches the output of all hosts of a job.", "umbrek job fetch 8fda0d97 --as zip --to inventory.zip");
        command.Add(id, form, to);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var job = await JobCommands.FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var file = parsed.GetValue(to);
            if (file is null && parsed.GetValue(form) == "zip" && !Console.IsOutputRedirected)
            {
                throw new ClientException("A ZIP archive is nothing for a terminal; give a file with --to.", ExitCodes.WrongUse);
            }
            using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}jobs/{job.Id}/output?as={parsed.GetValue(form)}");
            using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            if (file is null)
            {
                await using var stdout = Console.OpenStandardOutput();
                await response.Content.CopyToAsync(stdout, cancel).ConfigureAwait(false);
                return ExitCodes.Done;
            }
            var bytes = await WholeFile.WriteAsync(file, to => response.Content.CopyToAsync(to, cancel)).ConfigureAwait(false);
            await Console.Error.WriteLineAsync($"{file}: {Units.Bytes(bytes)}").ConfigureAwait(false);
            return ExitCodes.Done;
        });
        return command;
    }

    public static Option<string?> PassOver() =>
        new("--pass-over") { Description = "What does not count: some of times, names, addresses, numbers with commas between them, or nothing. Times, names and addresses when left out.", HelpName = "what" };
}
