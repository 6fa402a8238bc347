using Umbrek.Agent.Hosting;
using Umbrek.Agent.Sessions;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Desktop;

/// <summary>What a technician may do with the desks of this host beside controlling what is on them.</summary>
public interface IDeskPowers
{
    /// <summary>Takes keyboards and mice from the people there, until it is disposed.</summary>
    /// <param name="taken">Told of each screen how many were.</param>
    IDisposable TakeInput(Action<int> taken);

    /// <summary>Hides the screens from the people there, until it is disposed.</summary>
    /// <param name="hidden">Told of each screen null, or why it is not.</param>
    IDisposable Hide(Action<string?> hidden);

    /// <summary>Why screens can't be locked; null where they can.</summary>
    string? NoLockBecause { get; }

    /// <summary>Gives this host a screen that it has not.</summary>
    /// <exception cref="IOException">It has none, and why.</exception>
    Task GiveScreenAsync(CancellationToken cancel);

    /// <summary>Locks the screens where somebody is logged in.</summary>
    /// <returns>Why one is not, or null.</returns>
    Task<string?> LockAsync(CancellationToken cancel);
}

/// <summary>Does it with the screens of this host, and has all of it written down.</summary>
/// <param name="tell">Told what was done.</param>
internal sealed class DeskPowers(ConsentDesk desk, IDesktops desktops, AgentLog log, ChannelOrder order, Action<ConsentReport> tell) : IDeskPowers
{
    public string? NoLockBecause => desktops.NoLockBecause;

    public IDisposable TakeInput(Action<int> taken) =>
        Hold(desk.TakeInput(order.Technician, taken), (DeskDeed.InputTaken, "taken keyboards and mice away"), (DeskDeed.InputGivenBack, "given keyboards and mice back"));

    public IDisposable Hide(Action<string?> hidden) =>
        Hold(desk.Hide(order.Technician, hidden), (DeskDeed.ScreenHidden, "hidden the screen"), (DeskDeed.ScreenShown, "let the screen be seen again"));

    public async Task GiveScreenAsync(CancellationToken cancel)
    {
        if (await desktops.GiveAsync(cancel).ConfigureAwait(false))
        {
            Report(DeskDeed.ScreenGiven, "come, and this host was given a screen");
        }
    }

    public async Task<string?> LockAsync(CancellationToken cancel)
    {
        string? problem;
        try
        {
            problem = await desktops.LockAsync(cancel).ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            problem = "It took too long.";
        }
        Report(problem is null ? DeskDeed.Locked : DeskDeed.NotLocked, problem is null ? "left, and the screen was locked" : $"left, and the screen was not locked: {problem}");
        return problem;
    }

    private Held Hold(IDisposable shown, (DeskDeed Deed, string Says) begins, (DeskDeed Deed, string Says) ends)
    {
        Report(begins.Deed, begins.Says);
        return new Held(shown, () => Report(ends.Deed, ends.Says));
    }

    private void Report(DeskDeed deed, string says)
    {
        log.Info($"{order.Technician} has {says}");
        tell(new ConsentReport(order.ChannelId, order.Technician, order.Technician, true, Deed: deed));
    }

    private sealed class Held(IDisposable shown, Action over) : IDisposable
    {
        public void Dispose()
        {
            shown.Dispose();
            over();
        }
    }
}
