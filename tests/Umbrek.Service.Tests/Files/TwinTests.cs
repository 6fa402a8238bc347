using Umbrek.Core.Access;
using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Tests.Files;

/// <summary>The service brings folders of two hosts in step, as far as whoever wants it may.</summary>
public sealed class TwinTests : IAsyncLifetime
{
    private TestService service = null!;
    private RunningAgent first = null!;
    private RunningAgent second = null!;

    public async ValueTask InitializeAsync()
    {
        service = await TestService.StartAsync();
        first = await RunningAgent.StartAsync(service, "quay-ticket-01");
        second = await RunningAgent.StartAsync(service, "quay-ticket-02");
    }

    public async ValueTask DisposeAsync()
    {
        await first.DisposeAsync();
        await second.DisposeAsync();
        await service.DisposeAsync();
    }

    private NewTwin Wish(TwinWay way = TwinWay.OneWay, long? rate = null) => new("board", new TwinPlace(first.Id, new FileName("/srv/board")), new TwinPlace(second.Id, new FileName("/srv/copy")), new TwinRules(way), rate);

    private static Task<TwinInfo> MakeAsync(ApiClient who, NewTwin wish) => who.PostAsync("twins", wish, WireJson.Default.NewTwin, WireJson.Default.TwinInfo, default);

    private static Task<TwinInfo> BeginAsync(ApiClient who, TwinInfo twin, NewTurn? wish = null) => who.PostAsync($"twins/{twin.Id}/turns", wish ?? new NewTurn(), WireJson.Default.NewTurn, WireJson.Default.TwinInfo, default);

    private static Task<TwinInfo> GetAsync(ApiClient who, TwinInfo twin) => who.GetAsync($"twins/{twin.Id}", WireJson.Default.TwinInfo, default);

    private static async Task<TurnInfo> EndedAsync(ApiClient who, TwinInfo twin)
    {
        await Wait.UntilAsync(async () => (await GetAsync(who, twin)).Turn?.EndedAt is not null, "the turn to end");
        return (await GetAsync(who, twin)).Turn!;
    }

    private static async Task<TurnInfo> TurnAsync(ApiClient who, TwinInfo twin, NewTurn? wish = null)
    {
        await BeginAsync(who, twin, wish);
        return await EndedAsync(who, twin);
    }

    /// <summary>A turn that takes minutes, on its way.</summary>
    private static async Task<TwinInfo> SlowAsync(ApiClient who, NewTwin wish)
    {
        var twin = await MakeAsync(who, wish with { Rate = 1024 });
        await BeginAsync(who, twin);
        await Wait.UntilAsync(async () => (await GetAsync(who, twin)).Turn is { State: TurnState.Moving, BytesDone: > 0 }, "some of it to have come");
        return twin;
    }

