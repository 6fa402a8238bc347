using Umbrek.Wire.Desktop;

namespace Umbrek.Agent.Desktop;

/// <summary>Keyboards and mice of this host that one technician has taken away from the people there; they are given back when he goes, however he goes.</summary>
/// <param name="take">Takes them, until it is disposed; told of each screen how many were.</param>
/// <param name="control">Whether he controls the desktop: whoever only looks takes nothing.</param>
public sealed class HeldInput(Func<Action<int>, IDisposable> take, bool control, TimeProvider time) : IDisposable
{
    private static readonly TimeSpan Within = TimeSpan.FromSeconds(10);

    private IDisposable? held;
    private int count;

    public async Task<InputTaken> HeedAsync(DesktopAsk ask, CancellationToken cancel)
    {
        if (ask.TakeInput is not { } wanted)
        {
            return new InputTaken(held is not null, count);
        }
        if (!control)
        {
            return new InputTaken(false, Problem: "Whoever only looks on takes nothing away; open the desktop to control it.");
        }
        if (wanted == held is not null)
        {
            return new InputTaken(wanted, count);
        }
        if (!wanted)
        {
            Dispose();
            return new InputTaken(false);
        }
        var taken = new TaskCompletionSource<int>(TaskCreationOptions.RunContinuationsAsynchronously);
        held = take(c => taken.TrySetResult(c));
        try
        {
            count = await taken.Task.WaitAsync(Within, time, cancel).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            Dispose();
            return new InputTaken(false, Problem: "Nobody is logged in at a screen of this host whose keyboard could be taken.");
        }
        if (count == 0)
        {
            Dispose();
            return new InputTaken(false, Problem: "The X server of this host lets no keyboard be taken: it has none of its own, or lacks the X Input Extension.");
        }
        return new InputTaken(true, count);
    }

    public void Dispose()
    {
        held?.Dispose();
        (held, count) = (null, 0);
    }
}
