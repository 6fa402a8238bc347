using System.Net;
using Umbrek.Agent.Access;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Links;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Simulation.Estate;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Tests.Access;

/// <summary>The host policy, from a lead's wish to what the real agent does about it.</summary>
public sealed class PolicyTests
{
    private static readonly HostPolicyPart NoCommands = new([HostAct.Watch, HostAct.Control]);

    [Fact]
    public async Task What_a_group_says_reaches_its_hosts_at_once_and_the_agent_keeps_to_it()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var ferry = await GroupAsync(service, "Saltmarsh Ferry");
        var after = await ChangeAsync(service, $"groups/{ferry}/policy", NoCommands);
        (after.Place, after.Version, after.From.Allowed).ShouldBe(("Saltmarsh Ferry", 1, "Saltmarsh Ferry"));
        await InForceAsync(service, agent, p => !p.Allows(HostAct.Run));
        (await RunAsync(service, "quay-ticket-01")).ShouldBe((RunState.Refused, "This host does not allow commands: its host policy leaves them out. Nothing was run."));

        var explained = (await service.Api.GetAsync($"hosts/{agent.Id}/access", WireJson.Default.AccessExplanation, default)).Answers.Single(a => a.Permission == Permission.Run);
        (explained.Allowed, explained.Reason).ShouldBe((false, AccessReason.HostPolicy));

