using Umbrek.Core.Access;
using Umbrek.Core.Jobs;

namespace Umbrek.Core.Tests.Jobs;

public sealed class PowerTests
{
    [Theory]
    [InlineData(PowerAct.Restart, 0, null, null, null)]
    [InlineData(PowerAct.Restart, 86_400, "a new kernel", null, null)]
    [InlineData(PowerAct.LogOut, 60, null, "elin.marlow", null)]
    [InlineData(PowerAct.Restart, -1, null, null, "from 0 seconds to a day")]
    [InlineData(PowerAct.ShutDown, 86_401, null, null, "from 0 seconds to a day")]
    [InlineData(PowerAct.Sleep, double.NaN, null, null, "from 0 seconds to a day")]
    [InlineData(PowerAct.Lock, 5, null, null, "takes no time before")]
    [InlineData(PowerAct.Restart, 0, " ", null, "1 to 300 characters")]
    [InlineData(PowerAct.Restart, 0, null, "elin", "goes with logging out and locking")]
    [InlineData(PowerAct.LogOut, 0, null, "-elin", "-elin")]
    [InlineData((PowerAct)77, 0, null, null, "no such act")]
    public void What_is_wished_is_looked_at_before_it_is_sent(PowerAct act, double grace, string? message, string? person, string? problem)
    {
        var wish = new PowerWish(act, grace, message, person);
        if (problem is null)
        {
            new CommandSpec { Action = new HostAction { Power = wish } }.Check().ShouldBeNull();
        }
        else
        {
            new CommandSpec { Action = new HostAction { Power = wish } }.Check()!.ShouldContain(problem);
        }
    }

    [Fact]
    public void An_act_names_what_it_is_about()
    {
        const string where = "quay-ticket-03 of Saltmarsh Ferry";
        new PowerWish(PowerAct.Restart).Sentence(where).ShouldBe("Restart quay-ticket-03 of Saltmarsh Ferry");
        new PowerWish(PowerAct.LogOut, Person: "elin").Sentence(where).ShouldBe("Log elin out of quay-ticket-03 of Saltmarsh Ferry");
        new HostAction { Power = new PowerWish(PowerAct.Lock, Person: "elin\e[2J") }.Display().ShouldNotContain('\e');
        new HostAction { Wake = new WakeWish([.. Enumerable.Range(1, 7).Select(n => new WakeTarget($"till-{n}", ["x"]))]) }.Display().ShouldBe("wake till-1, till-2, till-3, till-4, till-5 and 2 more");
    }

    [Fact]
    public void It_counts_as_another_act_than_running_commands()
    {
        new CommandSpec { Line = "reboot" }.ShouldSatisfyAllConditions(c => c.Act.ShouldBe(HostAct.Run), c => c.Needs.ShouldBe(Permission.Run));
        new CommandSpec { Action = new HostAction { Power = new PowerWish(PowerAct.Lock) } }.ShouldSatisfyAllConditions(c => c.Act.ShouldBe(HostAct.Power), c => c.Needs.ShouldBe(Permission.Power));
        // A packet to a neighbour changes nothing on the host that sends it.
        new CommandSpec { Action = new HostAction { Wake = new WakeWish([]) } }.ShouldSatisfyAllConditions(c => c.Act.ShouldBeNull(), c => c.Needs.ShouldBe(Permission.Power));
        new HostAction { Power = new PowerWish(PowerAct.Lock), Find = new FindProcesses("x") }.Check().ShouldBe("Say one thing that the agent is to do.");
    }

    [Fact]
    public void Who_is_to_wake_is_named_with_cards_and_bounded()
    {
        WakeTarget Target(int cards) => new("till", [.. Enumerable.Repeat("52:54:00:12:34:56 10.20.1.15/24", cards)]);
        new WakeWish([Target(1)]).Check().ShouldBeNull();
        new WakeWish([]).Check()!.ShouldContain("1 to 100");
        new WakeWish([.. Enumerable.Repeat(Target(1), 101)]).Check()!.ShouldContain("1 to 100");
        new WakeWish([Target(0)]).Check()!.ShouldContain("'till' can't be woken");
        new WakeWish([Target(9)]).Check()!.ShouldContain("'till' can't be woken");
        new WakeWish([null!]).Check()!.ShouldContain("can't be woken");
    }

    [Fact]
    public void How_far_a_restart_is_put_off_comes_from_the_nearest_place_and_the_host_may_give_more()
    {
        var wanted = PolicyLayers.Fold([new(null, new(PutOffMinutes: 30)), new("Saltmarsh Ferry", new(Consent: ConsentRule.Always)), new("Saltmarsh Ferry/Quay", new(PutOffMinutes: 0))]);
        wanted.PutOffMinutes.ShouldBe(0);
        PolicyLayers.Origins([new(null, new(PutOffMinutes: 30)), new("Saltmarsh Ferry", new())]).PutOff!.Place.ShouldBeNull();
        wanted.NarrowedBy(new(PutOffMinutes: 10)).PutOffMinutes.ShouldBe(10);
        (wanted with { PutOffMinutes = 60 }).NarrowedBy(new(PutOffMinutes: 10)).PutOffMinutes.ShouldBe(60);
        (HostPolicy.Everything with { PutOffMinutes = 0 }).ShouldBe(HostPolicy.Everything);
        (HostPolicy.Everything with { PutOffMinutes = 5 }).ShouldNotBe(HostPolicy.Everything);
        new HostPolicyPart(PutOffMinutes: -1).Normalise().ShouldBeNull();
        (HostPolicy.Everything with { PutOffMinutes = 1441 }).Normalise().ShouldBeNull();
    }
}
