using Umbrek.Wire.Desktop;

namespace Umbrek.Agent.Desktop;

/// <summary>A technician at a desktop of this host, until it is disposed.</summary>
public sealed class DesktopSeat : IDisposable
{
    private readonly DesktopGuests all;
    private readonly Func<DesktopWord, Task> tell;
    private readonly Action<bool> acting;

    internal DesktopSeat(DesktopGuests all, DesktopGuest guest, Func<DesktopWord, Task> tell, Action<bool> acting) => (this.all, Guest, this.tell, this.acting) = (all, guest, tell, acting);

    public DesktopGuest Guest { get; }

    /// <summary>He has done something at the screen.</summary>
    public void HasActed() => all.HasActed();

    /// <summary>He wishes to act, lets another, or goes on.</summary>
    public void Wish(HandsWish wish) => all.Wish(this, wish);

    public void Dispose() => all.Go(this);

    internal Task Tell(DesktopWord word) => tell(word);

    internal void Acts(bool now) => acting(now);
}
