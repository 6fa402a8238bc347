using Umbrek.Wire.Desktop;

namespace Umbrek.Agent.Desktop;

/// <summary>
/// What one technician holds of the desks of this host: keyboards and mice, what the screens show, and that they are locked when he goes. All
/// is given back when he goes, however he goes; first it is locked, so that nobody sees what he leaves.
/// </summary>
/// <param name="control">Whether he controls the desktop: whoever only looks on holds nothing.</param>
public sealed class DeskHolds(IDeskPowers powers, bool control, TimeProvider time) : IAsyncDisposable
{
    private static readonly TimeSpan Within = TimeSpan.FromSeconds(10);

    private IDisposable? input;
    private IDisposable? cover;
    private int count;
    private bool onlyForCover;
    private bool locks;

    public DeskHold Now => State();

    public async Task<DeskHold> HeedAsync(DesktopAsk ask, CancellationToken cancel)
    {
        if (ask is { TakeInput: null, Hide: null, Lock: null })
        {
            return State();
        }
        if (!control)
        {
            return State("Whoever only looks on takes nothing away; open the desktop to control it.");
        }
        if (ask.Lock is { } wanted)
        {
            if (wanted && powers.NoLockBecause is { } why)
            {
                return State(why);
            }
            locks = wanted;
        }
        if (ask.Hide == false)
        {
            Uncover();
        }
        if (ask.TakeInput == false)
        {
            // Nobody types without seeing what.
            Uncover();
            GiveBack();
        }
        if ((ask.TakeInput == true || ask.Hide == true) && input is null)
        {
            if (await TakeAsync(cancel).ConfigureAwait(false) is { } problem)
            {
                return State(problem);
            }
            onlyForCover = ask.TakeInput != true;
        }
        onlyForCover &= ask.TakeInput != true;
        return State(ask.Hide == true && cover is null ? await CoverAsync(cancel).ConfigureAwait(false) : null);
    }

    public async ValueTask DisposeAsync()
    {
        if (locks)
        {
            locks = false;
            using var limit = new CancellationTokenSource(Within, time);
            await ((Task)powers.LockAsync(limit.Token)).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
        Uncover();
        GiveBack();
    }

    private DeskHold State(string? problem = null) => new(input is not null, count, problem, cover is not null, locks);

    /// <returns>Why they are not taken, or null.</returns>
    private async Task<string?> TakeAsync(CancellationToken cancel)
    {
        var taken = new TaskCompletionSource<int>(TaskCreationOptions.RunContinuationsAsynchronously);
        input = powers.TakeInput(c => taken.TrySetResult(c));
        try
        {
            count = await taken.Task.WaitAsync(Within, time, cancel).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            GiveBack();
            return "Nobody is logged in at a screen of this host whose keyboard could be taken.";
        }
        if (count == 0)
        {
            GiveBack();
            return "The X server of this host lets no keyboard be taken: it has none of its own, or lacks the X Input Extension.";
        }
        return null;
    }

    /// <returns>Why it is not hidden, or null.</returns>
    private async Task<string?> CoverAsync(CancellationToken cancel)
    {
        var hidden = new TaskCompletionSource<string?>(TaskCreationOptions.RunContinuationsAsynchronously);
        cover = powers.Hide(why => hidden.TrySetResult(why));
        string? problem;
        try
        {
            problem = await hidden.Task.WaitAsync(Within, time, cancel).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            problem = "Nobody is logged in at a screen of this host that could be hidden.";
        }
        if (problem is not null)
        {
            Uncover();
        }
        return problem;
    }

    private void Uncover()
    {
        cover?.Dispose();
        cover = null;
        if (onlyForCover)
        {
            GiveBack();
        }
    }

    private void GiveBack()
    {
        input?.Dispose();
        (input, count, onlyForCover) = (null, 0, false);
    }
}
