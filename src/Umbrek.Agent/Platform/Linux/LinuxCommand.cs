using System.Globalization;
using System.Runtime.InteropServices;
using System.Text;
using System.Text.Json;
using Microsoft.Win32.SafeHandles;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;
using Umbrek.Wire;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Runs commands in a session and process group of their own.</summary>
/// <param name="runDirectory">Of the run; what the agent does itself may need its order.</param>
public sealed class LinuxCommandRunner(string? runDirectory = null) : ICommandRunner
{
    private const int NoSuchFile = 2;
    private const int PermissionDenied = 13;
    private const int ArgumentsTooLong = 7;

    /// <summary>No error number: setpriority(2) refused.</summary>
    private const int NoPriority = -1;

    public IRunningCommand Start(CommandSpec command)
    {
        if (command.Action is { } action)
        {
            return Start(OfAgent(action));
        }
        var user = SystemUser.Find(command.User);
        var exact = Arguments(command);
        var (program, arguments) = user.Run(exact[0], exact);
        var order = new SpawnOrder(program, arguments) { Directory = Directory(command, user), Environment = EnvironmentOf(command, user) };
        // What the command leaves behind comes to the keeper, where a cancel can find it.
        _ = Native.Prctl(Native.PrSetChildSubreaper, 1, 0, 0, 0);
        using var script = command.Script is { } text ? InMemory("script", Encoding.UTF8.GetBytes(text)) : null;
        using var input = command.Input is { } bytes ? InMemory("input", bytes) : null;
        var (outRead, outWrite) = Pipe();
        var (errRead, errWrite) = Pipe();
        order = order with { Stdin = Descriptor(input), Third = Descriptor(script), Stdout = outWrite, Stderr = errWrite };
        var (error, pid) = command.Niceness is { } niceness ? StartNicely(order, niceness) : (Spawn.Start(order, out var started), started);
        _ = Native.Close(outWrite);
        _ = Native.Close(errWrite);
        if (error != 0)
        {
            _ = Native.Close(outRead);
            _ = Native.Close(errRead);
            throw error == NoPriority
                ? new CommandNotStartedException($"The agent runs as {SystemUser.Own().Name} on this host and may not run anything before the rest (niceness {command.Niceness}); nothing was run.", 126)
                : NotStarted(exact[0], error);
        }
        return new LinuxCommand(pid, user.Name, new SafeFileHandle(outRead, true), new SafeFileHandle(errRead, true));
    }

    /// <summary>An act of the agent's own is this same program, which reads on standard input what it is to do.</summary>
    private CommandSpec OfAgent(HostAction action) => new()
    {
        Arguments = [Environment.ProcessPath ?? throw new CommandNotStartedException("The agent does not know its own file; nothing was done.", 126), "act", .. action.Deliver is null ? (string[])[] : [runDirectory!]],
        Input = JsonSerializer.SerializeToUtf8Bytes(action, LinkJson.Default.HostAction),
    };

