using Umbrek.Agent.Hosting;
using Umbrek.Core.Access;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;

namespace Umbrek.Agent.Sessions;

/// <summary>Channels on which the host alone speaks: the technician listens until he has seen enough.</summary>
/// <param name="most">So many at once.</param>
public sealed class HostSpeaks(ChannelGate gate, AgentLog log, int most)
{
    private static readonly TimeSpan Parting = TimeSpan.FromSeconds(5);

    private int open;

    /// <summary>The host's end of the channel, until either side goes.</summary>
    /// <param name="what">What begins, for people: "a look at the processes".</param>
    /// <param name="refusal">Why it may not be, where that is known already.</param>
    /// <param name="speak">Says what there is to say; returns when that is all.</param>
    public async Task ServeAsync<T>(WordFrames<T> frames, ChannelOrder order, HostAct act, string what, string? refusal, Func<string, T> notice, Func<string, T> problem, Func<CancellationToken, Task> speak, CancellationToken cancel) where T : class
    {
        using var gone = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var told = Task.CompletedTask;
        if (Interlocked.Increment(ref open) > most)
        {
            refusal ??= $"{most} technicians look at this on this host already, the most it shows it to.";
        }
        try
        {
            refusal ??= await gate.MayBeginAsync(order, act, what, n => told = frames.SendAsync(notice(n), gone.Token), gone.Token).ConfigureAwait(false);
            await told.ConfigureAwait(false);
            if (refusal is not null)
            {
                log.Warning($"{what} for {order.Technician} refused: {refusal}");
                await frames.SendAsync(problem(refusal), cancel).ConfigureAwait(false);
            }
            else
            {
                log.Info($"{what} for {order.Technician}");
                using var shown = gate.Show(order, what, null);
                var leaves = LeavesAsync(frames, gone);
                await speak(gone.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                if (!gone.IsCancellationRequested)
                {
                    // Our last words are heard before the line goes: whoever hears them closes it.
                    gone.CancelAfter(Parting);
                    await frames.CloseAsync(cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                }
                await leaves.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                gate.TellEnd(order.Technician, what);
            }
            await frames.CloseAsync(cancel).ConfigureAwait(false);
        }
        finally
        {
            Interlocked.Decrement(ref open);
        }
    }

    /// <summary>The technician has nothing to say but that he goes.</summary>
    private static async Task LeavesAsync<T>(WordFrames<T> frames, CancellationTokenSource gone) where T : class
    {
        try
        {
            await frames.ReceiveAsync(gone.Token).ConfigureAwait(false);
        }
        finally
        {
            await gone.CancelAsync().ConfigureAwait(false);
        }
    }
}
