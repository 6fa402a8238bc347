using System.Diagnostics;
using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Client;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Diagnostics;
using Microsoft.Extensions.DependencyInjection;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Sessions;
using Umbrek.Wire.Shell;

namespace Umbrek.Service.Tests.Access;

/// <summary>What somebody may no longer do ends, whatever they had open when it was taken from them.</summary>
public sealed class LapseTests
{
    private const string Host = "quay-ticket-01";
    private const string Elsewhere = "Copperbeech Libraries";

    [Fact]
    public async Task A_live_connection_ends_with_its_sign_in_and_gives_no_view_after_it()
    {
        await using var service = await TestService.StartAsync();
        using var other = await service.SignInAsync(TestService.Name);
        await using var line = await service.LiveAsync(other);
        var closed = new TaskCompletionSource();
        line.Closed += _ =>
        {
            closed.TrySetResult();
            return Task.CompletedTask;
        };
        (await FirstAsync(line)).ShouldNotBeNull();
        var own = (await other.GetAsync("me/sign-ins", WireJson.Default.PageSignInInfo, default)).Items.Single(s => s.Here);
        await service.Api.ActAsync(HttpMethod.Delete, $"me/sign-ins/{own.Id}", default);

        // At once: a stolen sign-in asks again as soon as its view has ended.
        await Should.ThrowAsync<Exception>(() => FirstAsync(line));
        await closed.Task.WaitAsync(TimeSpan.FromSeconds(Wait.DefaultSeconds));
    }

