using System.Globalization;
using Microsoft.Win32.SafeHandles;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Shell;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Runs a user's shell, or a command, in a pseudo-terminal or with pipes, as the leader of a session of its own.</summary>
public sealed class LinuxShellRunner : IShellRunner
{
    public IShellProcess Start(ShellWish wish, string technician)
    {
        var user = SystemUser.Find(wish.User);
        var (program, arguments) = Command(wish, user);
        var directory = wish.Command?.WorkingDirectory ?? user.Home;
        if (!Directory.Exists(directory))
        {
            directory = wish.Command?.WorkingDirectory is null ? "/" : throw new CommandNotStartedException($"There is no directory '{directory}' on this host; nothing was run. Give another working directory.", 126);
        }
        var order = new SpawnOrder(program, arguments)
        {
            Directory = directory,
            Environment = [.. user.LoginEnvironment(wish.Terminal is null ? null : wish.TerminalType ?? ShellWish.DefaultTerminalType), $"UMBREK_TECHNICIAN={technician.ReplaceLineEndings(" ")}"],
        };
        return wish.Terminal is { } size ? InTerminal(order, size, user) : WithPipes(order, user);
    }

    private static (string Program, IReadOnlyList<string> Arguments) Command(ShellWish wish, SystemUser user)
    {
        switch (wish.Command)
        {
            case { Arguments: { } exact }:
                return user.Run(exact[0], exact);
            case { Line: { } line } command:
                var shell = command.Shell ?? "/bin/sh";
                return user.Run(shell, [shell, "-c", line]);
            case null when user.Id == Native.EffectiveUser():
                // A first argument with a hyphen makes it a login shell (login(1)).
                return (user.Shell, [$"-{Path.GetFileName(user.Shell)}"]);
            default:
                return user.Run(user.Shell, [user.Shell, "-l"]);
        }
    }

    private static LinuxTerminalShell InTerminal(SpawnOrder order, TerminalSize size, SystemUser user)
    {
        SafeFileHandle master;
        string path;
        try
        {
            (master, path) = Native.NewTerminal();
        }
        catch (IOException e)
        {
            throw new CommandNotStartedException(e.Message, 126);
        }
        Native.Resize(master, size.Columns, size.Rows);
        Native.GiveTerminal(path, user.Id);
        var error = Spawn.Start(order with { Terminal = path }, out var pid);
        if (error != 0)
        {
            master.Dispose();
            throw LinuxCommandRunner.NotStarted(order.Program, error);
        }
        return new LinuxTerminalShell(pid, user.Name, master);
    }

    private static LinuxPipedShell WithPipes(SpawnOrder order, SystemUser user)
    {
        var (inRead, inWrite) = LinuxCommandRunner.Pipe();
        var (outRead, outWrite) = LinuxCommandRunner.Pipe();
        var (errRead, errWrite) = LinuxCommandRunner.Pipe();
        var error = Spawn.Start(order with { Stdin = inRead, Stdout = outWrite, Stderr = errWrite }, out var pid);
        _ = Native.Close(inRead);
        _ = Native.Close(outWrite);
        _ = Native.Close(errWrite);
        var (input, output, errors) = (new SafeFileHandle(inWrite, true), new SafeFileHandle(outRead, true), new SafeFileHandle(errRead, true));
        if (error != 0)
        {
            input.Dispose();
            output.Dispose();
            errors.Dispose();
            throw LinuxCommandRunner.NotStarted(order.Program, error);
        }
        return new LinuxPipedShell(pid, user.Name, input, output, errors);
    }
}

/// <summary>What both kinds have in common: a session of processes.</summary>
internal abstract class LinuxShell(int pid, string user)
{
    public int Pid { get; } = pid;
    public string User { get; } = user;
    public Task<RunEnd> Ended { get; } = Task.Factory.StartNew(() => ChildProcess.Wait(pid), CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);

    public void Signal(ShellSignal signal) => _ = Native.Kill(-Pid, (int)signal);

    public void HangUp(bool force)
    {
        foreach (var member in SessionMembers.Of(Pid))
        {
            if (!force || member == Pid || !SessionMembers.Ignores(member, ShellSignal.HangUp))
            {
                _ = Native.Kill(member, force ? Native.SigKill : (int)ShellSignal.HangUp);
            }
        }
    }

    protected static FileStream Open(SafeFileHandle handle, FileAccess access) => new(handle, access, bufferSize: 0);
}

internal sealed class LinuxTerminalShell : LinuxShell, IShellProcess
{
    private const byte EndOfInput = 0x04;
    private readonly SafeFileHandle master;

    public LinuxTerminalShell(int pid, string user, SafeFileHandle master)
        : base(pid, user)
    {
        this.master = master;
        var both = Open(master, FileAccess.ReadWrite);
        Outputs = [(ShellStream.Output, both)];
        Input = both;
    }

    public IReadOnlyList<(ShellStream Stream, Stream From)> Outputs { get; }
    public Stream Input { get; }

    public void Resize(TerminalSize size) => Native.Resize(master, size.Columns, size.Rows);

    public void EndInput() => Input.WriteByte(EndOfInput);

    public void Dispose() => master.Dispose();
}

internal sealed class LinuxPipedShell : LinuxShell, IShellProcess
{
    public LinuxPipedShell(int pid, string user, SafeFileHandle input, SafeFileHandle output, SafeFileHandle errors)
        : base(pid, user)
    {
        Outputs = [(ShellStream.Output, Open(output, FileAccess.Read)), (ShellStream.Error, Open(errors, FileAccess.Read))];
        Input = Open(input, FileAccess.Write);
    }

    public IReadOnlyList<(ShellStream Stream, Stream From)> Outputs { get; }
    public Stream Input { get; }

    public void Resize(TerminalSize size)
    {
        // Pipes have none.
    }

    public void EndInput() => Input.Dispose();

    public void Dispose()
    {
        Input.Dispose();
        foreach (var (_, from) in Outputs)
        {
            from.Dispose();
        }
    }
}

/// <summary>The processes of a session (setsid(2)), as /proc shows them.</summary>
internal static class SessionMembers
{
    public static List<int> Of(int session)
    {
        var found = new List<int>();
        foreach (var directory in Directory.EnumerateDirectories("/proc"))
        {
            if (!int.TryParse(Path.GetFileName(directory), CultureInfo.InvariantCulture, out var pid))
            {
                continue;
            }
            try
            {
                // proc(5): pid (comm) state ppid pgrp session …; comm may hold anything, so look behind its last parenthesis.
                var stat = File.ReadAllText(Path.Combine(directory, "stat"));
                if (int.Parse(stat[(stat.LastIndexOf(')') + 2)..].Split(' ')[3], CultureInfo.InvariantCulture) == session)
                {
                    found.Add(pid);
                }
            }
            catch (IOException)
            {
                // It ended meanwhile.
            }
        }
        return found;
    }

    /// <summary>Whether a process has asked not to be disturbed by a signal (proc(5), SigIgn), as nohup(1) does for what it runs.</summary>
    public static bool Ignores(int pid, ShellSignal signal)
    {
        try
        {
            var line = File.ReadLines($"/proc/{pid}/status").FirstOrDefault(l => l.StartsWith("SigIgn:", StringComparison.Ordinal));
            return line is not null && (ulong.Parse(line["SigIgn:".Length..].Trim(), NumberStyles.HexNumber, CultureInfo.InvariantCulture) & (1UL << ((int)signal - 1))) != 0;
        }
        catch (IOException)
        {
            return false;
        }
    }
}
