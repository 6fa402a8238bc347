namespace Umbrek.Cli.Hosting;

/// <summary>What the client's exit status tells a script.</summary>
public static class ExitCodes
{
    public const int Done = 0;
    public const int Failed = 1;
    public const int WrongUse = 2;

    /// <summary>At least one run did not succeed.</summary>
    public const int RunsFailed = 3;

    /// <summary>The selection names no host; nothing was done.</summary>
    public const int NothingMatched = 4;

    /// <summary>Nothing failed, but some runs wait for hosts that are away.</summary>
    public const int RunsWait = 5;
    public const int NotSignedIn = 6;

    /// <summary>The person pressed Ctrl-C; the job goes on.</summary>
    public const int LeftRunning = 130;

    public const string Help = """
        Exit status
          0  done, every run succeeded
          1  failed; the message says why
          2  wrong use of the command line
          3  at least one run did not succeed
          4  the selection matches no host, nothing was done
          5  nothing failed, but some runs wait for hosts that are away
          6  not signed in
        """;
}

/// <summary>Ends the command with a sentence for the person and a status for the script.</summary>
public sealed class ClientException(string message, int exitCode = ExitCodes.Failed) : Exception(message)
{
    public int ExitCode { get; } = exitCode;
}
