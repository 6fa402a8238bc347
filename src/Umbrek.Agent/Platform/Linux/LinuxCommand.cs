using System.Globalization;
using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Runs commands in a session and process group of their own.</summary>
public sealed class LinuxCommandRunner : ICommandRunner
{
    private const int NoSuchFile = 2;
    private const int PermissionDenied = 13;
    private const int ArgumentsTooLong = 7;

    public IRunningCommand Start(CommandSpec command)
    {
        IReadOnlyList<string> arguments = command.Arguments ?? [command.Shell ?? "/bin/sh", "-c", command.Line!];
        var directory = command.WorkingDirectory ?? Environment.GetFolderPath(Environment.SpecialFolder.UserProfile);
        if (!Directory.Exists(directory))
        {
            if (command.WorkingDirectory is not null)
            {
                throw new CommandNotStartedException($"There is no directory '{directory}' on this host; nothing was run. Give another working directory.", 126);
            }
            directory = "/";
        }
        // What the command leaves behind comes to the keeper, where a cancel can find it.
        _ = Native.Prctl(Native.PrSetChildSubreaper, 1, 0, 0, 0);
        var (outRead, outWrite) = Pipe();
        var (errRead, errWrite) = Pipe();
        var error = Spawn.Start(arguments[0], arguments, directory, outWrite, errWrite, out var pid);
        _ = Native.Close(outWrite);
        _ = Native.Close(errWrite);
        if (error != 0)
        {
            _ = Native.Close(outRead);
            _ = Native.Close(errRead);
            throw error switch
            {
                NoSuchFile => new CommandNotStartedException($"There is no program '{arguments[0]}' on this host; nothing was run.", 127),
                PermissionDenied => new CommandNotStartedException($"'{arguments[0]}' may not be run on this host (it is not executable for the agent's user).", 126),
                ArgumentsTooLong => new CommandNotStartedException("The command is longer than this host's system accepts.", 126),
                _ => new CommandNotStartedException($"'{arguments[0]}' could not be started: {Marshal.GetPInvokeErrorMessage(error)}.", 126),
            };
        }
        return new LinuxCommand(pid, new SafeFileHandle(outRead, true), new SafeFileHandle(errRead, true));
    }

    private static unsafe (int Read, int Write) Pipe()
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
    public LinuxCommand(int pid, SafeFileHandle stdout, SafeFileHandle stderr)
    {
        Pid = pid;
        Stdout = new FileStream(stdout, FileAccess.Read, bufferSize: 0);
        Stderr = new FileStream(stderr, FileAccess.Read, bufferSize: 0);
        Ended = Task.Factory.StartNew(() => Wait(pid), CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);
    }

    public int Pid { get; }
    public string User { get; } = Environment.UserName;
    public Stream Stdout { get; }
    public Stream Stderr { get; }
    public Task<RunEnd> Ended { get; }

    public void Terminate(bool force)
    {
        var signal = force ? Native.SigKill : Native.SigTerm;
        _ = Native.Kill(-Pid, signal);
        foreach (var pid in ProcessTree.Below(Environment.ProcessId))
        {
            _ = Native.Kill(pid, signal);
        }
    }

    public void Dispose()
    {
        Stdout.Dispose();
        Stderr.Dispose();
    }

    private static unsafe RunEnd Wait(int pid)
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
internal static class ProcessTree
{
    public static List<int> Below(int root)
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
