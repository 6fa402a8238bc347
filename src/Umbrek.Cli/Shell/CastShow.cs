using Umbrek.Core.Shell;

namespace Umbrek.Cli.Shell;

/// <summary>Shows a recording as it went; whoever watches stops it, goes on, and changes its pace meanwhile.</summary>
/// <param name="show">What the terminal is sent.</param>
public sealed class CastShow(CastClock clock, Action<CastEvent> show, TimeProvider time)
{
    private readonly Lock gate = new();
    private TaskCompletionSource changed = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private bool stands;

    /// <summary>Stops it, or lets it go on.</summary>
    /// <returns>Whether it stands now.</returns>
    public bool Hold()
    {
        lock (gate)
        {
            stands = !stands;
            Change();
            return stands;
        }
    }

    /// <summary>Goes on at so many times the pace.</summary>
    /// <returns>The pace from now on.</returns>
    public double Change(double times)
    {
        lock (gate)
        {
            clock.GoAt(clock.Pace * times);
            Change();
            return clock.Pace;
        }
    }

    public async Task RunAsync(IAsyncEnumerable<CastEvent> events, CancellationToken cancel)
    {
        await foreach (var happened in events.WithCancellation(cancel).ConfigureAwait(false))
        {
            await WaitAsync(happened.At, cancel).ConfigureAwait(false);
            show(happened);
        }
    }

    private async Task WaitAsync(TimeSpan at, CancellationToken cancel)
    {
        // As the recording counts it, so that another pace counts for the rest.
        var left = clock.Pause(at);
        while (true)
        {
            Task woken;
            double? pace;
            lock (gate)
            {
                (woken, pace) = (changed.Task, stands ? null : clock.Pace);
            }
            if (pace is not null && left <= TimeSpan.Zero)
            {
                return;
            }
            if (pace is not { } times)
            {
                await woken.WaitAsync(cancel).ConfigureAwait(false);
                continue;
            }
            var began = time.GetTimestamp();
            using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            var due = Task.Delay(left / times, time, over.Token);
            await Task.WhenAny(due, woken).ConfigureAwait(false);
            cancel.ThrowIfCancellationRequested();
            left = due.IsCompletedSuccessfully ? TimeSpan.Zero : left - (time.GetElapsedTime(began) * times);
            await over.CancelAsync().ConfigureAwait(false);
        }
    }

    private void Change()
    {
        var before = changed;
        changed = new(TaskCreationOptions.RunContinuationsAsynchronously);
        before.SetResult();
    }
}
