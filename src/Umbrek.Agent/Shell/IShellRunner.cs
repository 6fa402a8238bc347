using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;

namespace Umbrek.Agent.Shell;

/// <summary>Starts what runs in a shell; the platform's own way.</summary>
public interface IShellRunner
{
    /// <param name="technician">Told to what runs in it, as UMBREK_TECHNICIAN.</param>
    /// <exception cref="CommandNotStartedException">It could not be started; nothing ran.</exception>
    IShellProcess Start(ShellWish wish, string technician);
}

/// <summary>What runs in a shell. Disposing it closes its terminal or pipes, which is no order to end.</summary>
public interface IShellProcess : IDisposable
{
    int Pid { get; }
    string User { get; }

    /// <summary>One of a terminal, two of pipes. A read that fails is the end.</summary>
    IReadOnlyList<(ShellStream Stream, Stream From)> Outputs { get; }

    Stream Input { get; }

    /// <summary>Completes when the first process has ended.</summary>
    Task<RunEnd> Ended { get; }

    void Resize(TerminalSize size);

    void Signal(ShellSignal signal);

    /// <summary>No more input comes: closes the pipe, or types the terminal's sign for it.</summary>
    void EndInput();

    /// <summary>Tells everything in it that its technician is gone, or (<paramref name="force"/>) ends what did not heed that and does not ask to be left alone by it.</summary>
    void HangUp(bool force);
}
