using Umbrek.Agent.Access;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Tests.Jobs;

/// <summary>Who sees the processes of a host, and what is done with them: the real agent, through channels and jobs of a real service.</summary>
public sealed class ProcessTests
{
    private const string Key = "harbour lamp seven gulls";
    private static readonly ViewWish Quick = new(0.5);

    [Fact]
    public async Task Processes_are_seen_as_they_change_and_that_somebody_looked_stands_in_the_audit_log()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var (socket, _) = await OpenAsync(service.Api, await SessionAsync(service.Api, agent.Id), Quick);
        using var open = socket;
        var frames = ViewWord.Frames(socket);
        var first = (await frames.ReceiveAsync(default))!.Changes!;
        first.Reset.ShouldBeTrue();
        var reading = first.Apply(null);
        var kiosk = reading.Processes.Single(p => p.Name == "kiosk-shell");
        kiosk.User.ShouldBe("kiosk");
        (await service.Api.GetAsync("audit?action=process.look", WireJson.Default.PageAuditInfo, default)).Items.ShouldHaveSingleItem().Target.ShouldContain("quay-ticket-01");

        // Ended by a job, it is gone from what is seen.
        var job = await RunAsync(service.Api, new HostAction { End = new EndProcesses(new ProcessChoice([new ProcessMark(kiosk.Pid, kiosk.Start, kiosk.Name)], reading.Boot)) });
        job.CommandText.ShouldBe($"end kiosk-shell ({kiosk.Pid})");
        while (reading.Processes.Any(p => p.Pid == kiosk.Pid))
        {
            var changes = (await frames.ReceiveAsync(default))!.Changes!;
            changes.Reset.ShouldBeFalse();
            reading = changes.Apply(reading);
        }
        reading.Processes.Single(p => p.Pid == 1).ProcessorPercent.ShouldNotBeNull();
        (await service.Api.GetAsync("audit?action=job.create", WireJson.Default.PageAuditInfo, default)).Items.ShouldHaveSingleItem().Detail.ShouldContain("end kiosk-shell");
    }

    [Fact]
    public async Task Without_the_permission_or_with_nonsense_there_is_nothing_to_see()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await service.Api.PostAsync("roles", new NewRole("shell only", [Permission.See, Permission.Shell]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var priya = await service.JoinedByAsync("Priya Lund", "shell only");
        var hers = await SessionAsync(priya, agent.Id);
        (await Should.ThrowAsync<ApiException>(() => OpenAsync(priya, hers, Quick))).Message.ShouldContain("run commands on quay-ticket-01");
        (await Should.ThrowAsync<ApiException>(() => RunAsync(priya, new HostAction { Find = new FindProcesses("kiosk") }))).Problem.Status.ShouldBe(403);
        var own = await SessionAsync(service.Api, agent.Id);
        foreach (var seconds in new[] { 0, 0.1, 61, double.MaxValue })
        {
            (await Should.ThrowAsync<ApiException>(() => OpenAsync(service.Api, own, new ViewWish(seconds)))).Message.ShouldContain("0.5 to 60 seconds");
        }
        (await Should.ThrowAsync<ApiException>(() => RunAsync(service.Api, new HostAction()))).Message.ShouldContain("Say one thing");
        (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("scripts", new NewScript("End it", new CommandSpec { Action = new HostAction { Find = new FindProcesses("x") } }), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default))).Message.ShouldContain("no script");
    }

    [Fact]
    public async Task The_host_itself_decides_who_looks()
    {
        await using var service = await TestService.StartAsync();
        await using var closed = await RunningAgent.StartAsync(service, "quay-ticket-02", state => HostLimit.Write(state.LimitFile, new HostPolicyPart(Allowed: [HostAct.Shell])));
        (await HearAsync(service.Api, await SessionAsync(service.Api, closed.Id))).Problem!.ShouldContain("does not allow commands, nor to look at what runs");

        await using var guarded = await RunningAgent.StartAsync(service, "quay-ticket-01", state =>
        {
            HostLimit.Write(state.LimitFile, new HostPolicyPart(KeyFor: [HostAct.Run]));
            new HostKeys(state, null, TimeProvider.System).Set(KeptKey.Of(Key, service.Get<Umbrek.Service.Hosting.ServiceKey>().Sha256));
        });
        var session = await SessionAsync(service.Api, guarded.Id);
        (await HearAsync(service.Api, session)).Problem!.ShouldContain("asks for its access key");
        var door = await HostDoor.OpenAsync(service.Api, null, guarded.Id, ChannelBinding.AccessKey, Key, default);
        (await HearAsync(service.Api, door.Session, door.Seal(Quick))).Changes!.Reset.ShouldBeTrue();
        (await Should.ThrowAsync<ApiException>(() => HearAsync(service.Api, door.Session, door.Seal(new ViewWish(1))))).Message.ShouldContain("is not what is asked for");
        // A seal for a command is none for a look.
        (await Should.ThrowAsync<ApiException>(() => HearAsync(service.Api, door.Session, door.Seal(new CommandSpec { Line = "true" })))).Message.ShouldContain("is not what is asked for");
        await service.Api.PostAsync("secrets", new NewSecret(SecretKind.AccessKey, Key, HostId: guarded.Id), WireJson.Default.NewSecret, WireJson.Default.SecretInfo, default);
        (await HearAsync(service.Api, session, usesVault: true)).Changes!.Reset.ShouldBeTrue();
    }

    [Fact]
    public async Task Hosts_say_which_of_them_run_something()
    {
        await using var service = await TestService.StartAsync();
        await using var one = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await using var other = await RunningAgent.StartAsync(service, "quay-ticket-02", story: Umbrek.Simulation.Estate.HostStory.PrinterStopped);
        var job = await RunAsync(service.Api, new HostAction { Find = new FindProcesses("ticket-print") });
        var answers = await service.Api.GetAsync($"jobs/{job.Id}/answers", WireJson.Default.JobAnswers, default);
        answers.Folds.Count.ShouldBe(2);
        (await service.Api.GetAsync($"jobs/{job.Id}/search?text=Nothing%20runs", WireJson.Default.FoundLines, default)).Lines.ShouldHaveSingleItem().HostLabel.ShouldBe("quay-ticket-02");
        var ended = await RunAsync(service.Api, new HostAction { End = new EndProcesses(new ProcessChoice(Program: "kiosk-shell"), Force: true) });
        (await service.Api.GetAsync($"jobs/{ended.Id}/search?text=has%20been%20killed", WireJson.Default.FoundLines, default)).Hosts.ShouldBe(2);
    }

    private static Task<SessionInfo> SessionAsync(ApiClient who, Guid host) =>
        who.PostAsync($"hosts/{host}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);

    private static Task<(System.Net.WebSockets.ClientWebSocket Socket, ChannelTicket Ticket)> OpenAsync(ApiClient who, SessionInfo session, ViewWish wish, SealedOrder? seal = null, bool usesVault = false) =>
        ChannelSocket.OpenAsync(who, null, session.Id, new NewChannel(ChannelKinds.Processes, Seal: seal, UsesVault: usesVault, View: wish), default);

    /// <summary>The first word that says something of processes, or why there are none.</summary>
    private static async Task<ViewWord> HearAsync(ApiClient who, SessionInfo session, SealedOrder? seal = null, bool usesVault = false)
    {
        var (socket, _) = await OpenAsync(who, session, Quick, seal, usesVault);
        using (socket)
        {
            return await ViewWord.Frames(socket).ReceiveAsync(default) ?? throw new InvalidOperationException("The channel closed without a word.");
        }
    }

    private static async Task<JobInfo> RunAsync(ApiClient who, HostAction action)
    {
        var job = await who.PostAsync("jobs", new NewJob("all", new CommandSpec { Action = action }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        await Wait.UntilAsync(async () => (await who.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Job.Runs is var runs && runs.Ended == runs.Total, "all runs to end");
        return job;
    }
}
