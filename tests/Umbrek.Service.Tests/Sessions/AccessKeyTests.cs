using Umbrek.Agent.Access;
using Umbrek.Agent.Hosting;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Links;
using Umbrek.Service.Sessions;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Simulation.Estate;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Tests.Sessions;

/// <summary>The fourth lock: the real agent asks for its access key, through channels of a real service.</summary>
public sealed class AccessKeyTests
{
    private const string Key = "harbour lamp seven gulls";
    private static readonly CommandSpec Uname = new() { Line = "uname -r" };

    [Fact]
    public async Task A_host_that_asks_for_its_key_runs_what_is_sealed_by_whoever_has_proven_it_and_nothing_else()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await GuardedAsync(service);
        var (state, reason) = await RunAsync(service, new NewJob("quay-ticket-01", Uname));
        (state, reason).ShouldBe((RunState.Refused, "This host asks for its access key to run commands, and it was not proven. Give it with --access-key or, if the vault keeps it, --from-vault; in the console where the act is begun."));

        var door = await OpenAsync(service, agent.Id, Key);
        (await RunAsync(service, new NewJob("quay-ticket-01", Uname, Seals: [door.Seal(Uname)]))).State.ShouldBe(RunState.Succeeded);

        // The host does what was sealed, so the service takes a seal for nothing else than what it checks and writes down.
        var reboot = new CommandSpec { Line = "reboot" };
        (await Should.ThrowAsync<ApiException>(() => RunAsync(service, new NewJob("quay-ticket-01", reboot, Seals: [door.Seal(Uname)])))).Message.ShouldContain("not what is asked for");
        (await Should.ThrowAsync<ApiException>(() => RunAsync(service, new NewJob("quay-ticket-01", Uname, Seals: [door.Seal(Uname with { User = "root" })])))).Message.ShouldContain("not what is asked for");
        // A seal that was changed, or comes a second time, is none.
        var seal = door.Seal(Uname);
        (await RunAsync(service, new NewJob("quay-ticket-01", reboot, Seals: [seal with { Text = seal.Text.Replace("uname -r", "reboot", StringComparison.Ordinal) }]))).Reason!.ShouldContain("was not sealed by whoever proved");
        (await RunAsync(service, new NewJob("quay-ticket-01", Uname, Seals: [seal]))).State.ShouldBe(RunState.Succeeded);
        (await RunAsync(service, new NewJob("quay-ticket-01", Uname, Seals: [seal]))).Reason!.ShouldContain("a second time");