    [Fact]
    public async Task A_channel_ends_with_the_sign_in_that_opened_it_and_leaves_the_session_to_its_own()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, Host);
        using var other = await service.SignInAsync(TestService.Name);
        var session = await OpenAsync(service.Api, agent.Id);
        using var mine = await ShellAsync(service.Api, session);
        using var theirs = await ShellAsync(other, session);

        await other.ActAsync(HttpMethod.Post, "sign-out", default);
        await theirs.EndedAsync();
        (await service.Api.GetAsync($"sessions/{session.Id}", WireJson.Default.SessionInfo, default)).EndedAt.ShouldBeNull();
        await mine.SaysAsync("still here");
    }

    [Fact]
    public async Task A_session_and_what_is_open_in_it_end_when_the_host_moves_out_of_reach()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, Host);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        var session = await OpenAsync(tomasz, agent.Id);
        using var shell = await ShellAsync(tomasz, session);

        var read = await service.Api.GetAsync($"hosts/{agent.Id}", WireJson.Default.HostDetail, default);
        var moved = Stopwatch.GetTimestamp();
        await service.Api.PatchAsync($"hosts/{agent.Id}", new HostChange(GroupPath: Elsewhere), read.Version, WireJson.Default.HostChange, WireJson.Default.HostDetail, default);
        await shell.EndedAsync();
        Stopwatch.GetElapsedTime(moved).ShouldBeLessThan(TimeSpan.FromSeconds(5));
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"sessions/{session.Id}", WireJson.Default.SessionInfo, default)).EndReason == "Tomasz Vail may do nothing there any more", "the end to be written down");
    }

    [Fact]
    public async Task A_session_ends_when_the_group_of_its_host_moves_out_of_reach()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, Host);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", group: "Saltmarsh Ferry");
        var session = await OpenAsync(tomasz, agent.Id);
        using var shell = await ShellAsync(tomasz, session);
        var group = (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items.Single(g => g.Path == TestService.Group);
        await service.Api.PatchAsync($"groups/{group.Id}", new GroupChange(ParentPath: Elsewhere), group.Version, WireJson.Default.GroupChange, WireJson.Default.GroupInfo, default);
        await shell.EndedAsync();
    }

    [Fact]
    public async Task What_a_host_prints_is_no_longer_shown_when_it_has_moved_out_of_reach()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, Host);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        await service.GrantAsync("Tomasz Vail", "viewer", Elsewhere);
        var job = await tomasz.PostAsync("jobs", new NewJob(Host, new CommandSpec { Line = "sleep 600" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        var run = (await tomasz.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Runs.Single();
        await using var line = await service.LiveAsync(tomasz);
        using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(Wait.DefaultSeconds));
        await using var view = line.StreamAsync<JobChanges>("Run", run.Id, enough.Token).GetAsyncEnumerator(enough.Token);
        (await view.MoveNextAsync()).ShouldBeTrue();

        // He sees the host where it stands now, and may not read what it prints there.
        var read = await service.Api.GetAsync($"hosts/{agent.Id}", WireJson.Default.HostDetail, default);
        await service.Api.PatchAsync($"hosts/{agent.Id}", new HostChange(GroupPath: Elsewhere), read.Version, WireJson.Default.HostChange, WireJson.Default.HostDetail, default);
        await service.Api.ActAsync(HttpMethod.Post, $"runs/{run.Id}/cancel", default);
        var refused = await Should.ThrowAsync<HubException>(async () =>
        {
            while (await view.MoveNextAsync())
            {
                // What was on its way before it moved.
            }
        });
        refused.Message.ShouldContain("run commands");
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task A_shell_ends_when_the_host_no_longer_allows_one(bool byItsOwner)
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, Host);
        var session = await OpenAsync(service.Api, agent.Id);
        using var shell = await ShellAsync(service.Api, session);
        await shell.SaysAsync("low tide");
        var without = new HostPolicyPart(Allowed: [HostAct.Run, HostAct.ReadFiles]);
        if (byItsOwner)
        {
            Umbrek.Agent.Access.HostLimit.Write(agent.State.LimitFile, without);
        }
        else
        {
            var now = await service.Api.GetAsync($"hosts/{agent.Id}/policy", WireJson.Default.PolicyInfo, default);
            await service.Api.PutAsync($"hosts/{agent.Id}/policy", without, now.Version, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, default);
        }
        (await shell.EndedAsync()).ShouldBe("This host no longer allows technicians to open a terminal.");
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"hosts/{agent.Id}/shells", WireJson.Default.PageShellInfo, default)).Items.Count == 0, "the shell itself to end");
    }

    public static TheoryData<string> Takings { get; } = ["revoke", "shorten", "role", "team", "remove", "policy", "move", "regroup"];

    /// <summary>Whoever takes something away and hangs up when it is stored, has taken it away.</summary>
    [Theory]
    [MemberData(nameof(Takings))]
    public async Task What_was_taken_away_is_gone_also_when_the_caller_hangs_up_behind_it(string taking)
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync(Host);
        var host = await service.HostAsync(Host);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", group: null);
        var role = await service.Api.PostAsync("roles", new NewRole("Night desk", [Permission.See, Permission.Run]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        var team = await service.Api.PostAsync("teams", new NewTeam("Night"), WireJson.Default.NewTeam, WireJson.Default.TeamInfo, default);
        var read = await service.Api.GetAsync($"hosts/{host.Id}", WireJson.Default.HostDetail, default);
        var group = (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items.Single(g => g.Path == TestService.Group);
        var (index, estate) = (service.Get<AccessIndex>(), service.Get<EstateIndex>());
        var tomaszId = index.Seats.Single(s => s.Name == "Tomasz Vail").Id;
        await service.Api.ActAsync(HttpMethod.Put, $"teams/{team.Id}/members/{tomaszId}", default);
        // A group that moves takes the grants on it along, and leaves those above it.
        var wish = new NewGrant(taking == "team" ? null : "Tomasz Vail", taking == "team" ? "Night" : null, "Night desk", taking == "regroup" ? "Saltmarsh Ferry" : TestService.Group);
        var grant = await service.Api.PostAsync("grants", wish, WireJson.Default.NewGrant, WireJson.Default.GrantInfo, default);
        bool MayRun() => index.Find(tomaszId)?.Reach.May(Permission.Run, estate.Find(host.Id)!.GroupPath) == true;
        MayRun().ShouldBeTrue();
        var lead = index.Seats.Single(s => s.Name == TestService.Name);
        var by = new Asker(lead, null, false, lead.Reach, "127.0.0.1");

        using var hungUp = new CancellationTokenSource();
        var cancel = hungUp.Token;
        await using var scope = service.App.Services.CreateAsyncScope();
        T Of<T>() where T : notnull => scope.ServiceProvider.GetRequiredService<T>();
        Func<Task> take = taking switch
        {
            "revoke" => () => Of<GrantService>().RevokeAsync(grant.Id, by, cancel),
            "shorten" => () => Of<GrantService>().ChangeAsync(grant.Id, new GrantChange(DateTimeOffset.UtcNow.AddMilliseconds(300)), by, cancel),
            "role" => () => Of<RoleService>().ChangeAsync(role.Id, new NewRole("Night desk", [Permission.See]), role.Version, by, cancel),
            "team" => () => Of<TeamService>().SetMemberAsync(team.Id, tomaszId, false, by, cancel),
            "remove" => () => Of<TechnicianService>().RemoveAsync(tomaszId, by, cancel),
            "policy" => () => Of<PolicyService>().ChangeHostAsync(host.Id, new HostPolicyPart(Allowed: []), 0, by, cancel),
            "move" => () => Of<Umbrek.Service.Estate.HostService>().ChangeAsync(host.Id, new HostChange(GroupPath: Elsewhere), read.Version, by, cancel),
            _ => () => Of<GroupService>().ChangeAsync(group.Id, new GroupChange(ParentPath: Elsewhere), group.Version, by, cancel),
        };
        using (Committed.ThenDo(hungUp.Cancel))
        {
            try
            {
                await take();
            }
            catch (OperationCanceledException)
            {
                // Nobody is left to be told.
            }
        }
        hungUp.IsCancellationRequested.ShouldBeTrue("the caller hung up after the change was stored");
        if (taking == "policy")
        {
            service.Get<PolicyIndex>().Layers(TestService.Group, (host.Id, Host)).ShouldContain(l => l.Part.Allowed != null && l.Part.Allowed.Count == 0);
            return;
        }
        await Wait.UntilAsync(() => !MayRun(), "it to be taken away", taking == "shorten" ? Wait.DefaultSeconds : 1);
    }

    private static Task<SessionInfo> OpenAsync(ApiClient who, Guid host) =>
        who.PostAsync($"hosts/{host}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);

    private static async Task<EstateChanges?> FirstAsync(HubConnection line)
    {
        using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(Wait.DefaultSeconds));
        await foreach (var message in line.StreamAsync<EstateChanges>("Estate", enough.Token))
        {
            return message;
        }
        return null;
    }

    private static async Task<OpenShell> ShellAsync(ApiClient who, SessionInfo session)
    {
        var (socket, _) = await ChannelSocket.OpenAsync(who, null, session.Id, new NewChannel(ChannelKinds.Shell, new ShellWish { Terminal = TerminalSize.Usual }), default);
        var shell = new OpenShell(socket);
        await shell.OpenedAsync();
        return shell;
    }

    private sealed class OpenShell(System.Net.WebSockets.WebSocket socket) : IDisposable
    {
        private readonly ShellFrames frames = new(socket);

        public async Task OpenedAsync() => (await frames.ReceiveAsync(Soon()))!.Value.Word!.Opened.ShouldNotBeNull();

        public async Task SaysAsync(string text)
        {
            await frames.SendAsync(ShellStream.Input, System.Text.Encoding.UTF8.GetBytes($"echo {text}\r"), Soon());
            var heard = "";
            while (!heard.Contains(text, StringComparison.Ordinal))
            {
                heard += System.Text.Encoding.UTF8.GetString((await frames.ReceiveAsync(Soon()) ?? throw new InvalidOperationException($"It closed: {frames.ClosedBecause}")).Data.Span);
            }
        }

        /// <returns>Why it was closed.</returns>
        public async Task<string?> EndedAsync()
        {
            while (await frames.ReceiveAsync(Soon()) is not null)
            {
            }
            return frames.ClosedBecause;
        }

        public void Dispose()
        {
            frames.Dispose();
            socket.Dispose();
        }

        private static CancellationToken Soon() => new CancellationTokenSource(TimeSpan.FromSeconds(Wait.DefaultSeconds)).Token;
    }

    /// <summary>Hears of transactions that are through, in the flow of the caller and no other.</summary>
    private sealed class Committed : IObserver<DiagnosticListener>, IObserver<KeyValuePair<string, object?>>
    {
        private static readonly AsyncLocal<Action?> Then = new();
        private static readonly Committed Listener = Listen();

        public static IDisposable ThenDo(Action what)
        {
            _ = Listener;
            Then.Value = what;
            return new Over();
        }

        public void OnNext(DiagnosticListener value)
        {
            if (value.Name == DbLoggerCategory.Name)
            {
                value.Subscribe(this, (name, _, _) => name == RelationalEventId.TransactionCommitted.Name);
            }
        }

        public void OnNext(KeyValuePair<string, object?> value) => Then.Value?.Invoke();

        public void OnCompleted()
        {
        }

        public void OnError(Exception error)
        {
        }

        private static Committed Listen()
        {
            var listener = new Committed();
            DiagnosticListener.AllListeners.Subscribe(listener);
            return listener;
        }

        private sealed class Over : IDisposable
        {
            public void Dispose() => Then.Value = null;
        }
    }
}