    /// <summary>The second host keeps to a policy.</summary>
    private async Task LimitAsync(HostPolicyPart policy, Func<HostPolicy, bool> keeps)
    {
        await service.Api.PutAsync($"hosts/{second.Id}/policy", policy, 0, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, default);
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"hosts/{second.Id}/policy", WireJson.Default.PolicyInfo, default)).Side is { } side && keeps(side.InForce), "the host to keep to it");
    }

    private Task<Page<TurnAct>> ActsAsync(TwinInfo twin) => service.Api.GetAsync($"twins/{twin.Id}/acts", WireJson.Default.PageTurnAct, default);

    [Fact]
    public async Task A_turn_brings_the_second_folder_in_step_and_says_what_it_did()
    {
        var twin = await MakeAsync(service.Api, Wish());
        (twin.First.Label, twin.Second.Path.Text, twin.Turn).ShouldBe(("quay-ticket-01", "/srv/copy", null));
        var turn = await TurnAsync(service.Api, twin, new NewTurn(DryRun: true));
        (turn.State, turn.ActsDone, turn.Acts).ShouldBe((TurnState.Done, 0, 3));
        (await ActsAsync(twin)).Items.ShouldAllBe(a => !a.IsDone && a.To == TwinSide.Second);
        turn = await TurnAsync(service.Api, twin);
        (turn.State, turn.ActsDone, turn.Problems, turn.Conflicts).ShouldBe((TurnState.Done, 3, 0, 0));
        turn.BytesDone.ShouldBe(turn.Bytes);
        (await ActsAsync(twin)).Items.Select(a => (a.Path.Text, a.Deed, a.IsDone)).ShouldBe([("index.html", TwinDeed.File, true), ("tides.bin", TwinDeed.File, true), ("today.csv", TwinDeed.Link, true)], ignoreOrder: true);
        turn = await TurnAsync(service.Api, twin);
        (turn.Acts, turn.Same, turn.Bytes).ShouldBe((0, 3, 0));
        (await service.Api.GetAsync("sessions?live=true", WireJson.Default.PageSessionInfo, default)).Items.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_twin_is_its_makers_and_takes_what_is_read_and_what_is_written()
    {
        var twin = await MakeAsync(service.Api, Wish());
        var other = await service.JoinedByAsync("Jonas Pell");
        (await Should.ThrowAsync<ApiException>(() => GetAsync(other, twin))).Problem.Word.ShouldBe(ProblemTypes.NotFound);
        (await Should.ThrowAsync<ApiException>(() => BeginAsync(other, twin))).Problem.Word.ShouldBe(ProblemTypes.NotFound);
        (await other.GetAsync("twins", WireJson.Default.ListTwinInfo, default)).ShouldBeEmpty();
        // Of the same name, but another's.
        (await MakeAsync(other, Wish())).Name.ShouldBe("board");
        (await Should.ThrowAsync<ApiException>(() => MakeAsync(other, Wish()))).Message.ShouldContain("'board' already");
        await service.Api.PostAsync("roles", new NewRole("readers", [Permission.See, Permission.ReadFiles]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        var reader = await service.JoinedByAsync("Wanda Pell", "readers");
        (await Should.ThrowAsync<ApiException>(() => MakeAsync(reader, Wish()))).Problem.Word.ShouldBe(ProblemTypes.NotAllowed);
        var stranger = await service.JoinedByAsync("Elin Moss", group: null);
        (await Should.ThrowAsync<ApiException>(() => MakeAsync(stranger, Wish()))).Problem.Word.ShouldBe(ProblemTypes.NotAllowed);
    }

    [Theory]
    [InlineData("srv", "/srv/copy", "whole path")]
    [InlineData("/srv", "/srv/", "lies in the other")]
    [InlineData("/srv/board", "/srv", "lies in the other")]
    [InlineData("/srv/board", "/etc/../srv", "has dots")]
    public async Task Folders_that_can_not_be_twins_are_refused(string one, string two, string why) =>
        (await Should.ThrowAsync<ApiException>(() => MakeAsync(service.Api, new NewTwin("a", new TwinPlace(first.Id, new FileName(one)), new TwinPlace(first.Id, new FileName(two)), new TwinRules(TwinWay.OneWay))))).Message.ShouldContain(why);

    [Fact]
    public async Task Rules_that_say_nothing_are_refused()
    {
        foreach (var (wish, why) in new[]
        {
            (Wish() with { Name = " " }, "name"),
            (Wish() with { Rate = 10 }, "at least"),
            (Wish() with { Rules = new TwinRules(TwinWay.OneWay, Leaves: ["/tmp"]) }, "names nothing below"),
            (Wish() with { Rules = new TwinRules(TwinWay.OneWay, Leaves: [new string('*', 20)]) }, "stars"),
            (Wish() with { Rules = null! }, "which way"),
            (Wish() with { First = null! }, "two folders"),
        })
        {
            (await Should.ThrowAsync<ApiException>(() => MakeAsync(service.Api, wish))).Message.ShouldContain(why);
        }
    }

    [Fact]
    public async Task Whoever_signs_out_leaves_no_turn_behind()
    {
        var who = await service.JoinedByAsync("Jonas Pell");
        var twin = await SlowAsync(who, Wish());
        await who.ActAsync(HttpMethod.Post, "sign-out", default);
        who = await service.SignInAsync("Jonas Pell");
        var turn = await EndedAsync(who, twin);
        (turn.State, turn.Reason).ShouldBe((TurnState.Cancelled, "its technician's sign-in ended"));
    }

    [Fact]
    public async Task Whoever_may_no_longer_loses_his_turn()
    {
        var who = await service.JoinedByAsync("Jonas Pell", group: null);
        var grant = await service.GrantAsync("Jonas Pell", "technician", TestService.Group);
        var twin = await SlowAsync(who, Wish());
        await service.GrantAsync("Jonas Pell", "viewer", TestService.Group);
        await service.Api.ActAsync(HttpMethod.Delete, $"grants/{grant.Id}", default);
        await Wait.UntilAsync(async () => (await service.Api.GetAsync("audit?action=twin.turn-end", WireJson.Default.PageAuditInfo, default)).Items.Count == 1, "the turn to end");
        await service.GrantAsync("Jonas Pell", "technician", TestService.Group);
        var turn = await EndedAsync(who, twin);
        (turn.State, turn.Reason!.Contains("You may not", StringComparison.Ordinal)).ShouldBe((TurnState.Failed, true), turn.Reason);
        // The session went with what it was for, though he may still do something else there.
        (await service.Api.GetAsync("sessions", WireJson.Default.PageSessionInfo, default)).Items.ShouldAllBe(s => s.EndReason == "Jonas Pell may no longer do there what it was for");
    }

    [Fact]
    public async Task A_host_that_does_not_allow_it_says_so_and_nothing_is_done()
    {
        await LimitAsync(new HostPolicyPart([HostAct.ReadFiles]), p => !p.Allowed.Contains(HostAct.WriteFiles));
        var twin = await MakeAsync(service.Api, Wish());
        var turn = await TurnAsync(service.Api, twin);
        turn.State.ShouldBe(TurnState.Failed);
        turn.Reason!.ShouldContain("quay-ticket-02: ");
        turn.ActsDone.ShouldBe(0);
    }

    [Fact]
    public async Task What_a_turn_meant_for_one_folder_leads_out_of_nothing()
    {
        await LimitAsync(new HostPolicyPart(FileRoots: ["/var"]), p => p.FileRoots is ["/var"]);
        var turn = await TurnAsync(service.Api, await MakeAsync(service.Api, Wish()));
        (turn.State, turn.ActsDone).ShouldBe((TurnState.Failed, 0));
    }

    [Fact]
    public async Task A_service_that_restarts_tells_of_what_it_left_and_takes_another_turn()
    {
        var twin = await SlowAsync(service.Api, Wish());
        await service.RestartAsync();
        var turn = await EndedAsync(service.Api, twin);
        (turn.State, turn.Reason!.Contains("went down", StringComparison.Ordinal)).ShouldBe((TurnState.Interrupted, true));
    }

    [Fact]
    public async Task One_turn_at_a_time_and_a_cancelled_one_has_ended_when_that_is_said()
    {
        var twin = await SlowAsync(service.Api, Wish());
        (await Should.ThrowAsync<ApiException>(() => BeginAsync(service.Api, twin))).Message.ShouldContain("goes on already");
        (await Should.ThrowAsync<ApiException>(() => service.Api.ActAsync(HttpMethod.Delete, $"twins/{twin.Id}", default))).Message.ShouldContain("cancel it first");
        await service.Api.ActAsync(HttpMethod.Post, $"twins/{twin.Id}/cancel", default);
        var turn = (await GetAsync(service.Api, twin)).Turn!;
        (turn.State, turn.Reason).ShouldBe((TurnState.Cancelled, $"cancelled by {TestService.Name}"));
        await service.Api.ActAsync(HttpMethod.Delete, $"twins/{twin.Id}", default);
        (await service.Api.GetAsync("twins", WireJson.Default.ListTwinInfo, default)).ShouldBeEmpty();
    }
}
