using Umbrek.Core.Estate;

namespace Umbrek.Core.Tests.Estate;

public sealed class PresenceTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);

    [Fact]
    public void A_goodbye_says_why_and_silence_is_lost_contact()
    {
        Presence.Unlink(AwayReason.AgentStopped, Noon).Reason.ShouldBe(AwayReason.AgentStopped);
        Presence.Unlink(AwayReason.None, Noon).ShouldBe(new Presence(PresenceState.Away, AwayReason.LostContact, Noon));
    }

    [Fact]
    public void A_link_that_goes_on_keeps_its_beginning()
    {
        var linked = Presence.Never(Noon).Link(Noon.AddMinutes(1));
        linked.Link(Noon.AddMinutes(9)).Since.ShouldBe(Noon.AddMinutes(1));
    }

    [Fact]
    public void A_restart_of_the_service_takes_nobody_offline_before_its_time()
    {
        var after = Presence.AfterRestart(new Presence(PresenceState.Linked, AwayReason.None, Noon.AddHours(-3)), Noon);
        after.State.ShouldBe(PresenceState.Returning);
        after.Settle(Noon.AddSeconds(-2), Noon.AddSeconds(Presence.ReturnGraceSeconds - 1)).State.ShouldBe(PresenceState.Returning);
        after.Settle(Noon.AddSeconds(-2), Noon.AddSeconds(Presence.ReturnGraceSeconds))
            .ShouldBe(new Presence(PresenceState.Away, AwayReason.LostContact, Noon.AddSeconds(-2)));
    }

    [Fact]
    public void A_host_that_was_away_before_a_restart_stays_away_for_the_same_reason()
    {
        var away = new Presence(PresenceState.Away, AwayReason.HostShuttingDown, Noon.AddDays(-9));
        Presence.AfterRestart(away, Noon).ShouldBe(away);
        away.Settle(Noon, Noon.AddDays(1)).ShouldBe(away);
    }

    [Theory]
    [InlineData("Saltmarsh Ferry/Quay", "Saltmarsh Ferry", true)]
    [InlineData("Saltmarsh Ferry/Quay", "saltmarsh ferry/quay", true)]
    [InlineData("Saltmarsh Ferry/Quay", "Saltmarsh Ferry/Quay/Office", false)]
    [InlineData("Saltmarsh Ferrymen", "Saltmarsh Ferry", false)]
    public void A_group_reaches_what_is_below_it(string path, string ancestor, bool expected) =>
        GroupPath.IsAtOrBelow(path, ancestor).ShouldBe(expected);
}
