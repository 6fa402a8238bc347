using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;

namespace Umbrek.Wire.Shell;

/// <summary>
/// What the two ends of a shell's channel say beside the bytes: text messages, each with one of these. Binary messages carry one byte
/// for the stream (<see cref="ShellStream"/>) and then its bytes.
/// </summary>
/// <param name="Size">To the host: the terminal has another size.</param>
/// <param name="Signal">To the host: for the command that runs with pipes.</param>
/// <param name="InputEnds">To the host: no more input comes.</param>
/// <param name="Seen">To the host: so many bytes of output have been taken. The host runs ahead of that by <see cref="Window"/> bytes and no further.</param>
/// <param name="End">To the host: end it; of one that has ended: its end was heard.</param>
/// <param name="Opened">From the host, first.</param>
/// <param name="Taken">From the host: so many bytes of input have been taken. The technician's side runs ahead by <see cref="Window"/> bytes and no further.</param>
/// <param name="Notice">From the host: a sentence for the technician, while it goes on.</param>
/// <param name="Ended">From the host, behind all output: how it ended.</param>
/// <param name="Problem">From the host: why there is no shell, in a sentence.</param>
/// <param name="Displaced">From the host: the shell goes on at another place, to which its technician has connected.</param>
public sealed record ShellWord(
    TerminalSize? Size = null, ShellSignal? Signal = null, bool? InputEnds = null, long? Seen = null, bool? End = null,
    ShellOpened? Opened = null, long? Taken = null, string? Notice = null, RunEnd? Ended = null, string? Problem = null, bool? Displaced = null)
{
    /// <summary>Most bytes on their way without acknowledgement, each way.</summary>
    public const int Window = 256 * 1024;

    /// <summary>Most bytes of one message.</summary>
    public const int MaxMessage = 32 * 1024;

    /// <summary>Most bytes of a stream in one message.</summary>
    public const int MaxData = 16 * 1024;
}

/// <param name="Offset">Of the first byte of output that follows.</param>
/// <param name="Missed">How many bytes of output were dropped between what was seen and what follows.</param>
/// <param name="Taken">How many bytes of input it has taken so far.</param>
public sealed record ShellOpened(Guid ShellId, int Pid, string User, long Offset, long Missed, long Taken);

/// <summary>A shell that goes on at a host.</summary>
/// <param name="CommandText">What runs in it, as a person would read it.</param>
/// <param name="IsTerminal">False: a command with pipes.</param>
/// <param name="IsAttended">Somebody is connected to it.</param>
public sealed record ShellInfo(Guid Id, Guid TechnicianId, string Technician, string CommandText, string User, DateTimeOffset BeganAt, bool IsTerminal, bool IsAttended);

/// <summary>A shell to be opened, as the agent gets it.</summary>
/// <param name="TechnicianId">Whose it is: nobody else connects to it.</param>
/// <param name="Wish">Null where it comes sealed.</param>
public sealed record ShellOrder(Guid TechnicianId, ShellWish Wish, Core.Access.SealedOrder? Sealed = null);
