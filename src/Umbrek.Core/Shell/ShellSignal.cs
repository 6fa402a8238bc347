namespace Umbrek.Core.Shell;

/// <summary>Signals that a technician's side passes on to a command (POSIX.1-2017, signal.h).</summary>
public enum ShellSignal
{
    HangUp = 1,
    Interrupt = 2,
    Quit = 3,
    Kill = 9,
    User1 = 10,
    User2 = 12,
    Terminate = 15,
    Continue = 18,
    Suspend = 20,
}
