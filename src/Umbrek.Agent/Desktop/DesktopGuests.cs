using System.Net.WebSockets;
using Umbrek.Wire.Desktop;

namespace Umbrek.Agent.Desktop;

/// <summary>The technicians who are at desktops of this host; each is told of the others.</summary>
internal sealed class DesktopGuests
{
    private readonly Lock gate = new();
    private readonly List<Seat> seats = [];

    /// <param name="tell">Tells this one who the others are, whenever that changes.</param>
    /// <returns>What is disposed when he goes.</returns>
    public IDisposable Come(DesktopGuest guest, Func<IReadOnlyList<DesktopGuest>, Task> tell)
    {
        var seat = new Seat(this, guest, tell);
        lock (gate)
        {
            seats.Add(seat);
        }
        Tell(alone: seat);
        return seat;
    }

    /// <param name="alone">One who has just come is not told that nobody is there.</param>
    private void Tell(Seat? alone)
    {
        List<(Seat Seat, IReadOnlyList<DesktopGuest> Others)> news;
        lock (gate)
        {
            news = [.. seats.Where(s => s != alone || seats.Count > 1).Select(s => (s, (IReadOnlyList<DesktopGuest>)[.. seats.Where(o => o != s).Select(o => o.Guest).Take(DesktopGuest.MostTold)]))];
        }
        foreach (var (seat, others) in news)
        {
            _ = TellAsync(seat, others);
        }
    }

    private static async Task TellAsync(Seat seat, IReadOnlyList<DesktopGuest> others)
    {
        try
        {
            await seat.Tell(others).ConfigureAwait(false);
        }
        catch (Exception e) when (e is WebSocketException or OperationCanceledException or ObjectDisposedException or InvalidOperationException)
        {
            // He goes just now.
        }
    }

    private sealed class Seat(DesktopGuests all, DesktopGuest guest, Func<IReadOnlyList<DesktopGuest>, Task> tell) : IDisposable
    {
        public DesktopGuest Guest => guest;

        public Task Tell(IReadOnlyList<DesktopGuest> others) => tell(others);

        public void Dispose()
        {
            lock (all.gate)
            {
                all.seats.Remove(this);
            }
            all.Tell(alone: null);
        }
    }
}
