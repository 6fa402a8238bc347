using System.Text;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Jobs;

/// <summary>What the hosts of a job answered: folded, compared, searched. All of it takes as much as running the command there.</summary>
public sealed class AnswerReader(IDatabase database, JobReader jobs, OutputTerm term, Gate gate)
{
    /// <summary>Of longer answers only the beginning is read, in bytes.</summary>
    private const int MostBytes = 4 << 20;
    private const int PieceBytes = 1 << 20;

    /// <summary>So many runs are read by one query.</summary>
    private const int Together = 200;

    private const int LongestSought = 200;
    private const int MostFound = 1000;
    private const int UsuallyFound = 200;

    /// <summary>Folds the answers of the runs that have ended.</summary>
    public async Task<JobAnswers> FoldAsync(Guid jobId, string? passOver, Asker by, CancellationToken cancel)
    {
        var mask = ReadMask(passOver);
        var (runs, hidden) = await ReadableAsync(jobId, by, cancel).ConfigureAwait(false);
        var gone = runs.Count(r => r.OutputGone);
        var ended = runs.Where(r => r.State.IsFinal() && !r.OutputGone).ToList();
        var marks = await MarkAsync(ended, mask, cancel).ConfigureAwait(false);
        var answers = ended.Select(r => new Answer(r.Id, r.HostLabel, r.State, r.ExitStatus, r.Reason is null ? null : Counts(r.Reason, r, mask), marks[r.Id]));
        var byId = ended.ToDictionary(r => r.Id);
        var folds = AnswerFold.Fold(answers).Select(f => new FoldedAnswer(
            f.First.State, f.First.ExitStatus, byId[f.First.RunId].Reason, f.Variants, f.First.Mark.Lines, BytesOf(byId[f.First.RunId]),
            [.. f.Answers.Select(a => a.RunId)], f.Answers.Any(a => BytesOf(byId[a.RunId]) > MostBytes)));
        return new JobAnswers(mask.Write(), [.. folds], runs.Count - ended.Count - gone, hidden, gone);
    }

    /// <summary>Compares two answers, which may be of different jobs.</summary>
    public async Task<AnswerComparison> CompareAsync(Guid firstId, Guid secondId, string? passOver, Asker by, CancellationToken cancel)
    {
        var mask = ReadMask(passOver);
        var first = await jobs.GetRunAsync(firstId, by.Reach, cancel).ConfigureAwait(false);
        var second = await jobs.GetRunAsync(secondId, by.Reach, cancel).ConfigureAwait(false);
        gate.Host(by, first.HostId, await jobs.NeedsAsync(first.JobId, cancel).ConfigureAwait(false));
        gate.Host(by, second.HostId, await jobs.NeedsAsync(second.JobId, cancel).ConfigureAwait(false));
        term.Check(first);
        term.Check(second);
        var cut = false;
        var streams = new List<StreamComparison>();
        foreach (var stream in new[] { RunEventKind.Stdout, RunEventKind.Stderr })
        {
            var (a, aCut) = await BeginningAsync(first.Id, stream, cancel).ConfigureAwait(false);
            var (b, bCut) = await BeginningAsync(second.Id, stream, cancel).ConfigureAwait(false);
            cut |= aCut || bCut;
            if (a.Length + b.Length > 0)
            {
                streams.Add(new StreamComparison(stream, AnswerDifference.Compare(a, NamesOf(first), b, NamesOf(second), mask)));
            }
        }
        return new AnswerComparison(first, second, mask.Write(), streams, cut);
    }

    /// <summary>Looks for a text in everything that the runs of a job have put out, letters of either case.</summary>
    public async Task<FoundLines> SearchAsync(Guid jobId, string? text, int? limit, Asker by, CancellationToken cancel)
    {
        if (string.IsNullOrEmpty(text) || text.Length > LongestSought || text.AsSpan().ContainsAny('\n', '\r'))
        {
            throw ProblemException.Invalid($"Write what to look for: one line of 1 to {LongestSought} characters, as ?text=…");
        }
        var most = limit is null ? UsuallyFound : limit is > 0 and <= MostFound ? limit.Value : throw ProblemException.Invalid($"From 1 to {MostFound} lines are shown, not {limit}.");
        var (runs, _) = await ReadableAsync(jobId, by, cancel).ConfigureAwait(false);
        var found = new List<FoundLine>();
        var hosts = 0;
        var gone = runs.Count(r => r.OutputGone);
        foreach (var run in runs.Where(r => BytesOf(r) > 0 && !r.OutputGone))
        {
            var before = found.Count;
            var more = await SearchAsync(run, text, most, found, cancel).ConfigureAwait(false);
            hosts += found.Count > before ? 1 : 0;
            if (more)
            {
                return new FoundLines(found, hosts, true, gone);
            }
        }
        return new FoundLines(found, hosts, false, gone);
    }

    /// <summary>The runs of a job whose output one may read, by their hosts' names, and how many more there are.</summary>
    public async Task<(List<RunInfo> Runs, int Hidden)> ReadableAsync(Guid jobId, Asker by, CancellationToken cancel)
    {
        var detail = await jobs.GetAsync(jobId, by.Reach, cancel).ConfigureAwait(false);
        var readable = detail.Runs.Where(r => by.Reach.May(detail.Job.Command.Needs, r.GroupPath)).ToList();
        if (readable.Count == 0)
        {
            gate.Host(by, detail.Runs[0].HostId, detail.Job.Command.Needs);
        }
        return (readable, detail.Runs.Count - readable.Count);
    }

