using System.Runtime.InteropServices;

namespace Umbrek.Cli.Hosting;

/// <summary>Somebody may stop with Ctrl-C, and is told what then is; who does so again stops at once.</summary>
internal sealed class Leaving : IDisposable
{
    private readonly CancellationTokenSource source;
    private readonly PosixSignalRegistration[] stops;

    public Leaving(CancellationToken cancel)
    {
        source = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        stops = [PosixSignalRegistration.Create(PosixSignal.SIGINT, Stop), PosixSignalRegistration.Create(PosixSignal.SIGTERM, Stop)];
    }

    public CancellationToken Token => source.Token;

    /// <returns>The exit code.</returns>
    public static int Say(string sentence)
    {
        Console.Error.WriteLine($"\nStopped. {sentence}");
        return ExitCodes.LeftRunning;
    }

    public void Dispose()
    {
        foreach (var stop in stops)
        {
            stop.Dispose();
        }
        source.Dispose();
    }

    private void Stop(PosixSignalContext context)
    {
        context.Cancel = !source.IsCancellationRequested;
        source.Cancel();
    }
}
