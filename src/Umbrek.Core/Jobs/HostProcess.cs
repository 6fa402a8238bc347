namespace Umbrek.Core.Jobs;

/// <summary>A process of a host at one time.</summary>
/// <param name="Start">When it began, in the system's clock ticks since the boot: with the id it names one process of one boot.</param>
/// <param name="User">Who it runs as; the number where the system knows no name.</param>
/// <param name="Name">The program's name as the system has it, at most 15 bytes on Linux.</param>
/// <param name="CommandLine">Program and arguments; null for what has none, such as threads of the kernel.</param>
/// <param name="State">One word: running, sleeping, waiting, stopped, ended, idle.</param>
/// <param name="MemoryBytes">Resident.</param>
/// <param name="ProcessorSeconds">Used since it began.</param>
/// <param name="ProcessorPercent">Of one processor, since the reading before; null at the first.</param>
public sealed record HostProcess(
    int Pid,
    int Parent,
    long Start,
    DateTimeOffset StartedAt,
    string User,
    string Name,
    string? CommandLine,
    string State,
    int Niceness,
    int Threads,
    long MemoryBytes,
    double ProcessorSeconds,
    double? ProcessorPercent = null)
{
    /// <param name="program">A program's name without the directory.</param>
    public bool IsProgram(string program) =>
        Name == program || ProgramOf(CommandLine) == program;

    /// <summary>Whether every word is in what is shown of it, letters of either case.</summary>
    public bool Has(IReadOnlyList<string> words) =>
        words.All(w => Name.Contains(w, StringComparison.OrdinalIgnoreCase) || User.Contains(w, StringComparison.OrdinalIgnoreCase) || (CommandLine?.Contains(w, StringComparison.OrdinalIgnoreCase) ?? false) || Pid.ToString(System.Globalization.CultureInfo.InvariantCulture) == w);

    private static string? ProgramOf(string? commandLine)
    {
        var first = commandLine?.Split(' ', 2)[0];
        return first?[(first.LastIndexOf('/') + 1)..];
    }
}

/// <summary>All processes of a host at one time.</summary>
/// <param name="Boot">An id of this one boot.</param>
public sealed record ProcessReading(DateTimeOffset At, string Boot, int Processors, long MemoryBytes, IReadOnlyList<HostProcess> Processes);

/// <summary>Names one process for good: its number alone may be another's a moment later.</summary>
public sealed record ProcessMark(int Pid, long Start, string Name);

/// <summary>What changed since the message before.</summary>
/// <param name="Reset">Forget what was there before: all processes follow.</param>
/// <param name="Changed">Processes that are new, or of which something else is shown.</param>
/// <param name="Gone">Ids of those that have ended.</param>
public sealed record ProcessChanges(DateTimeOffset At, string Boot, int Processors, long MemoryBytes, bool Reset, IReadOnlyList<HostProcess> Changed, IReadOnlyList<int> Gone)
{
    /// <summary>The way from one reading to the next.</summary>
    /// <param name="before">Null for the first.</param>
    public static ProcessChanges Between(ProcessReading? before, ProcessReading now)
    {
        var known = before is not null && before.Boot == now.Boot ? before.Processes.ToDictionary(p => p.Pid) : null;
        if (known is null)
        {
            return new ProcessChanges(now.At, now.Boot, now.Processors, now.MemoryBytes, true, now.Processes, []);
        }
        var changed = now.Processes.Where(p => !(known.Remove(p.Pid, out var earlier) && earlier == p)).ToList();
        return new ProcessChanges(now.At, now.Boot, now.Processors, now.MemoryBytes, false, changed, [.. known.Keys]);
    }

    /// <summary>The reading behind the changes.</summary>
    public ProcessReading Apply(ProcessReading? before)
    {
        var all = Reset || before is null ? [] : before.Processes.ToDictionary(p => p.Pid);
        foreach (var gone in Gone)
        {
            all.Remove(gone);
        }
        foreach (var process in Changed)
        {
            all[process.Pid] = process;
        }
        return new ProcessReading(At, Boot, Processors, MemoryBytes, [.. all.Values.OrderBy(p => p.Pid)]);
    }
}

/// <summary>Processes in the order of their parents.</summary>
public static class ProcessTree
{
    /// <summary>Each with how deep it stands; whose parent is not there stands at the top.</summary>
    /// <param name="siblings">The order among those of one parent.</param>
    public static List<(HostProcess Process, int Depth)> Order(IReadOnlyCollection<HostProcess> processes, IComparer<HostProcess> siblings)
    {
        var ids = processes.Select(p => p.Pid).ToHashSet();
        var below = processes.Where(p => p.Parent != p.Pid && ids.Contains(p.Parent)).ToLookup(p => p.Parent);
        var ordered = new List<(HostProcess, int)>(processes.Count);
        var next = new Stack<(HostProcess Process, int Depth)>(processes.Where(p => p.Parent == p.Pid || !ids.Contains(p.Parent)).OrderDescending(siblings).Select(p => (p, 0)));
        while (next.TryPop(out var one))
        {
            ordered.Add(one);
            foreach (var child in below[one.Process.Pid].OrderDescending(siblings))
            {
                next.Push((child, one.Depth + 1));
            }
        }
        return ordered;
    }
}
