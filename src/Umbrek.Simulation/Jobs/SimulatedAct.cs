using System.IO.Pipelines;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;

namespace Umbrek.Simulation.Jobs;

/// <summary>Something that an agent does itself and that takes its time.</summary>
internal sealed class SimulatedAct : IRunningCommand
{
    private readonly Pipe stdout = new();
    private readonly CancellationTokenSource stop = new();

    /// <param name="act">Writes what it says, and gives its exit status.</param>
    public SimulatedAct(Func<TextWriter, CancellationToken, Task<int>> act)
    {
        Stdout = stdout.Reader.AsStream();
        Ended = Task.Run(() => RunAsync(act));
    }

    public int Pid { get; } = Random.Shared.Next(1000, 30000);
    public string User => "root";
    public Stream Stdout { get; }
    public Stream Stderr => Stream.Null;
    public Task<RunEnd> Ended { get; }

    public void Terminate(bool force) => stop.Cancel();

    public void Dispose() => stop.Dispose();

    private async Task<RunEnd> RunAsync(Func<TextWriter, CancellationToken, Task<int>> act)
    {
        var said = new StreamWriter(stdout.Writer.AsStream());
        try
        {
            return new RunEnd(RunOutcome.Exited, await act(said, stop.Token).ConfigureAwait(false), null);
        }
        catch (OperationCanceledException)
        {
            return new RunEnd(RunOutcome.Signalled, 143, "Ended by signal TERM.");
        }
        finally
        {
            await said.DisposeAsync().ConfigureAwait(false);
            await stdout.Writer.CompleteAsync().ConfigureAwait(false);
        }
    }
}