        await door.EndAsync(service.Api, default);
        (await Should.ThrowAsync<ApiException>(() => RunAsync(service, new NewJob("quay-ticket-01", Uname, Seals: [door.Seal(Uname)])))).Message.ShouldContain("has ended");
    }

    [Fact]
    public async Task A_service_that_lies_about_a_proof_opens_nothing()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await GuardedAsync(service);
        var door = await OpenAsync(service, agent.Id, Key);
        var links = service.Get<IAgentLinks>();
        // An order that the service makes up, in the name of the session that was proven.
        var made = SealedOrder.Make(new byte[32], door.Session.Id, 1, HostAct.Run, """{"line":"reboot"}""");
        await links.SendAsync(agent.Id, ToAgent.StartRun, new RunOrder(Guid.CreateVersion7(), Guid.CreateVersion7(), DateTimeOffset.UtcNow, new CommandSpec { Line = "reboot" }, "nobody", made), default);
        await Wait.UntilAsync(() => agent.Said.Contains("refused: The order was not sealed", StringComparison.Ordinal), "the agent to refuse it");
        // A channel for a session that nobody opened proves nothing either: there is nobody at its other end.
        await links.SendAsync(agent.Id, ToAgent.OpenChannel, new ChannelOrder(Guid.CreateVersion7(), Guid.CreateVersion7(), ChannelKinds.Key, "no ticket", "nobody"), default);
        await Wait.UntilAsync(() => agent.Said.Contains("the channel 'key' for nobody ended", StringComparison.Ordinal), "the agent to say that nobody was there");
    }

    [Fact]
    public async Task Five_wrong_keys_bar_everybody_for_a_time_also_after_the_agent_starts_anew()
    {
        await using var service = await TestService.StartAsync();
        StateDirectory state;
        await using (var agent = await GuardedAsync(service))
        {
            state = agent.State;
            for (var i = 0; i < Lockout.Free; i++)
            {
                (await Should.ThrowAsync<DoorException>(() => OpenAsync(service, agent.Id, "harbour lamp eight gulls"))).Message.ShouldBe("The access key is wrong.");
            }
            (await Should.ThrowAsync<DoorException>(() => OpenAsync(service, agent.Id, Key))).Message.ShouldContain("takes no proof for");
            // Each refusal stands in the audit log with whose it was.
            await Wait.UntilAsync(async () => (await service.Api.GetAsync("audit?action=access-key.refuse", WireJson.Default.PageAuditInfo, default)).Total == Lockout.Free + 1, "the refusals to be told");
            var lines = (await service.Api.GetAsync("audit?action=access-key.refuse", WireJson.Default.PageAuditInfo, default)).Items;
            (lines[^1].Actor, lines[^1].Target).ShouldBe((TestService.Name, "quay-ticket-01 in Saltmarsh Ferry/Quay"));
            lines[^1].Detail.ShouldContain("The access key is wrong.");
            lines[0].Detail.ShouldContain("takes no proof for");
        }
        await using var again = await RunningAgent.StartAsync(service, "quay-ticket-01");
        (await Should.ThrowAsync<DoorException>(() => OpenAsync(service, again.Id, Key))).Message.ShouldContain("5 wrong ones came in a row");
        // Its owner lifts that, beside the running agent.
        new HostKeys(state, null, TimeProvider.System).Unlock();
        await OpenAsync(service, again.Id, Key);
    }

    [Fact]
    public async Task A_passcode_for_once_opens_one_session_and_makes_no_permanent_key()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await GuardedAsync(service);
        var keys = new HostKeys(agent.State, null, TimeProvider.System);
        keys.Set(new KeptPasscode(KeptKey.Of("visit-to-day-onceonly", service.Get<Umbrek.Service.Hosting.ServiceKey>().Sha256), null, Once: true, null));
        var identity = Umbrek.Agent.Enrolment.AgentIdentity.Load(agent.State)!;
        (await Should.ThrowAsync<DoorException>(() => HostDoor.ChangeKeyAsync(service.Api, null, identity.HostId, "visit-to-day-onceonly", "another long enough key", false, default))).Message.ShouldBe("The access key is wrong.");

        var door = await OpenAsync(service, agent.Id, "visit-to-day-onceonly", ChannelBinding.Passcode);
        (await RunAsync(service, new NewJob("quay-ticket-01", Uname, Seals: [door.Seal(Uname)]))).State.ShouldBe(RunState.Succeeded);
        (await Should.ThrowAsync<DoorException>(() => OpenAsync(service, agent.Id, "visit-to-day-onceonly", ChannelBinding.Passcode))).Message.ShouldContain("used up or over");
    }

    [Fact]
    public async Task Another_key_is_set_by_whoever_knows_the_one_there_is_and_ends_open_sessions_on_request()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await GuardedAsync(service);
        var door = await OpenAsync(service, agent.Id, Key);
        (await Should.ThrowAsync<DoorException>(() => HostDoor.ChangeKeyAsync(service.Api, null, agent.Id, null, "another long enough key", false, default))).Message.ShouldBe("The host has an access key already. Give it, to set another.");
        await HostDoor.ChangeKeyAsync(service.Api, null, agent.Id, Key, "another long enough key", false, default);
        (await RunAsync(service, new NewJob("quay-ticket-01", Uname, Seals: [door.Seal(Uname)]))).State.ShouldBe(RunState.Succeeded);
        await Should.ThrowAsync<DoorException>(() => OpenAsync(service, agent.Id, Key));

        await HostDoor.ChangeKeyAsync(service.Api, null, agent.Id, "another long enough key", "and a third one for today", endSessions: true, default);
        await EndedAsync(service, door.Session.Id, "the host's access key was changed, and open sessions ended with it");
        await OpenAsync(service, agent.Id, "and a third one for today");
    }

    [Fact]
    public async Task The_first_key_is_set_from_afar_and_the_same_key_on_two_hosts_is_noticed()
    {
        await using var service = await TestService.StartAsync();
        await using var one = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await using var other = await RunningAgent.StartAsync(service, "quay-ticket-02");
        await HostDoor.ChangeKeyAsync(service.Api, null, one.Id, null, Key, false, default);
        await HostDoor.ChangeKeyAsync(service.Api, null, other.Id, null, Key, false, default);
        Umbrek.Wire.Access.PolicyInfo? told = null;
        await Wait.UntilAsync(async () => (told = await service.Api.GetAsync($"hosts/{one.Id}/policy", WireJson.Default.PolicyInfo, default)).SameKeyAs is { Count: > 0 }, "the same key to be noticed");
        told!.SameKeyAs.ShouldBe(["quay-ticket-02"]);
        told.Side!.KeyMark.ShouldBeNull();
        await HostDoor.ChangeKeyAsync(service.Api, null, other.Id, Key, "another long enough key", false, default);
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"hosts/{one.Id}/policy", WireJson.Default.PolicyInfo, default)).SameKeyAs is { Count: 0 }, "the keys to differ");
    }

    [Fact]
    public async Task A_session_ends_with_the_grant_or_the_sign_in_that_it_rests_on()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await GuardedAsync(service);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        using var odile = await service.JoinedByAsync("Odile Marsh", endsAt: null);
        var his = await HostDoor.OpenAsync(tomasz, null, agent.Id, ChannelBinding.AccessKey, Key, default);
        var hers = await HostDoor.OpenAsync(odile, null, agent.Id, ChannelBinding.AccessKey, Key, default);
        (await service.Api.GetAsync("sessions?live=true", WireJson.Default.PageSessionInfo, default)).Items.Select(s => s.Technician).Order().ShouldBe(["Odile Marsh", "Tomasz Vail"]);

        var grant = (await service.Api.GetAsync("grants", WireJson.Default.PageGrantInfo, default)).Items.Single(g => g.Holder == "Tomasz Vail");
        await service.Api.ActAsync(HttpMethod.Delete, $"grants/{grant.Id}", default);
        await EndedAsync(service, his.Session.Id, "Tomasz Vail may do nothing there any more");
        (await service.Api.GetAsync($"sessions/{hers.Session.Id}", WireJson.Default.SessionInfo, default)).EndedAt.ShouldBeNull();

        await odile.ActAsync(HttpMethod.Post, "sign-out", default);
        await EndedAsync(service, hers.Session.Id, "its sign-in ended");
        (await service.Api.GetAsync("audit?action=session.end", WireJson.Default.PageAuditInfo, default)).Total.ShouldBe(2);
    }

    [Fact]
    public async Task A_contractors_session_ends_when_his_grant_does_and_anybodys_when_nothing_happens()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time);
        await using var agent = await GuardedAsync(service);
        using var odile = await service.JoinedByAsync("Odile Marsh", endsAt: time.GetUtcNow().AddMinutes(10));
        var his = await HostDoor.OpenAsync(odile, null, agent.Id, ChannelBinding.AccessKey, Key, default);
        var own = await OpenAsync(service, agent.Id, Key);
        time.Advance(TimeSpan.FromMinutes(11));
        await EndedAsync(service, his.Session.Id, "Odile Marsh may do nothing there any more");
        (await Should.ThrowAsync<ApiException>(() => RunAsync(service, new NewJob("quay-ticket-01", Uname, Seals: [his.Seal(Uname)]), odile))).Problem.Status.ShouldBe(403);
        (await RunAsync(service, new NewJob("quay-ticket-01", Uname, Seals: [own.Seal(Uname)]))).State.ShouldBe(RunState.Succeeded);
        time.Advance(SessionService.Idle);
        await Wait.UntilAsync(async () =>
        {
            time.Advance(TimeSpan.FromMinutes(1));
            return (await service.Api.GetAsync($"sessions/{own.Session.Id}", WireJson.Default.SessionInfo, default)).EndReason == "nothing happened for 30 min";
        }, "the idle session to end");
    }

    [Fact]
    public async Task A_session_ends_with_the_token_that_it_was_opened_with()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time);
        await using var agent = await GuardedAsync(service);
        var made = await service.Api.PostAsync("me/tokens", new Umbrek.Wire.Access.NewToken("report", [Permission.See, Permission.Run], time.GetUtcNow().AddMinutes(3), TestService.Password), WireJson.Default.NewToken, WireJson.Default.TokenAnswer, default);
        using var script = new ApiClient(service.Address, null, made.Token);
        var door = await HostDoor.OpenAsync(script, null, agent.Id, ChannelBinding.AccessKey, Key, default);
        await Wait.UntilAsync(async () =>
        {
            time.Advance(TimeSpan.FromMinutes(1));
            return (await service.Api.GetAsync($"sessions/{door.Session.Id}", WireJson.Default.SessionInfo, default)).EndReason == "its sign-in is over";
        }, "the session to end with its token");
    }

    [Fact]
    public async Task A_session_is_its_technicians_own_and_ended_by_him_or_by_who_administers()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await GuardedAsync(service);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        using var priya = await service.JoinedByAsync("Priya Lund", "viewer");
        using var far = await service.JoinedByAsync("Odile Marsh", group: "Copperbeech Libraries");
        var door = await HostDoor.OpenAsync(tomasz, null, agent.Id, ChannelBinding.AccessKey, Key, default);
        var channels = $"sessions/{door.Session.Id}/channels";
        (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync(channels, new NewChannel(ChannelKinds.Key), WireJson.Default.NewChannel, WireJson.Default.ChannelTicket, default))).Message.ShouldContain("a session of Tomasz Vail");
        (await Should.ThrowAsync<ApiException>(() => tomasz.PostAsync(channels, new NewChannel("telepathy"), WireJson.Default.NewChannel, WireJson.Default.ChannelTicket, default))).Message.ShouldContain("no channel 'telepathy'");
        (await Should.ThrowAsync<ApiException>(() => tomasz.PostAsync(channels, new NewChannel(ChannelKinds.NewKey), WireJson.Default.NewChannel, WireJson.Default.ChannelTicket, default))).Message.ShouldContain("'administer'");
        (await Should.ThrowAsync<ApiException>(() => far.GetAsync($"sessions/{door.Session.Id}", WireJson.Default.SessionInfo, default))).Problem.Word.ShouldBe(ProblemTypes.NotFound);
        (await Should.ThrowAsync<ApiException>(() => priya.ActAsync(HttpMethod.Post, $"sessions/{door.Session.Id}/end", default))).Message.ShouldContain("'administer'");
        // Another's session seals nothing for the one who asks.
        (await Should.ThrowAsync<ApiException>(() => RunAsync(service, new NewJob("quay-ticket-01", Uname, Seals: [door.Seal(Uname)])))).Message.ShouldContain("has ended");
        await service.Api.ActAsync(HttpMethod.Post, $"sessions/{door.Session.Id}/end", default);
        await EndedAsync(service, door.Session.Id, "ended by Ines Okafor");
    }

    private static async Task<RunningAgent> GuardedAsync(TestService service) => await RunningAgent.StartAsync(service, "quay-ticket-01", state =>
    {
        HostLimit.Write(state.LimitFile, new HostPolicyPart(KeyFor: [HostAct.Run]));
        new HostKeys(state, null, TimeProvider.System).Set(KeptKey.Of(Key, service.Get<Umbrek.Service.Hosting.ServiceKey>().Sha256));
    });

    private static Task<HostDoor> OpenAsync(TestService service, Guid host, string key, string name = ChannelBinding.AccessKey) => HostDoor.OpenAsync(service.Api, null, host, name, key, default);

    private static Task EndedAsync(TestService service, Guid session, string why) => Wait.UntilAsync(
        async () => (await service.Api.GetAsync($"sessions/{session}", WireJson.Default.SessionInfo, default)).EndReason == why, $"the session to end: {why}");

    internal static async Task<(RunState State, string? Reason)> RunAsync(TestService service, NewJob wish, ApiClient? who = null)
    {
        var api = who ?? service.Api;
        var job = await api.PostAsync("jobs", wish, WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        RunInfo? run = null;
        await Wait.UntilAsync(async () => (run = (await api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Runs.Single()).State.IsFinal(), "the run to end");
        return (run!.State, run.Reason);
    }
}
