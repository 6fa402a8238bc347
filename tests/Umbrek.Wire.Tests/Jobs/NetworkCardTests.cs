using System.Net;
using System.Net.NetworkInformation;
using Umbrek.Wire.Jobs;

namespace Umbrek.Wire.Tests.Jobs;

public sealed class NetworkCardTests
{
    [Theory]
    [InlineData("52:54:00:12:34:56 10.20.1.15/24", "10.20.1.0/24")]
    [InlineData("52:54:00:12:34:56 10.20.1.15/31", "10.20.1.14/31")]
    [InlineData("52:54:00:12:34:56 2001:db8:77::f/64", "2001:db8:77::/64")]
    [InlineData("52:54:00:12:34:56 10.20.1.15/0", null)]
    [InlineData("52:54:00:12:34:56 10.20.1.15/33", null)]
    [InlineData("52:54:00:12:34:56 10.20.1.15/-1", null)]
    [InlineData("52:54:00:12:34 10.20.1.15/24", null)]
    [InlineData("00:00:00:00:00:00 10.20.1.15/24", null)]
    [InlineData("quay 10.20.1.15/24", null)]
    [InlineData("52:54:00:12:34:56 quay/24", null)]
    [InlineData("52:54:00:12:34:56", null)]
    [InlineData("", null)]
    [InlineData(null, null)]
    public void A_network_card_is_read_as_it_is_written(string? text, string? network)
    {
        var card = NetworkCard.Read(text);
        (card?.ToString(), card?.Network.ToString()).ShouldBe((network is null ? null : text, network));
    }

    [Fact]
    public void A_card_wakes_for_its_own_address_sixteen_times()
    {
        var card = PhysicalAddress.Parse("52-54-00-12-34-56");
        var packet = MagicPacket.For(card);
        packet.Length.ShouldBe(102);
        packet[..6].ShouldAllBe(b => b == 0xFF);
        packet[6..].Chunk(6).ShouldAllBe(part => part.SequenceEqual(card.GetAddressBytes()));
        MagicPacket.Read(packet).ShouldBe(card);
        packet[77]++;
        MagicPacket.Read(packet).ShouldBeNull();
        MagicPacket.Read(packet.AsSpan(1)).ShouldBeNull();
        new NetworkCard(card, IPAddress.Loopback, IPNetwork.Parse("127.0.0.0/8")).ToString().ShouldBe("52:54:00:12:34:56 127.0.0.1/8");
    }
}
