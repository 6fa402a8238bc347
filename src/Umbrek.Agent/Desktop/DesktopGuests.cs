using System.Net.WebSockets;
using Umbrek.Wire.Desktop;

namespace Umbrek.Agent.Desktop;

/// <summary>
/// The technicians who are at desktops of this host; each is told of the others. Of those who may act one does at a time: the first who
/// came, until he lets another, goes, or does nothing for a while when another asks.
/// </summary>
public sealed class DesktopGuests(TimeProvider time)
{
    /// <summary>Whoever has done nothing for so long is not asked, and whoever does not answer within it has agreed.</summary>
    public static readonly TimeSpan AnswersWithin = TimeSpan.FromSeconds(20);

    private readonly Lock gate = new();
    private readonly List<DesktopSeat> seats = [];
    private string? acts;
    private string? asks;
    private long actedAt;
    private ITimer? answer;

    /// <param name="tell">Tells this one what is new.</param>
    /// <param name="acting">Told whether he acts now, whenever that changes.</param>
    /// <returns>What is disposed when he goes.</returns>
    public DesktopSeat Come(DesktopGuest guest, Func<DesktopWord, Task> tell, Action<bool> acting)
    {
        var seat = new DesktopSeat(this, guest, tell, acting);
        lock (gate)
        {
            seats.Add(seat);
            if (guest.Control && acts is null)
            {
                Pass(guest.Technician);
            }
            else
            {
                seat.Acts(guest.Control && acts == guest.Technician);
            }
        }
        Tell(alone: seat);
        return seat;
    }

    internal void HasActed()
    {
        lock (gate)
        {
            actedAt = time.GetTimestamp();
        }
    }

    private bool MayAct(string technician) => seats.Exists(s => s.Guest.Control && s.Guest.Technician == technician);

    private void Pass(string? to)
    {
        answer?.Dispose();
        (acts, asks, answer, actedAt) = (to, null, null, time.GetTimestamp());
        foreach (var seat in seats)
        {
            seat.Acts(seat.Guest.Control && seat.Guest.Technician == acts);
        }
    }

    internal void Wish(DesktopSeat seat, HandsWish wish)
    {
        lock (gate)
        {
            var name = seat.Guest.Technician;
            switch (wish)
            {
                case HandsWish.Ask when seat.Guest.Control && acts != name:
                    if (time.GetElapsedTime(actedAt) >= AnswersWithin)
                    {
                        Pass(name);
                        break;
                    }
                    asks = name;
                    answer?.Dispose();
                    answer = time.CreateTimer(_ => Unanswered(name), null, AnswersWithin, Timeout.InfiniteTimeSpan);
                    break;
                case HandsWish.Give when acts == name && (asks ?? seats.Find(s => s.Guest.Control && s.Guest.Technician != name)?.Guest.Technician) is { } next:
                    Pass(next);
                    break;
                case HandsWish.Keep when acts == name && asks is not null:
                    answer?.Dispose();
                    (asks, answer) = (null, null);
                    break;
                default:
                    return;
            }
        }
        Tell(alone: null);
    }

    private void Unanswered(string name)
    {
        lock (gate)
        {
            if (asks != name)
            {
                return;
            }
            Pass(name);
        }
        Tell(alone: null);
    }

    internal void Go(DesktopSeat seat)
    {
        lock (gate)
        {
            seats.Remove(seat);
            if (asks is not null && !MayAct(asks))
            {
                answer?.Dispose();
                (asks, answer) = (null, null);
            }
            if (acts is not null && !MayAct(acts))
            {
                Pass(asks ?? seats.Find(s => s.Guest.Control)?.Guest.Technician);
            }
        }
        Tell(alone: null);
    }

    /// <param name="alone">One who has just come is not told that nobody is there.</param>
    private void Tell(DesktopSeat? alone)
    {
        List<(DesktopSeat Seat, DesktopWord Word)> news;
        lock (gate)
        {
            news = [.. seats.Where(s => s != alone || seats.Count > 1).Select(s => (s, WordFor(s)))];
        }
        foreach (var (seat, word) in news)
        {
            _ = TellAsync(seat, word);
        }
    }

    private DesktopWord WordFor(DesktopSeat seat) => new(
        Others: [.. seats.Where(o => o != seat).Select(o => o.Guest with { Acts = o.Guest.Control && o.Guest.Technician == acts }).Take(DesktopGuest.MostTold)],
        Hands: seat.Guest.Control ? new DesktopHands(acts == seat.Guest.Technician, acts, asks) : null);

    private static async Task TellAsync(DesktopSeat seat, DesktopWord word)
    {
        try
        {
            await seat.Tell(word).ConfigureAwait(false);
        }
        catch (Exception e) when (e is WebSocketException or OperationCanceledException or ObjectDisposedException or InvalidOperationException)
        {
            // He goes just now.
        }
    }
}
