using Umbrek.Core.Jobs;

namespace Umbrek.Agent.Jobs;

/// <summary>Starts commands; the platform's own way.</summary>
public interface ICommandRunner
{
    /// <exception cref="CommandNotStartedException">The command could not be started; nothing ran.</exception>
    IRunningCommand Start(CommandSpec command);
}

/// <summary>A command that was started. Disposing it closes the pipes, not the command.</summary>
public interface IRunningCommand : IDisposable
{
    int Pid { get; }
    string User { get; }
    Stream Stdout { get; }
    Stream Stderr { get; }

    /// <summary>Completes when the command's first process has ended.</summary>
    Task<RunEnd> Ended { get; }

    /// <summary>Asks every process of the command to end, or (<paramref name="force"/>) ends them.</summary>
    void Terminate(bool force);
}

/// <param name="exitStatus">127 when there is no such program, 126 when it may not be run (as shells report it).</param>
public sealed class CommandNotStartedException(string message, int exitStatus) : Exception(message)
{
    public int ExitStatus { get; } = exitStatus;
}
