using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Wire;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;

namespace Umbrek.Agent.Jobs;

/// <summary>Reads processes, once and again; each reader knows what it read before.</summary>
public interface IProcessReader
{
    ProcessReading Read(DateTimeOffset now);
}

/// <summary>Reads the services of this host.</summary>
public interface IServiceReader
{
    /// <exception cref="IOException">The system does not tell of them.</exception>
    Task<IReadOnlyList<HostService>> ReadAsync(CancellationToken cancel);
}

/// <param name="Refusal">Why there is nothing to see; null where there is.</param>
public sealed record ViewAdmission(string? Refusal, ViewWish Wish);

/// <summary>Shows technicians processes and services of this host for as long as they look.</summary>
public sealed class HostView(IHostPlatform platform, ChannelGate gate, TimeProvider time, AgentLog log)
{
    /// <summary>More at once do not look.</summary>
    public const int Most = 16;

    private readonly HostSpeaks speaks = new(gate, log, Most);

    /// <summary>Decides about an order when it comes.</summary>
    public ViewAdmission Admit(ViewOrder? order)
    {
        if (order is not { Wish: not null })
        {
            return new ViewAdmission("The order to show what goes on here was empty.", new ViewWish());
        }
        var wish = order.Wish;
        var refusal = gate.Admit(HostAct.Run, "commands, nor to look at what runs", order.Sealed, ref wish, LinkJson.Default.ViewWish);
        return new ViewAdmission(refusal ?? wish.Check(), wish);
    }

    /// <summary>The host's end of the channel, until either side goes.</summary>
    public Task ServeAsync(WordFrames<ViewWord> frames, ChannelOrder order, ViewAdmission admission, CancellationToken cancel) => speaks.ServeAsync(
        frames, order, HostAct.Run, order.Kind == ChannelKinds.Services ? "a look at the services" : "a look at the processes", admission.Refusal, notice => new ViewWord(Notice: notice), problem => new ViewWord(Problem: problem),
        gone => order.Kind == ChannelKinds.Services ? ServicesAsync(frames, admission.Wish, gone) : ProcessesAsync(frames, admission.Wish, gone), cancel);

    private async Task ProcessesAsync(WordFrames<ViewWord> frames, ViewWish wish, CancellationToken gone)
    {
        var reader = platform.Processes();
        using var timer = new PeriodicTimer(TimeSpan.FromSeconds(wish.EverySeconds), time);
        ProcessReading? before = null;
        do
        {
            var now = reader.Read(time.GetUtcNow());
            // A technician who reads slowly holds the next reading back: what he gets is never old.
            await frames.SendAsync(new ViewWord(ProcessChanges.Between(before, now)), gone).ConfigureAwait(false);
            before = now;
        }
        while (await timer.WaitForNextTickAsync(gone).ConfigureAwait(false));
    }

    private async Task ServicesAsync(WordFrames<ViewWord> frames, ViewWish wish, CancellationToken gone)
    {
        var reader = platform.Services();
        using var timer = new PeriodicTimer(TimeSpan.FromSeconds(wish.EverySeconds), time);
        IReadOnlyList<HostService>? before = null;
        do
        {
            try
            {
                var now = await reader.ReadAsync(gone).ConfigureAwait(false);
                if (before is null || !before.SequenceEqual(now))
                {
                    await frames.SendAsync(new ViewWord(Services: now), gone).ConfigureAwait(false);
                }
                before = now;
            }
            catch (IOException e)
            {
                await frames.SendAsync(new ViewWord(Problem: e.Message), gone).ConfigureAwait(false);
                return;
            }
        }
        while (await timer.WaitForNextTickAsync(gone).ConfigureAwait(false));
    }
}
