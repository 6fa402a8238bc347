using System.Net;
using Umbrek.Core.Estate;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Tests.Estate;

public sealed class EstateTests
{
    [Fact]
    public async Task A_host_is_linked_within_the_hello_and_lost_when_its_line_breaks()
    {
        await using var service = await TestService.StartAsync();
        var host = await service.LinkAsync("plover-log-01");
        (await service.HostAsync("plover-log-01")).Presence.State.ShouldBe(PresenceState.Linked);
        await host.DisposeAsync();
        await Wait.UntilAsync(async () => (await service.HostAsync("plover-log-01")).Presence.State == PresenceState.Away, "the host to be away");
        (await service.HostAsync("plover-log-01")).Presence.Reason.ShouldBe(AwayReason.LostContact);
    }

    [Fact]
    public async Task A_restart_of_the_service_expects_linked_hosts_back_and_keeps_what_is_known()
    {
        await using var service = await TestService.StartAsync();
        await using var host = await service.LinkAsync("plover-log-01");
        await host.SendFactsAsync(default);
        await host.SendSampleAsync(default);
        await Wait.UntilAsync(async () => (await service.HostAsync("plover-log-01")) is { Os: not null, ProcessorPercent: not null, Address: not "127.0.0.1" }, "facts and a sample");
        var before = await service.HostAsync("plover-log-01");
        await service.RestartAsync();
        var after = await service.HostAsync("plover-log-01");
        after.Presence.State.ShouldBe(PresenceState.Returning);
        (after.Os, after.ProcessorPercent, after.Address).ShouldBe((before.Os, before.ProcessorPercent, before.Address));
        await host.ConnectAsync(default);
        (await service.HostAsync("plover-log-01")).Presence.State.ShouldBe(PresenceState.Linked);
    }

    [Fact]
    public async Task Pages_of_a_listing_hold_every_host_once()
    {
        await using var service = await TestService.StartAsync();
        var token = await service.NewTokenAsync();
        for (var i = 0; i < 7; i++)
        {
            await service.EnrolAsync($"visitor-screen-{i:00}", token);
        }
        var names = new List<string>();
        string? cursor = null;
        do
        {
            var page = await service.Api.GetAsync($"hosts?limit=3{(cursor is null ? "" : $"&cursor={cursor}")}", WireJson.Default.PageHostSummary, default);
            page.Total.ShouldBe(7);
            names.AddRange(page.Items.Select(h => h.Label));
            cursor = page.NextCursor;
        }
        while (cursor is not null);
        names.ShouldBe(Enumerable.Range(0, 7).Select(i => $"visitor-screen-{i:00}"));
    }

    [Fact]
    public async Task The_second_of_two_people_who_edit_a_host_is_told()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        var id = (await service.HostAsync("quay-ticket-01")).Id;
        var read = await service.Api.GetAsync($"hosts/{id}", WireJson.Default.HostDetail, default);
        var changed = await service.Api.PatchAsync($"hosts/{id}", new HostChange(Label: "Ticket desk, left"), read.Version, WireJson.Default.HostChange, WireJson.Default.HostDetail, default);
        (changed.Summary.Label, changed.Summary.SystemName).ShouldBe(("Ticket desk, left", "quay-ticket-01"));
        var e = await Should.ThrowAsync<ApiException>(() => service.Api.PatchAsync($"hosts/{id}", new HostChange(Label: "Desk 1"), read.Version, WireJson.Default.HostChange, WireJson.Default.HostDetail, default));
        e.Problem.Status.ShouldBe((int)HttpStatusCode.PreconditionFailed);
        (await service.SendAsync(HttpMethod.Patch, $"/api/v1/hosts/{id}", """{"label":"x"}""")).Status.ShouldBe(HttpStatusCode.PreconditionRequired);
        var moved = await service.Api.PatchAsync($"hosts/{id}", new HostChange(GroupPath: "Copperbeech Libraries"), changed.Version, WireJson.Default.HostChange, WireJson.Default.HostDetail, default);
        moved.Summary.GroupPath.ShouldBe("Copperbeech Libraries");
    }

    [Theory]
    [InlineData("Quay", "Saltmarsh Ferry", "already")]
    [InlineData("QUAY", "saltmarsh ferry", "already")]
    [InlineData("a/b", null, "holds no '/'")]
    [InlineData("  ", null, "empty")]
    [InlineData("x\u202ey", null, "invisible")]
    [InlineData("x", "Nowhere", "no group")]
    public async Task Groups_that_would_confuse_are_refused(string name, string? parent, string word)
    {
        await using var service = await TestService.StartAsync();
        var e = await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("groups", new NewGroup(name, parent), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default));
        e.Message.ShouldContain(word);
    }
}
