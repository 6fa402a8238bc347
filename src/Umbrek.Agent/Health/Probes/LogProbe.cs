using System.Collections.Concurrent;
using System.Text;
using System.Text.RegularExpressions;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Text;

namespace Umbrek.Agent.Health.Probes;

/// <summary>
/// Reads what a log got since the last look and holds each line against a pattern, for no longer than a moment each. A log that was begun anew (rotated, emptied)
/// is read from its beginning; what was there before the first look does not count.
/// </summary>
public sealed class LogProbe(TimeProvider time) : IProbe
{
    /// <summary>Most that is read at a look; of more than that only the newest.</summary>
    private const int MostBytes = 4 * 1024 * 1024;
    private const int MostTried = 256 * 1024;
    private const int MostLine = 8 * 1024;
    private const int MostMatches = 10_000;

    private readonly ConcurrentDictionary<string, Followed> followed = new(StringComparer.Ordinal);

    private sealed class Followed(string path, string pattern)
    {
        public string Path => path;
        public string Pattern => pattern;
        public Regex Regex { get; } = new(pattern, RegexOptions.CultureInvariant, Probe.PatternWithin);
        public long At { get; set; } = -1;
        public bool IsTrial { get; init; }

        /// <summary>The first bytes of the file: another file under the same name has others.</summary>
        public byte[] Head { get; set; } = [];
        public Queue<DateTimeOffset> Matches { get; } = new();
        public string Last { get; set; } = "";
    }

    public ProbeKind Kind => ProbeKind.Log;

    public Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel)
    {
        var log = check is null ? new Followed(probe.Target, probe.Text!) { IsTrial = true } : followed.AddOrUpdate(check, _ => new Followed(probe.Target, probe.Text!), (_, known) => known.Path == probe.Target && known.Pattern == probe.Text ? known : new Followed(probe.Target, probe.Text!));
        var ranAway = 0;
        try
        {
            ranAway = Read(log, cancel);
        }
        catch (Exception e) when (e is FileNotFoundException or DirectoryNotFoundException)
        {
            // A log that is not there has no such lines; when it comes, it is read from its beginning.
            (log.At, log.Head) = (0, []);
        }
        catch (UnauthorizedAccessException)
        {
            return Task.FromResult(ProbeReading.Unknown($"The agent may not read {probe.Target}."));
        }
        var now = time.GetUtcNow();
        while (log.Matches.TryPeek(out var oldest) && (now - oldest >= Probe.MatchCounts || oldest > now))
        {
            log.Matches.Dequeue();
        }
        var lines = new ProbeFigure("lines", log.Matches.Count, Dimension.Count);
        return Task.FromResult(
            log.IsTrial ? Trial(log, lines, probe.Target)
            : log.Matches.Count > 0 ? ProbeReading.Failed($"{log.Matches.Count} such {(log.Matches.Count == 1 ? "line" : "lines")} in {probe.Target} within {Units.Span(Probe.MatchCounts)}, the last: {log.Last}", lines)
            : ranAway > 0 ? ProbeReading.Unknown($"The pattern ran away on {ranAway} lines of {probe.Target} and was stopped there: write it so that it can't match one text in many ways.")
            : ProbeReading.Well($"No such line in {probe.Target} within {Units.Span(Probe.MatchCounts)}.", lines));
    }

    private static ProbeReading Trial(Followed log, ProbeFigure lines, string target) => log.Matches.Count > 0
        ? ProbeReading.Failed($"{log.Matches.Count} such {(log.Matches.Count == 1 ? "line" : "lines")} at the end of {target}, the last: {log.Last}", lines)
        : ProbeReading.Well($"No such line at the end of {target}.", lines);

    /// <returns>How many lines the pattern ran away on.</returns>
    private int Read(Followed log, CancellationToken cancel)
    {
        using var file = new FileStream(log.Path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete, 1);
        var head = new byte[64];
        head = head[..file.ReadAtLeast(head, head.Length, throwOnEndOfStream: false)];
        if (log.At < 0 && !log.IsTrial)
        {
            (log.At, log.Head) = (file.Length, head);
            return 0;
        }
        // A trial says what its end would have come to.
        log.At = log.At < 0 ? Math.Max(0, file.Length - MostTried) : log.At;
        if (file.Length < log.At || !head.AsSpan().StartsWith(log.Head.AsSpan(0, Math.Min(log.Head.Length, head.Length))))
        {
            log.At = 0;
        }
        log.Head = head;
        if (file.Length - log.At > MostBytes)
        {
            log.At = file.Length - MostBytes;
        }
        file.Position = log.At;
        var bytes = new byte[file.Length - log.At];
        var length = file.ReadAtLeast(bytes, bytes.Length, throwOnEndOfStream: false);
        // A line that is still being written waits for its end, unless it has none.
        var end = bytes.AsSpan(0, length).LastIndexOf((byte)'\n') + 1;
        end = end == 0 && length >= MostLine ? length : end;
        log.At += end;
        var ranAway = 0;
        foreach (var range in bytes.AsSpan(0, end).Split((byte)'\n'))
        {
            var raw = bytes.AsSpan(range);
            if (raw.Length == 0)
            {
                continue;
            }
            // Each line that runs away costs its time: a look that has no more stops here.
            cancel.ThrowIfCancellationRequested();
            var line = Encoding.UTF8.GetString(raw[..Math.Min(raw.Length, MostLine)]).TrimEnd('\r');
            try
            {
                if (log.Regex.IsMatch(line) && log.Matches.Count < MostMatches)
                {
                    log.Matches.Enqueue(time.GetUtcNow());
                    log.Last = line.Length > 200 ? line[..200] + "…" : line;
                }
            }
            catch (RegexMatchTimeoutException)
            {
                ranAway++;
            }
        }
        return ranAway;
    }
}
