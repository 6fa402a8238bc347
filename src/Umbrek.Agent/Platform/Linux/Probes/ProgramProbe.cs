using System.Text;
using Umbrek.Agent.Health;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;

namespace Umbrek.Agent.Platform.Linux.Probes;

/// <summary>A program has to run: named by its file, by what it was started as, or, for a script, by the script (proc(5), /proc/PID/cmdline).</summary>
public sealed class ProgramProbe : IProbe
{
    public ProbeKind Kind => ProbeKind.Program;

    public Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel)
    {
        var count = 0;
        foreach (var directory in Directory.EnumerateDirectories("/proc"))
        {
            cancel.ThrowIfCancellationRequested();
            if (char.IsAsciiDigit(Path.GetFileName(directory)[0]) && Is(directory, probe))
            {
                count++;
            }
        }
        var named = probe.Text is null ? probe.Target : $"{probe.Target} with '{probe.Text}'";
        var figure = new ProbeFigure("count", count, Dimension.Count);
        return Task.FromResult(count == 0 ? ProbeReading.Failed($"No program {named} runs.", figure) : ProbeReading.Well($"{count} of {named} {(count == 1 ? "runs" : "run")}.", figure));
    }

    private static bool Is(string directory, Probe probe)
    {
        try
        {
            // One that has ended and was not waited for has no command line either.
            var words = Encoding.UTF8.GetString(File.ReadAllBytes(Path.Combine(directory, "cmdline"))).Split('\0', StringSplitOptions.RemoveEmptyEntries);
            return words.Length > 0
                && (probe.Text is null || string.Join(' ', words).Contains(probe.Text, StringComparison.Ordinal))
                && (words.Take(2).Any(w => IsNamed(w, probe.Target)) || (new FileInfo(Path.Combine(directory, "exe")).LinkTarget is { } file && IsNamed(file, probe.Target)));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            // It ended meanwhile, or is none of ours.
            return false;
        }
    }

    private static bool IsNamed(string word, string target) => target.Contains('/') ? word == target : Path.GetFileName(word) == target;
}