    /// <summary>Program and arguments. A script is read as the file that descriptor 3 is (proc(5)): nothing of it is on a disk, and every user may read it.</summary>
    private static IReadOnlyList<string> Arguments(CommandSpec command)
    {
        if (command.Script is not { } script)
        {
            return command.Arguments ?? [command.Shell ?? "/bin/sh", "-c", command.Line!];
        }
        // As execve(2) reads a first line: a program, and one argument at most.
        var first = script.Split('\n', 2)[0].TrimEnd('\r', ' ');
        string[] reader = command.Shell is { } shell ? [shell]
            : first.StartsWith("#!", StringComparison.Ordinal) && first.Length > 2 ? first[2..].Trim().Split((char[])[' ', '\t'], 2, StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
            : ["/bin/sh"];
        return [.. reader, "/proc/self/fd/3", .. command.Arguments ?? []];
    }

    private static string Directory(CommandSpec command, SystemUser user)
    {
        var directory = command.WorkingDirectory ?? (command.User is null ? Environment.GetFolderPath(Environment.SpecialFolder.UserProfile) : user.Home);
        return System.IO.Directory.Exists(directory) ? directory
            : command.WorkingDirectory is null ? "/"
            : throw new CommandNotStartedException($"There is no directory '{directory}' on this host; nothing was run. Give another working directory.", 126);
    }

    /// <summary>The agent's own, or that of another user's login, with what the command sets.</summary>
    private static List<string> EnvironmentOf(CommandSpec command, SystemUser user)
    {
        var lines = command.User is null ? Spawn.EnvironmentLines() : user.LoginEnvironment(null);
        foreach (var (name, value) in command.Environment ?? new Dictionary<string, string>())
        {
            lines.RemoveAll(l => l.StartsWith(name + "=", StringComparison.Ordinal));
            lines.Add($"{name}={value}");
        }
        return lines;
    }

    /// <summary>A child has the niceness of the thread that starts it; this one starts nothing else.</summary>
    private static (int Error, int Pid) StartNicely(SpawnOrder order, int niceness)
    {
        var result = (Error: 0, Pid: 0);
        var thread = new Thread(() =>
        {
            result = Native.SetPriority(0, 0, niceness) != 0 ? (NoPriority, 0) : (Spawn.Start(order, out var pid), pid);
        });
        thread.Start();
        thread.Join();
        return result;
    }

    private static SafeFileHandle InMemory(string name, byte[] content)
    {
        var handle = new SafeFileHandle(Native.MemoryFile(name, Native.MemoryCloseOnExec), true);
        if (handle.IsInvalid)
        {
            throw new CommandNotStartedException($"The host has no memory to spare for the {name}: {Marshal.GetLastPInvokeErrorMessage()}.", 126);
        }
        RandomAccess.Write(handle, content, 0);
        return handle;
    }

    private static int Descriptor(SafeFileHandle? handle) => handle is null ? -1 : (int)handle.DangerousGetHandle();

    /// <summary>What an error of posix_spawn means, in a sentence.</summary>
    internal static CommandNotStartedException NotStarted(string program, int error) => error switch
    {
        NoSuchFile => new CommandNotStartedException($"There is no program '{program}' on this host; nothing was run.", 127),
        PermissionDenied => new CommandNotStartedException($"'{program}' may not be run on this host (it is not executable for the agent's user).", 126),
        ArgumentsTooLong => new CommandNotStartedException("The command is longer than this host's system accepts.", 126),
        _ => new CommandNotStartedException($"'{program}' could not be started: {Marshal.GetPInvokeErrorMessage(error)}.", 126),
    };

    internal static unsafe (int Read, int Write) Pipe()
    {
        var ends = stackalloc int[2];
        if (Native.Pipe2(ends, Native.OpenCloseOnExec) != 0)
        {
            throw new CommandNotStartedException($"The host has no pipe to spare: {Marshal.GetLastPInvokeErrorMessage()}.", 126);
        }
        return (ends[0], ends[1]);
    }
}

internal sealed class LinuxCommand : IRunningCommand
{
    public LinuxCommand(int pid, string user, SafeFileHandle stdout, SafeFileHandle stderr)
    {
        Pid = pid;
        User = user;
        Stdout = new FileStream(stdout, FileAccess.Read, bufferSize: 0);
        Stderr = new FileStream(stderr, FileAccess.Read, bufferSize: 0);
        Ended = Task.Factory.StartNew(() => ChildProcess.Wait(pid), CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);
    }

    public int Pid { get; }
    public string User { get; }
    public Stream Stdout { get; }
    public Stream Stderr { get; }
    public Task<RunEnd> Ended { get; }

    public void Terminate(bool force)
    {
        var signal = force ? Native.SigKill : Native.SigTerm;
        _ = Native.Kill(-Pid, signal);
        foreach (var pid in Descendants.Of(Environment.ProcessId))
        {
            _ = Native.Kill(pid, signal);
        }
    }

    public void Dispose()
    {
        Stdout.Dispose();
        Stderr.Dispose();
    }
}

/// <summary>How a process of our own ended.</summary>
internal static class ChildProcess
{
    public static unsafe RunEnd Wait(int pid)
    {
        int status;
        while (Native.WaitPid(pid, &status, 0) < 0)
        {
            const int interrupted = 4;
            if (Marshal.GetLastPInvokeError() != interrupted)
            {
                return new RunEnd(RunOutcome.Interrupted, null, "The system did not say how the command ended.");
            }
        }
        // The low seven bits are the signal, the next byte is the exit status (wait(2)).
        var signal = status & 0x7f;
        return signal == 0
            ? new RunEnd(RunOutcome.Exited, (status >> 8) & 0xff, null)
            : new RunEnd(RunOutcome.Signalled, 128 + signal, $"Ended by signal {SignalName(signal)}.");
    }

    private static string SignalName(int signal) => signal switch
    {
        1 => "HUP",
        2 => "INT",
        3 => "QUIT",
        4 => "ILL",
        6 => "ABRT",
        8 => "FPE",
        9 => "KILL",
        11 => "SEGV",
        13 => "PIPE",
        15 => "TERM",
        _ => signal.ToString(CultureInfo.InvariantCulture),
    };
}

/// <summary>The processes below one, as /proc shows them.</summary>
internal static class Descendants
{
    public static List<int> Of(int root)
    {
        var children = new Dictionary<int, List<int>>();
        foreach (var directory in Directory.EnumerateDirectories("/proc"))
        {
            if (!int.TryParse(Path.GetFileName(directory), out var pid))
            {
                continue;
            }
            try
            {
                // proc(5): pid (comm) state ppid …; comm may hold anything, so look behind its last parenthesis.
                var stat = File.ReadAllText(Path.Combine(directory, "stat"));
                var parent = int.Parse(stat[(stat.LastIndexOf(')') + 2)..].Split(' ')[1], CultureInfo.InvariantCulture);
                (children.TryGetValue(parent, out var list) ? list : children[parent] = []).Add(pid);
            }
            catch (IOException)
            {
                // It ended meanwhile.
            }
        }
        var found = new List<int>();
        var next = new Queue<int>([root]);
        while (next.TryDequeue(out var parent))
        {
            foreach (var child in children.GetValueOrDefault(parent, []))
            {
                found.Add(child);
                next.Enqueue(child);
            }
        }
        return found;
    }
}
