using System.Text;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Cli.Output;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>Prints folded answers: the rarest first, each with its hosts and the output of the first of them.</summary>
public sealed class AnswerPrinter(ApiClient api, TextWriter to, int mostLines)
{
    private const int MostNames = 6;
    private const int MostBytes = 1 << 20;

    public async Task PrintAsync(JobDetail job, JobAnswers answers, CancellationToken cancel)
    {
        var runs = job.Runs.ToDictionary(r => r.Id);
        foreach (var (index, fold) in answers.Folds.Index())
        {
            if (index > 0)
            {
                await to.WriteLineAsync().ConfigureAwait(false);
            }
            await PrintAsync(fold, [.. fold.Runs.Where(runs.ContainsKey).Select(id => runs[id])], cancel).ConfigureAwait(false);
        }
        var rest = new List<string>();
        if (answers.Open > 0)
        {
            rest.Add($"{answers.Open} {(answers.Open == 1 ? "run has" : "runs have")} not ended");
        }
        if (answers.Hidden > 0)
        {
            rest.Add($"the output of {answers.Hidden} {(answers.Hidden == 1 ? "host is" : "hosts is")} not yours to read");
        }
        if (answers.Gone > 0)
        {
            rest.Add($"what {answers.Gone} {(answers.Gone == 1 ? "host" : "hosts")} printed is not kept any longer");
        }
        if (answers.PassedOver != "nothing" && answers.Folds.Count > 0)
        {
            rest.Add($"passed over: {answers.PassedOver}");
        }
        if (rest.Count > 0)
        {
            await to.WriteLineAsync($"{(answers.Folds.Count > 0 ? "\n" : "")}({string.Join("; ", rest)})").ConfigureAwait(false);
        }
    }

    private async Task PrintAsync(FoldedAnswer fold, List<RunInfo> runs, CancellationToken cancel)
    {
        var first = runs[0];
        var names = string.Join(", ", runs.Take(MostNames).Select(r => $"{r.HostLabel} of {GroupPath.Customer(r.GroupPath)}"));
        var more = runs.Count > MostNames ? $" and {runs.Count - MostNames} more" : "";
        var variants = fold.Variants > 1 ? $", {fold.Variants} variants" : "";
        var cut = fold.Cut ? ", only the beginning compared" : "";
        await to.WriteLineAsync($"{runs.Count} {(runs.Count == 1 ? "host" : "hosts")}, {Words.Of(first)}: {TerminalText.Line(names, 2000)}{more}  [{fold.Lines} {(fold.Lines == 1 ? "line" : "lines")}, {Units.Bytes(fold.Bytes)}{variants}{cut}]").ConfigureAwait(false);
        if (fold.Reason is { } reason)
        {
            await to.WriteLineAsync($"  – {TerminalText.Line(reason)}").ConfigureAwait(false);
        }
        if (fold.Bytes == 0)
        {
            return;
        }
        var shown = 0;
        foreach (var line in await ReadLinesAsync(first, cancel).ConfigureAwait(false))
        {
            if (shown++ == mostLines)
            {
                break;
            }
            await to.WriteLineAsync($"  {TerminalText.Neutralise(line)}").ConfigureAwait(false);
        }
        if (fold.Lines > mostLines)
        {
            await to.WriteLineAsync($"  … {fold.Lines - mostLines} more: umbrek job output {Words.ShortId(first.JobId)} --host {ShellWords.Quote(first.HostLabel)}").ConfigureAwait(false);
        }
    }

    private async Task<List<string>> ReadLinesAsync(RunInfo run, CancellationToken cancel)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}runs/{run.Id}/output");
        using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
        await using var body = await response.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false);
        var lines = new List<string>();
        var cutter = new LineCutter();
        var buffer = new byte[16 * 1024];
        var read = 0;
        bool Take(long number, string line)
        {
            lines.Add(line);
            return lines.Count < mostLines;
        }
        while (read < MostBytes && await body.ReadAsync(buffer, cancel).ConfigureAwait(false) is > 0 and var got)
        {
            read += got;
            if (!cutter.Add(buffer.AsSpan(0, got), Take))
            {
                return lines;
            }
        }
        _ = cutter.End(Take);
        return lines;
    }
}
