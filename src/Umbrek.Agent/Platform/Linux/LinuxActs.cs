using System.Globalization;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>What the agent does itself on Linux: it says what came of it, a line for each process, and ends with 0 when all of it was done.</summary>
internal sealed class LinuxActs(TextWriter say, TimeProvider time)
{
    private const int Done = 0;
    private const int NotAll = 1;
    private const int Nothing = 2;

    public int Do(HostAction action) => action switch
    {
        { End: { } end } => End(end),
        { Rank: { } rank } => Rank(rank),
        { Find: { } find } => Find(find),
        { Service: { } service } => new LinuxServiceActs(say).Do(service),
        { Power: { } power } => new PowerActs(new LinuxPower(), say).Do(power),
        { Wake: { } wake } => new WakeActs(LinuxCards.Read(), LinuxCards.Send, say).Do(wake),
        _ => Say("This agent does not know what it is to do. Update it.", Nothing),
    };

    private int End(EndProcesses wish)
    {
        var (chosen, status) = Choose(wish.Which, "ended");
        var open = new List<(HostProcess Process, int Descriptor)>();
        foreach (var process in chosen)
        {
            if (WhyNot(process) is { } why)
            {
                status = Say(why, NotAll);
                continue;
            }
            // A descriptor names one process for good; whether it is the one that is meant is asked behind that (pidfd_open(2)).
            var descriptor = Native.OpenProcess(process.Pid);
            if (descriptor < 0 || LinuxProcesses.StartOf(process.Pid) != process.Start)
            {
                Say($"{Name(process)} had ended already.", Done);
            }
            else if (Native.Signal(descriptor, wish.Force ? Native.SigKill : Native.SigTerm) is { } problem)
            {
                status = Say($"{Name(process)} can't be ended: {problem}.", NotAll);
            }
            else
            {
                open.Add((process, descriptor));
                continue;
            }
            if (descriptor >= 0)
            {
                _ = Native.Close(descriptor);
            }
        }
        var limit = Environment.TickCount64 + (long)(wish.GraceSeconds * 1000);
        foreach (var (process, descriptor) in open)
        {
            var ended = Native.EndsWithin(descriptor, (int)Math.Max(0, limit - Environment.TickCount64));
            _ = Native.Close(descriptor);
            status = ended ? Math.Max(status, Say($"{Name(process)} has {(wish.Force ? "been killed" : "ended")}.", Done))
                : Say($"{Name(process)} goes on after {wish.GraceSeconds.ToString("0.#", CultureInfo.InvariantCulture)} s{(wish.Force ? ": the system can't end it now" : "; it can be killed")}.", NotAll);
        }
        return status;
    }

    private int Rank(RankProcesses wish)
    {
        var (chosen, status) = Choose(wish.Which, "changed");
        foreach (var process in chosen)
        {
            // Niceness is a thread's on Linux (sched(7)); a process has it when all of its threads do.
            string? problem = null;
            foreach (var thread in Threads(process.Pid))
            {
                problem ??= Native.SetPriority(0, (uint)thread, wish.Niceness) == 0 ? null : Native.LastError();
            }
            status = problem is null
                ? Math.Max(status, Say($"{Name(process)} has niceness {wish.Niceness} (before {process.Niceness}).", Done))
                : Say($"{Name(process)} keeps niceness {process.Niceness}: {problem}.", NotAll);
        }
        return status;
    }

    /// <summary>Equal ones are one line, without what differs from host to host: answers of many hosts can be folded.</summary>
    private int Find(FindProcesses wish)
    {
        var words = wish.Text.Split(' ', StringSplitOptions.RemoveEmptyEntries);
        var found = new LinuxProcesses().Read(time.GetUtcNow()).Processes.Where(p => p.Pid != Environment.ProcessId && p.State != "ended" && p.Has(words)).ToList();
        if (found.Count == 0)
        {
            return Say($"Nothing runs '{wish.Text}'.", Done);
        }
        foreach (var alike in found.GroupBy(p => $"{p.User}: {p.CommandLine ?? $"[{p.Name}]"}").OrderBy(g => g.Key, StringComparer.Ordinal))
        {
            Say($"{(alike.Count() == 1 ? "" : $"{alike.Count()} × ")}{alike.Key}", Done);
        }
        return Done;
    }

    private (IReadOnlyList<HostProcess> Chosen, int Status) Choose(ProcessChoice which, string verb)
    {
        var reading = new LinuxProcesses().Read(time.GetUtcNow());
        if (which.Marks is { } marks)
        {
            if (which.Boot != reading.Boot)
            {
                return ([], Say($"The host has restarted since its processes were read; nothing was {verb}.", Nothing));
            }
            var chosen = which.Of(reading);
            foreach (var gone in marks.Where(m => !chosen.Any(p => p.Pid == m.Pid)))
            {
                Say($"{gone.Name} ({gone.Pid}) had ended already.", Done);
            }
            return (chosen, Done);
        }
        var all = which.Of(reading).Where(p => p.State != "ended").ToList();
        return (all, all.Count > 0 ? Done : Say($"Nothing runs '{which.Program}'{(which.User is null ? "" : $" as {which.User}")}; nothing was {verb}.", Done));
    }

    /// <returns>Null where it can be tried.</returns>
    private static string? WhyNot(HostProcess process)
    {
        const int first = 1;
        const int kernel = 2;
        return process.Pid == first ? $"{Name(process)} is the system itself; restart the host instead."
            : process.Pid == kernel || (process.Parent == kernel && process.CommandLine is null) ? $"{Name(process)} is a part of the system's kernel and can't be ended."
            : IsAgent(process.Pid) ? $"{Name(process)} is this host's agent, without which nobody reaches it; uninstall it instead."
            : null;
    }

    private static bool IsAgent(int pid)
    {
        try
        {
            // One that was replaced by an update while it ran is one as well (proc(5)).
            const string replaced = " (deleted)";
            return Environment.ProcessPath is { } own && File.ResolveLinkTarget($"/proc/{pid}/exe", false)?.FullName is { } file && (file == own || file == own + replaced);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    }

    private static List<int> Threads(int pid)
    {
        try
        {
            return [.. Directory.EnumerateDirectories($"/proc/{pid}/task").Select(d => int.Parse(Path.GetFileName(d), CultureInfo.InvariantCulture))];
        }
        catch (IOException)
        {
            return [];
        }
    }

    private static string Name(HostProcess process) => $"{process.Name} ({process.Pid})";

    private int Say(string line, int status)
    {
        say.WriteLine(line);
        return status;
    }
}
