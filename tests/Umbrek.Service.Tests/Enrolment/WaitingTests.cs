using Umbrek.Agent.Enrolment;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Simulation.Links;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Tests.Enrolment;

/// <summary>Enrolments that wait for a person, machines that come again, and copies.</summary>
public sealed class WaitingTests
{
    [Fact]
    public async Task With_approval_hosts_wait_and_come_in_or_not_as_a_person_decides()
    {
        await using var service = await TestService.StartAsync();
        var installer = await service.NewInstallerAsync(new NewInstaller(TestService.Group, ApprovalNeeded: true));
        var (let, letHost) = await service.EnrolAsync("quay-ticket-05", installer.Token);
        var (not, notHost) = await service.EnrolAsync("quay-ticket-06", installer.Token);
        (await service.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Total.ShouldBe(0);
        await using var letLink = new LightHost(let, letHost, TimeProvider.System);
        await using var notLink = new LightHost(not, notHost, TimeProvider.System);
        (await RefusedAsync(letLink)).ShouldBe(LinkRefusal.AwaitingApproval);

        var waiting = await service.WaitingAsync();
        waiting.Select(w => w.SystemName).ShouldBe(["quay-ticket-06", "quay-ticket-05"]);
        waiting.ShouldAllBe(w => w.Why == WaitingReason.ApprovalNeeded && w.Address == "127.0.0.1");
        (await service.DecideAsync(EnrolmentDecision.Approve, waiting[1].Id))[0].DecidedBy.ShouldBe(TestService.Name);
        await service.DecideAsync(EnrolmentDecision.Reject, waiting[0].Id);

        await letLink.ConnectAsync(default);
        (await service.HostAsync("quay-ticket-05")).Presence.State.ShouldBe(PresenceState.Linked);
        (await RefusedAsync(notLink)).ShouldBe(LinkRefusal.EnrolmentRejected);
        var used = (await service.Api.GetAsync($"installers/{installer.Info.Id}", WireJson.Default.InstallerDetail, default)).Enrolments;
        used.Select(u => u.State).ShouldBe([EnrolmentState.Rejected, EnrolmentState.Joined]);

        var again = await Should.ThrowAsync<ApiException>(() => service.DecideAsync(EnrolmentDecision.Approve, waiting[0].Id));
        again.Problem.Status.ShouldBe(409);
        again.Message.ShouldContain("does not wait any more");
    }

    [Fact]
    public async Task Many_are_decided_at_once_or_none()
    {
        await using var service = await TestService.StartAsync();
        var installer = await service.NewInstallerAsync(new NewInstaller(TestService.Group, ApprovalNeeded: true));
        foreach (var n in Enumerable.Range(1, 5))
        {
            await service.EnrolAsync($"quay-ticket-{n:00}", installer.Token);
        }
        var ids = (await service.WaitingAsync()).Select(w => w.Id).ToArray();
        await Should.ThrowAsync<ApiException>(() => service.DecideAsync(EnrolmentDecision.Approve, [.. ids, Guid.NewGuid()]));
        await Should.ThrowAsync<ApiException>(() => service.DecideAsync(EnrolmentDecision.TakeOver, ids));
        (await service.WaitingAsync()).Count.ShouldBe(5);
        (await service.DecideAsync(EnrolmentDecision.Approve, ids)).Count.ShouldBe(5);
        (await service.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Total.ShouldBe(5);
    }

    [Fact]
    public async Task The_same_machine_again_is_offered_the_entry_that_is_away_and_goes_on_under_it()
    {
        await using var service = await TestService.StartAsync();
        Guid before;
        await using (var first = await service.LinkAsync("tidewell-kiosk"))
        {
            before = (await service.HostAsync("tidewell-kiosk")).Id;
        }
        await Wait.UntilAsync(async () => (await service.HostAsync("tidewell-kiosk")).Presence.State == PresenceState.Away, "it to be away");
        service.Forget("tidewell-kiosk");

        var (identity, host) = await service.EnrolAsync("tidewell-kiosk");
        var waiting = (await service.WaitingAsync()).Single();
        waiting.Why.ShouldBe(WaitingReason.SameMachine);
        waiting.SameAs.ShouldNotBeNull().HostId.ShouldBe(before);
        waiting.SameAs.Linked.ShouldBeFalse();
        await using var link = new LightHost(identity, host, TimeProvider.System);
        (await RefusedAsync(link)).ShouldBe(LinkRefusal.AwaitingApproval);

        await service.DecideAsync(EnrolmentDecision.TakeOver, waiting.Id);
        await link.ConnectAsync(default);
        link.LastWelcome!.HostId.ShouldBe(before);
        var only = (await service.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items.Single();
        only.Id.ShouldBe(before);
        only.Presence.State.ShouldBe(PresenceState.Linked);
        await using var later = new LightHost(identity with { HostId = before }, host, TimeProvider.System);
        await later.ConnectAsync(default);
        await service.RestartAsync();
        await link.ConnectAsync(default);
    }

    [Fact]
    public async Task Two_machines_with_one_identity_are_noticed_and_the_copy_takes_one_of_its_own()
    {
        await using var service = await TestService.StartAsync();
        var (identity, host) = await service.EnrolAsync("orrin-desk-01");
        await using var original = new LightHost(identity, host, TimeProvider.System);
        await original.ConnectAsync(default);
        await using var copy = new LightHost(identity, host, TimeProvider.System, bootId: "11112222333344445555666677778888", hardwareId: "aaaabbbb-1111-2222-3333-444455556666");
        (await RefusedAsync(copy)).ShouldBe(LinkRefusal.ClonedIdentity);
        original.IsLinked.ShouldBeTrue();

        using var directory = new TestDirectory();
        var enroller = new Enroller(new Umbrek.Agent.Hosting.StateDirectory(directory.Path), new Simulation.Estate.SimulatedPlatform(host, TimeProvider.System));
        new Umbrek.Agent.Hosting.StateDirectory(directory.Path).Create();
        var own = await enroller.SplitAsync(identity, copy.LastWelcome!.SplitToken!, default);
        own.HostId.ShouldNotBe(identity.HostId);
        own.GroupPath.ShouldBe(identity.GroupPath);
        await using var apart = new LightHost(own, host, TimeProvider.System, bootId: "11112222333344445555666677778888");
        await apart.ConnectAsync(default);
        original.IsLinked.ShouldBeTrue();
        (await service.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Total.ShouldBe(2);

        // The chance was for one machine.
        await Should.ThrowAsync<EnrolmentException>(() => enroller.SplitAsync(identity, copy.LastWelcome.SplitToken!, default));
    }

    [Fact]
    public async Task A_copy_that_came_first_gives_the_identity_back_to_the_machine_that_was_enrolled()
    {
        await using var service = await TestService.StartAsync();
        var (identity, host) = await service.EnrolAsync("orrin-desk-01");
        await using var copy = new LightHost(identity, host, TimeProvider.System, bootId: "11112222333344445555666677778888", hardwareId: "aaaabbbb-1111-2222-3333-444455556666");
        await copy.ConnectAsync(default);
        await using var original = new LightHost(identity, host, TimeProvider.System);
        await original.ConnectAsync(default);
        await Wait.UntilAsync(() => !copy.IsLinked, "the copy to be cut off");
        (await RefusedAsync(copy)).ShouldBe(LinkRefusal.ClonedIdentity);
    }

    [Fact]
    public async Task A_machine_that_restarted_before_it_was_missed_is_no_copy()
    {
        await using var service = await TestService.StartAsync();
        var (identity, host) = await service.EnrolAsync("orrin-desk-01");
        var before = new LightHost(identity, host, TimeProvider.System);
        await before.ConnectAsync(default);
        await before.DisposeAsync();
        await using var after = new LightHost(identity, host, TimeProvider.System, bootId: "11112222333344445555666677778888");
        await after.ConnectAsync(default);
        after.IsLinked.ShouldBeTrue();
    }

    private static async Task<LinkRefusal> RefusedAsync(LightHost host)
    {
        await Should.ThrowAsync<InvalidOperationException>(() => host.ConnectAsync(default));
        return host.LastWelcome!.Refusal;
    }
}
