using System.Net.NetworkInformation;
using System.Net.Sockets;
using Umbrek.Core.Jobs;
using Umbrek.Wire.Jobs;

namespace Umbrek.Agent.Jobs;

/// <summary>Sends packets that wake computers of the networks that this host stands in. Ends with 0 when one was sent for each.</summary>
/// <param name="own">The host's own network cards.</param>
/// <param name="send">Sends a packet for a card from one of them; throws <see cref="SocketException"/>.</param>
public sealed class WakeActs(IReadOnlyList<NetworkCard> own, Action<NetworkCard, PhysicalAddress> send, TextWriter say)
{
    public int Do(WakeWish wish) => wish.Targets.Select(Wake).DefaultIfEmpty(0).Max();

    private int Wake(WakeTarget target)
    {
        var cards = target.Cards.Select(NetworkCard.Read).OfType<NetworkCard>().ToList();
        var ways = (from card in cards from mine in own where mine.Network.Equals(card.Network) select (mine, card.Hardware)).DistinctBy(w => (w.mine.Address, w.Hardware)).ToList();
        if (ways.Count == 0)
        {
            say.WriteLine(cards.Count == 0 ? $"{target.Name}: none of its network cards can be read." : $"{target.Name}: this host stands in none of its networks ({string.Join(", ", cards.Select(c => c.Network).Distinct())}).");
            return 1;
        }
        var status = 0;
        foreach (var (mine, hardware) in ways)
        {
            try
            {
                send(mine, hardware);
                say.WriteLine($"{target.Name}: a packet for its network card {NetworkCard.Write(hardware)} was sent into {mine.Network}.");
            }
            catch (SocketException e)
            {
                say.WriteLine($"{target.Name}: no packet could be sent into {mine.Network}: {e.Message}.");
                status = 1;
            }
        }
        return status;
    }
}