        // A host says otherwise than its group, and then takes that back.
        await ChangeAsync(service, $"hosts/{agent.Id}/policy", new HostPolicyPart([HostAct.Run]));
        await InForceAsync(service, agent, p => p.Allows(HostAct.Run));
        (await RunAsync(service, "quay-ticket-01")).State.ShouldBe(RunState.Succeeded);
        await ChangeAsync(service, $"hosts/{agent.Id}/policy", HostPolicyPart.Inherit, 1);
        await InForceAsync(service, agent, p => !p.Allows(HostAct.Run));
        var places = (await service.Api.GetAsync("policies", WireJson.Default.PagePolicyPlace, default)).Items;
        places.Select(p => (p.Place, p.IsHost)).ShouldBe([("Saltmarsh Ferry", false)]);
    }

    [Fact]
    public async Task A_host_that_is_moved_or_comes_back_has_the_policy_of_where_it_stands()
    {
        await using var service = await TestService.StartAsync();
        await ChangeAsync(service, $"groups/{await GroupAsync(service, "Saltmarsh Ferry/Quay", make: true)}/policy", NoCommands);
        await using (var agent = await RunningAgent.StartAsync(service, "quay-ticket-01"))
        {
            await InForceAsync(service, agent, p => !p.Allows(HostAct.Run));
            await service.Api.PostAsync("groups", new NewGroup("Vessels", "Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
            var detail = await service.Api.GetAsync($"hosts/{agent.Id}", WireJson.Default.HostDetail, default);
            await service.Api.PatchAsync($"hosts/{agent.Id}", new HostChange(GroupPath: "Saltmarsh Ferry/Vessels"), detail.Version, WireJson.Default.HostChange, WireJson.Default.HostDetail, default);
            await InForceAsync(service, agent, p => p.Allows(HostAct.Run));
        }
        // Changed while it is away: it hears of it with its welcome.
        await ChangeAsync(service, "policy", new HostPolicyPart(Consent: ConsentRule.Always));
        await using var again = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await InForceAsync(service, again, p => p.Consent == ConsentRule.Always);
    }

    [Fact]
    public async Task A_service_that_lies_is_refused_by_the_agent()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01", s => HostLimit.Write(s.LimitFile, new HostPolicyPart([HostAct.Watch])));
        // Whatever the service wants, and however it orders: the host's own file counts.
        var links = service.Get<IAgentLinks>();
        await links.SendAsync(agent.Id, ToAgent.WantPolicy, HostPolicy.Everything, default);
        await links.SendAsync(agent.Id, ToAgent.StartRun, new RunOrder(Guid.CreateVersion7(), Guid.CreateVersion7(), DateTimeOffset.UtcNow, new CommandSpec { Line = "uname" }, "nobody"), default);
        (await RunAsync(service, "quay-ticket-01")).ShouldBe((RunState.Refused, "This host does not allow commands: its host policy leaves them out. Nothing was run."));
        agent.Said.ShouldContain("refused: This host does not allow commands");
        var told = await service.Api.GetAsync($"hosts/{agent.Id}/policy", WireJson.Default.PolicyInfo, default);
        told.Wanted.ShouldBe(HostPolicy.Everything);
        told.Side!.InForce.Allowed.ShouldBe([HostAct.Watch]);
        told.Side.Limit.ShouldBe(new HostPolicyPart([HostAct.Watch]));
    }

    [Fact]
    public async Task What_was_agreed_when_the_host_joined_is_in_a_file_on_it_from_then_on()
    {
        await using var service = await TestService.StartAsync();
        var made = await service.NewInstallerAsync(new NewInstaller(TestService.Group, null, null, null, HostPolicy.Everything with { Allowed = [HostAct.Watch] }));
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01", token: made.Token);
        HostLimit.Read(agent.State.LimitFile).ShouldBe(new HostPolicyPart([HostAct.Watch]));
        await InForceAsync(service, agent, p => p.Allowed is [HostAct.Watch]);
    }

    [Fact]
    public async Task Two_who_change_it_at_once_are_told_and_the_audit_log_has_before_and_after()
    {
        await using var service = await TestService.StartAsync();
        await ChangeAsync(service, "policy", NoCommands);
        (await Should.ThrowAsync<ApiException>(() => ChangeAsync(service, "policy", HostPolicyPart.Inherit))).Problem.Word.ShouldBe(ProblemTypes.Changed);
        (await service.SendAsync(HttpMethod.Put, "/api/v1/policy", "{}")).Status.ShouldBe((HttpStatusCode)428);
        (await service.SendAsync(HttpMethod.Put, "/api/v1/policy", """{"allowed":["fly"]}""", adjust: r => r.Headers.Add("If-Match", "\"1\""))).Status.ShouldBe(HttpStatusCode.BadRequest);
        await ChangeAsync(service, "policy", new HostPolicyPart(Consent: ConsentRule.Always), 1);
        var line = (await service.Api.GetAsync("audit?action=policy.change", WireJson.Default.PageAuditInfo, default)).Items[0];
        line.Target.ShouldBe("everything");
        line.Detail.ShouldContain("watch");
        line.Detail.ShouldContain("always");
    }

    [Fact]
    public async Task A_technician_reads_the_policy_and_does_not_change_it()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        await service.EnrolAsync("orrin-desk-01", group: "Copperbeech Libraries");
        var host = (await service.HostAsync("quay-ticket-01")).Id;
        await ChangeAsync(service, $"hosts/{(await service.HostAsync("orrin-desk-01")).Id}/policy", NoCommands);
        await ChangeAsync(service, $"hosts/{host}/policy", NoCommands);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        (await tomasz.GetAsync("policies", WireJson.Default.PagePolicyPlace, default)).Items.Select(p => p.Place).ShouldBe(["quay-ticket-01"]);
        (await tomasz.GetAsync($"hosts/{host}/policy", WireJson.Default.PolicyInfo, default)).Own.ShouldBe(NoCommands);
        (await Should.ThrowAsync<ApiException>(() => tomasz.PutAsync($"hosts/{host}/policy", HostPolicyPart.Inherit, 1, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, default)))
            .Message.ShouldContain("does not include 'administer'");
    }

    private static Task<PolicyInfo> ChangeAsync(TestService service, string path, HostPolicyPart part, long version = 0) =>
        service.Api.PutAsync(path, part, version, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, default);

    private static async Task<Guid> GroupAsync(TestService service, string path, bool make = false)
    {
        if (make)
        {
            await service.NewTokenAsync(group: path);
        }
        return (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items.Single(g => g.Path == path).Id;
    }

    private static Task InForceAsync(TestService service, RunningAgent agent, Func<HostPolicy, bool> expected) => Wait.UntilAsync(
        async () => (await service.Api.GetAsync($"hosts/{agent.Id}/policy", WireJson.Default.PolicyInfo, default)).Side is { } side && expected(side.InForce), "the host to say that it keeps to the policy");

    private static async Task<(RunState State, string? Reason)> RunAsync(TestService service, string host)
    {
        var job = await service.Api.PostAsync("jobs", new NewJob(host, new CommandSpec { Line = "uname -r" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        RunInfo? run = null;
        await Wait.UntilAsync(async () => (run = (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Runs.Single()).State.IsFinal(), "the run to end");
        return (run!.State, run.Reason);
    }
}

/// <summary>The real agent on a simulated platform, in this process.</summary>
internal sealed class RunningAgent : IAsyncDisposable
{
    private readonly CancellationTokenSource stop = new();
    private readonly StringWriter said = new();
    private Task running = Task.CompletedTask;

    public required Guid Id { get; init; }
    public required StateDirectory State { get; init; }
    public required SimulatedPlatform Platform { get; init; }

    public string Said => said.ToString();

    /// <summary>Enrols the host if it is not, and links it.</summary>
    public static async Task<RunningAgent> StartAsync(TestService service, string name, Action<StateDirectory>? prepare = null, string? token = null, HostStory story = HostStory.None, HostKind kind = HostKind.Kiosk)
    {
        var state = new StateDirectory(service.In("hosts/" + name));
        if (Umbrek.Agent.Enrolment.AgentIdentity.Load(state) is null)
        {
            await service.EnrolAsync(name, token);
        }
        prepare?.Invoke(state);
        var identity = Umbrek.Agent.Enrolment.AgentIdentity.Load(state)!;
        // A kiosk that sells tickets, wherever the test has it stand.
        var platform = new SimulatedPlatform(new SimulatedHost(name, "Saltmarsh Ferry/Quay/Ticketing", kind, 7, story), TimeProvider.System, state);
        var agent = new RunningAgent { Id = identity.HostId, State = state, Platform = platform };
        agent.running = new AgentRuntime(identity, state, platform, TimeProvider.System, new AgentLog(TextWriter.Synchronized(agent.said), TimeProvider.System)).RunAsync(agent.stop.Token);
        await Wait.UntilAsync(() => service.Get<LinkRegistry>().Find(agent.Id) is not null, "the agent to be linked");
        return agent;
    }

    public async ValueTask DisposeAsync()
    {
        await stop.CancelAsync();
        await running.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        stop.Dispose();
    }
}
