namespace Umbrek.Agent.Desktop;

/// <summary>Wakes one who waits. What was said while nobody waited is heard by the next who does, once.</summary>
public sealed class Nudge : IDisposable
{
    private readonly SemaphoreSlim said = new(0);

    public Task WaitAsync(CancellationToken cancel) => said.WaitAsync(cancel);

    public void Give()
    {
        try
        {
            if (said.CurrentCount == 0)
            {
                said.Release();
            }
        }
        catch (ObjectDisposedException)
        {
            // Nobody waits any more.
        }
    }

    public void Dispose() => said.Dispose();
}