    /// <returns>True when there is more than may be shown.</returns>
    private async Task<bool> SearchAsync(RunInfo run, string text, int most, List<FoundLine> found, CancellationToken cancel)
    {
        var lines = new Dictionary<RunEventKind, LineCutter> { [RunEventKind.Stdout] = new(), [RunEventKind.Stderr] = new() };
        bool Take(RunEventKind stream, long number, string line)
        {
            var at = line.IndexOf(text, StringComparison.OrdinalIgnoreCase);
            if (at < 0)
            {
                return true;
            }
            if (found.Count == most)
            {
                return false;
            }
            found.Add(new FoundLine(run.Id, run.HostLabel, stream, number, Around(line, at, text.Length)));
            return true;
        }
        var after = -1L;
        while (await jobs.ReadOutputAsync(run.Id, after, PieceBytes, cancel).ConfigureAwait(false) is { Count: > 0 } pieces)
        {
            after = pieces[^1].Sequence;
            foreach (var piece in pieces)
            {
                if (!lines[piece.Stream].Add(piece.Data, (number, line) => Take(piece.Stream, number, line)))
                {
                    return true;
                }
            }
        }
        return !lines.All(l => l.Value.End((number, line) => Take(l.Key, number, line)));
    }

    private static string Around(string line, int at, int length)
    {
        const int Shown = 400;
        if (line.Length <= Shown)
        {
            return line;
        }
        var from = Math.Clamp(at + length / 2 - Shown / 2, 0, line.Length - Shown);
        return string.Concat(from > 0 ? "…" : "", line.AsSpan(from, Shown), from + Shown < line.Length ? "…" : "");
    }

    private async Task<Dictionary<Guid, AnswerMark>> MarkAsync(List<RunInfo> runs, AnswerMask mask, CancellationToken cancel)
    {
        using var digest = new AnswerDigest(mask);
        var marks = new Dictionary<Guid, AnswerMark>(runs.Count);
        digest.Begin([]);
        var nothing = digest.End();
        foreach (var run in runs)
        {
            marks[run.Id] = nothing;
        }
        foreach (var run in runs.Where(r => BytesOf(r) > MostBytes))
        {
            digest.Begin(NamesOf(run));
            var (after, read) = (-1L, 0);
            while (read < MostBytes && await jobs.ReadOutputAsync(run.Id, after, PieceBytes, cancel).ConfigureAwait(false) is { Count: > 0 } pieces)
            {
                after = pieces[^1].Sequence;
                foreach (var piece in pieces)
                {
                    // At the same byte on every host, however the output came in pieces.
                    var counts = Math.Min(piece.Data.Length, MostBytes - read);
                    digest.Add(piece.Stream, piece.Data.AsSpan(0, counts));
                    read += counts;
                }
            }
            marks[run.Id] = digest.End();
        }
        await using var db = database.Open();
        foreach (var part in runs.Where(r => BytesOf(r) is > 0 and <= MostBytes).Chunk(Together))
        {
            var byId = part.ToDictionary(r => r.Id);
            var ids = byId.Keys.ToList();
            var current = Guid.Empty;
            await foreach (var row in db.RunOutput.AsNoTracking().Where(o => ids.Contains(o.RunId)).OrderBy(o => o.RunId).ThenBy(o => o.Sequence).AsAsyncEnumerable().WithCancellation(cancel).ConfigureAwait(false))
            {
                if (row.RunId != current)
                {
                    if (current != Guid.Empty)
                    {
                        marks[current] = digest.End();
                    }
                    current = row.RunId;
                    digest.Begin(NamesOf(byId[current]));
                }
                digest.Add(row.Stream, OutputPacking.Unpack(row));
            }
            if (current != Guid.Empty)
            {
                marks[current] = digest.End();
            }
        }
        return marks;
    }

    private async Task<(byte[] Text, bool Cut)> BeginningAsync(Guid runId, RunEventKind stream, CancellationToken cancel)
    {
        using var text = new MemoryStream();
        var after = -1L;
        while (await jobs.ReadOutputAsync(runId, after, PieceBytes, cancel).ConfigureAwait(false) is { Count: > 0 } pieces)
        {
            after = pieces[^1].Sequence;
            foreach (var piece in pieces.Where(p => p.Stream == stream))
            {
                var room = AnswerDifference.MostBytes - (int)text.Length;
                text.Write(piece.Data, 0, Math.Min(room, piece.Data.Length));
                if (piece.Data.Length > room)
                {
                    return (text.ToArray(), true);
                }
            }
        }
        return (text.ToArray(), false);
    }

    private static AnswerMask ReadMask(string? words) =>
        words is null ? AnswerMasks.Usual : AnswerMasks.Parse(words, out var problem) ?? throw ProblemException.Invalid(problem);

    private static string Counts(string reason, RunInfo run, AnswerMask mask)
    {
        var bytes = Encoding.UTF8.GetBytes(reason);
        var masked = new byte[LineMasker.Most(bytes.Length)];
        return Encoding.Latin1.GetString(masked, 0, new LineMasker(mask, NamesOf(run)).Mask(bytes, masked));
    }

    private static string[] NamesOf(RunInfo run) => [run.SystemName, run.HostLabel];

    private static long BytesOf(RunInfo run) => run.StdoutBytes + run.StderrBytes;
}
