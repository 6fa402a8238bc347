using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Client;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Audit;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Access;

/// <summary>Grants as they work on a whole service.</summary>
public sealed class GrantTests
{
    private const string Ferry = "Saltmarsh Ferry";
    private const string Libraries = "Copperbeech Libraries";

    [Fact]
    public async Task Each_sees_what_is_granted_and_the_way_to_it_and_nothing_else()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        await service.EnrolAsync("orrin-desk-01", group: Libraries);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        (await HostsAsync(tomasz)).ShouldBe(["quay-ticket-01"]);
        var groups = (await tomasz.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items;
        groups.Select(g => g.Path).ShouldBe([Ferry, "Saltmarsh Ferry/Quay"]);
        groups[0].May.ShouldBeEmpty();
        groups[1].May.ShouldContain(Permission.Run);
        (await tomasz.GetAsync("find?text=desk", WireJson.Default.PageFindHit, default)).Items.ShouldBeEmpty();
        (await tomasz.GetAsync("selections/check?selection=all", WireJson.Default.SelectionCheck, default)).Hosts.ShouldBe(1);

        // The customer above the granted group is a name and a mark; what is kept of it is not his.
        var ferry = (await service.Api.GetAsync("customers", WireJson.Default.PageCustomerInfo, default)).Items.Single(c => c.Name == Ferry);
        await service.Api.PatchAsync($"customers/{ferry.Id}", new CustomerChange("Wanda Pell", null, null, "lagoon", null), ferry.Version, WireJson.Default.CustomerChange, WireJson.Default.CustomerInfo, default);
        var seen = (await tomasz.GetAsync("customers", WireJson.Default.PageCustomerInfo, default)).Items.Single();
        (seen.Name, seen.Contact, seen.Colour).ShouldBe((Ferry, null, "lagoon"));
    }

    [Fact]
    public async Task What_may_not_be_seen_is_as_if_it_were_not_there()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("orrin-desk-01", group: Libraries);
        var there = await service.HostAsync("orrin-desk-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        var hidden = await Should.ThrowAsync<ApiException>(() => tomasz.GetAsync($"hosts/{there.Id}", WireJson.Default.HostDetail, default));
        var missing = await Should.ThrowAsync<ApiException>(() => tomasz.GetAsync($"hosts/{Guid.NewGuid()}", WireJson.Default.HostDetail, default));
        hidden.Problem.ShouldBe(missing.Problem);
    }

    [Fact]
    public async Task A_refusal_says_why_and_who_could_change_it_and_stands_in_the_audit_log()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        var host = await service.HostAsync("quay-ticket-01");
        using var priya = await service.JoinedByAsync("Priya Lund", "viewer", Ferry);
        var refused = await Should.ThrowAsync<ApiException>(() => priya.PostAsync($"hosts/{host.Id}/retire", new HostEnd(Preview: true), WireJson.Default.HostEnd, WireJson.Default.HostOutlook, default));
        refused.Problem.Word.ShouldBe(ProblemTypes.NotAllowed);
        refused.Message.ShouldBe("You may not change what is kept of quay-ticket-01: your grant as viewer on Saltmarsh Ferry does not include 'configure'. Ines Okafor can change that.");
        var line = (await service.Api.GetAsync("audit?action=access.refuse", WireJson.Default.PageAuditInfo, default)).Items.Single();
        (line.Actor, line.Target).ShouldBe(("Priya Lund", $"POST /api/v1/hosts/{host.Id}/retire"));
        line.Detail.ShouldContain("\"needs\":\"configure\"");

        await using var live = await service.LiveAsync(priya);
        await Should.ThrowAsync<HubException>(async () => await live.StreamAsync<Wire.Enrolment.ScanChanges>("Scan", Guid.NewGuid()).ToListAsync());
        (await service.Api.GetAsync("audit?action=access.refuse", WireJson.Default.PageAuditInfo, default)).Items[0].Target.ShouldBe("live view Scan");
    }

    [Fact]
    public async Task A_revoked_grant_ends_live_views_at_once_and_leaves_those_of_others_alone()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", group: null);
        var grant = await service.GrantAsync("Tomasz Vail", "technician", Ferry);
        using var priya = await service.JoinedByAsync("Priya Lund", "viewer", Ferry);
        await using var his = await service.LiveAsync(tomasz);
        await using var hers = await service.LiveAsync(priya);
        using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        var hisView = his.StreamAsync<EstateChanges>("Estate", enough.Token).GetAsyncEnumerator(enough.Token);
        var herView = hers.StreamAsync<EstateChanges>("Estate", enough.Token).GetAsyncEnumerator(enough.Token);
        (await hisView.MoveNextAsync()).ShouldBeTrue();
        (await herView.MoveNextAsync()).ShouldBeTrue();
        hisView.Current.Hosts.Count.ShouldBe(1);

        await service.Api.ActAsync(HttpMethod.Delete, $"grants/{grant.Id}", default);
        (await Should.ThrowAsync<HubException>(async () => await hisView.MoveNextAsync())).Message.ShouldContain(LiveProblems.AccessChanged);
        var again = his.StreamAsync<EstateChanges>("Estate", enough.Token).GetAsyncEnumerator(enough.Token);
        (await again.MoveNextAsync()).ShouldBeTrue();
        again.Current.Hosts.ShouldBeEmpty();

        await service.EnrolAsync("quay-ticket-02");
        (await herView.MoveNextAsync()).ShouldBeTrue();
        herView.Current.Hosts.Single().Label.ShouldBe("quay-ticket-02");
    }

    [Fact]
    public async Task A_grant_ends_by_itself_and_takes_open_views_with_it()
    {
        var time = new FakeTimeProvider(new DateTimeOffset(2026, 11, 23, 12, 0, 0, TimeSpan.Zero));
        await using var service = await TestService.StartAsync(time);
        await service.EnrolAsync("dome-control", group: Libraries);
        var friday = time.GetUtcNow().AddDays(4);
        using var odile = await service.JoinedByAsync("Odile Marsh", "technician", Libraries, friday);
        await using var line = await service.LiveAsync(odile);
        using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        var view = line.StreamAsync<EstateChanges>("Estate", enough.Token).GetAsyncEnumerator(enough.Token);
        (await view.MoveNextAsync()).ShouldBeTrue();
        view.Current.Hosts.Single().Label.ShouldBe("dome-control");
        (await HostsAsync(odile)).ShouldBe(["dome-control"]);

        time.Advance(TimeSpan.FromDays(4));
        await Should.ThrowAsync<HubException>(async () => await view.MoveNextAsync());
        (await HostsAsync(odile)).ShouldBeEmpty();
        var held = (await odile.GetAsync("me", WireJson.Default.Me, default)).Grants.Single();
        held.Ended.ShouldBeTrue();
        await service.SignInAgainAsync();
        var host = await service.HostAsync("dome-control");
        var said = await service.Api.GetAsync($"hosts/{host.Id}/access?technician={held.TechnicianId}", WireJson.Default.AccessExplanation, default);
        said.Answers.Single(a => a.Permission == Permission.Run).Sentence.ShouldBe("Odile Marsh may not run commands on dome-control: the grant as technician on Copperbeech Libraries ended at 2026-11-27 12:00 UTC.");

        // Given longer again, it is there again.
        await service.Api.PatchAsync($"grants/{held.Id}", new GrantChange(friday.AddDays(7)), 0, WireJson.Default.GrantChange, WireJson.Default.GrantInfo, default);
        (await HostsAsync(odile)).ShouldBe(["dome-control"]);
    }

    [Fact]
    public async Task A_run_that_waits_is_refused_when_its_technician_has_lost_the_host_meanwhile()
    {
        await using var service = await TestService.StartAsync();
        var (identity, simulated) = await service.EnrolAsync("plover-log-01");
        using var odile = await service.JoinedByAsync("Odile Marsh", group: null);
        var grant = await service.GrantAsync("Odile Marsh", "technician", Ferry);
        var job = await odile.PostAsync("jobs", new NewJob("plover-log-01", new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        await service.Api.ActAsync(HttpMethod.Delete, $"grants/{grant.Id}", default);
        await using var host = new Umbrek.Simulation.Links.LightHost(identity, simulated, TimeProvider.System);
        await host.ConnectAsync(default);
        RunInfo run = null!;
        await Wait.UntilAsync(async () => (run = (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Runs.Single()).State != RunState.Waiting, "the run to be decided");
        (run.State, run.Reason).ShouldBe((RunState.Refused, "When the host returned, Odile Marsh might not run commands on it any more; nothing was run."));
    }

    [Fact]
    public async Task A_job_is_begun_on_all_of_its_hosts_or_on_none()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        await service.EnrolAsync("orrin-desk-01", group: Libraries);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        await service.GrantAsync("Tomasz Vail", "viewer", Libraries);
        var refused = await Should.ThrowAsync<ApiException>(() => tomasz.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default));
        refused.Message.ShouldStartWith("You may not run commands on orrin-desk-01: your grant as viewer on Copperbeech Libraries does not include 'run'.");
        refused.Message.ShouldContain("1 of the 2 hosts");
        (await tomasz.GetAsync("jobs", WireJson.Default.PageJobInfo, default)).Total.ShouldBe(0);
    }

    [Fact]
    public async Task Of_a_job_each_sees_the_runs_on_hosts_that_he_may_see_and_the_output_of_those_he_may_run_on()
    {
        await using var service = await TestService.StartAsync();
        await using var quay = await service.LinkAsync("quay-ticket-01");
        await service.EnrolAsync("orrin-desk-01", group: Libraries);
        var job = await service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Job.Runs.Succeeded == 1, "the run");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        using var priya = await service.JoinedByAsync("Priya Lund", "viewer", Ferry);
        using var odile = await service.JoinedByAsync("Odile Marsh", "technician", Libraries);
        using var nobody = await service.JoinedByAsync("Nobody Yet", group: null);

        var his = await tomasz.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default);
        (his.Runs.Single().HostLabel, his.Job.Runs.Total).ShouldBe(("quay-ticket-01", 1));
        (await odile.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Runs.Single().HostLabel.ShouldBe("orrin-desk-01");
        (await nobody.GetAsync("jobs", WireJson.Default.PageJobInfo, default)).Items.ShouldBeEmpty();
        (await Should.ThrowAsync<ApiException>(() => odile.GetAsync($"runs/{his.Runs[0].Id}", WireJson.Default.RunInfo, default))).Problem.Status.ShouldBe(404);

        var told = new List<JobChanges>();
        await using (var line = await service.LiveAsync(tomasz))
        {
            told.AddRange(await line.StreamAsync<JobChanges>("Job", job.Id).ToListAsync());
        }
        told.SelectMany(t => t.Output).Count().ShouldBe(1);
        await using (var line = await service.LiveAsync(priya))
        {
            var seen = await line.StreamAsync<JobChanges>("Job", job.Id).ToListAsync();
            seen.SelectMany(t => t.Runs).Select(r => r.State).ShouldContain(RunState.Succeeded);
            seen.SelectMany(t => t.Output).ShouldBeEmpty();
        }
        using var output = await priya.SendRawAsync(new HttpRequestMessage(HttpMethod.Get, $"api/v1/runs/{his.Runs[0].Id}/output"), default).ContinueWith(t => t.IsFaulted ? null : t.Result);
        output.ShouldBeNull();
    }

    [Fact]
    public async Task The_last_lead_can_t_go_by_any_door()
    {
        await using var service = await TestService.StartAsync();
        var me = await service.Api.GetAsync("me", WireJson.Default.Me, default);
        var own = me.Grants.Single();
        (string What, Func<Task> Try)[] doors =
        [
            ("revoke", () => service.Api.ActAsync(HttpMethod.Delete, $"grants/{own.Id}", default)),
            ("give it an end", () => service.Api.PatchAsync($"grants/{own.Id}", new GrantChange(DateTimeOffset.UtcNow.AddDays(1)), 0, WireJson.Default.GrantChange, WireJson.Default.GrantInfo, default)),
            ("remove", () => service.Api.ActAsync(HttpMethod.Delete, $"technicians/{me.Id}", default)),
        ];
        foreach (var (what, act) in doors)
        {
            (await Should.ThrowAsync<ApiException>(act, what)).Message.ShouldContain("nobody could ever be let in again");
        }
        (await service.Api.GetAsync("me", WireJson.Default.Me, default)).Everywhere.ShouldContain(Permission.Administer);

        // A team's lead counts, and can't be emptied either.
        var team = await service.Api.PostAsync("teams", new NewTeam("Wheelhouse"), WireJson.Default.NewTeam, WireJson.Default.TeamInfo, default);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", group: null);
        var tomaszId = (await tomasz.GetAsync("me", WireJson.Default.Me, default)).Id;
        await service.Api.PutAsync($"teams/{team.Id}/members/{tomaszId}", WireJson.Default.TeamInfo, default);
        await service.Api.PostAsync("grants", new NewGrant(null, "Wheelhouse", "lead", null, true), WireJson.Default.NewGrant, WireJson.Default.GrantInfo, default);
        await service.Api.ActAsync(HttpMethod.Delete, $"grants/{own.Id}", default);
        (await Should.ThrowAsync<ApiException>(() => tomasz.ActAsync(HttpMethod.Delete, $"teams/{team.Id}/members/{tomaszId}", default))).Problem.Status.ShouldBe(409);
        (await Should.ThrowAsync<ApiException>(() => tomasz.ActAsync(HttpMethod.Delete, $"teams/{team.Id}", default))).Problem.Status.ShouldBe(409);
        (await HostsAsync(service.Api)).ShouldBeEmpty();
    }

    [Fact]
    public async Task A_grant_that_makes_no_sense_is_refused_with_what_to_do()
    {
        await using var service = await TestService.StartAsync();
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "viewer", Ferry);
        await service.Api.PostAsync("teams", new NewTeam("Coast"), WireJson.Default.NewTeam, WireJson.Default.TeamInfo, default);
        var before = (await service.Api.GetAsync("grants", WireJson.Default.PageGrantInfo, default)).Total;
        (NewGrant Wish, string Said)[] wishes =
        [
            (new(null, null, "technician", Ferry), "for somebody"),
            (new("Tomasz Vail", "Coast", "technician", Ferry), "for somebody"),
            (new("Tomasz Veil", null, "technician", Ferry), "Did you mean 'Tomasz Vail'?"),
            (new(null, "Cost", "technician", Ferry), "Did you mean 'Coast'?"),
            (new("Tomasz Vail", null, "techncian", Ferry), "Did you mean 'technician'?"),
            (new("Tomasz Vail", null, "technician", "Saltmarsh Fery"), "Did you mean \"Saltmarsh Ferry\"?"),
            (new("Tomasz Vail", null, "technician", null), "Say where"),
            (new("Tomasz Vail", null, "technician", Ferry, Everything: true), "names no group"),
            (new("Tomasz Vail", null, "viewer", Ferry), "already"),
            (new("Tomasz Vail", null, "technician", Ferry, EndsAt: DateTimeOffset.UtcNow.AddMinutes(-1)), "which is over"),
        ];
        foreach (var (wish, said) in wishes)
        {
            (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("grants", wish, WireJson.Default.NewGrant, WireJson.Default.GrantInfo, default), said)).Message.ShouldContain(said);
        }
        (await service.Api.GetAsync("grants", WireJson.Default.PageGrantInfo, default)).Total.ShouldBe(before);
    }

    [Fact]
    public async Task Who_administers_a_group_gives_there_what_he_has_and_no_more_and_nowhere_else()
    {
        await using var service = await TestService.StartAsync();
        await service.Api.PostAsync("roles", new NewRole("steward", [Permission.Administer, Permission.Run]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "steward", Ferry);
        using var priya = await service.JoinedByAsync("Priya Lund", "viewer", Libraries);
        await tomasz.PostAsync("grants", new NewGrant("Priya Lund", null, "steward", "Saltmarsh Ferry/Quay"), WireJson.Default.NewGrant, WireJson.Default.GrantInfo, default);
        var more = await Should.ThrowAsync<ApiException>(() => tomasz.PostAsync("grants", new NewGrant("Priya Lund", null, "lead", Ferry), WireJson.Default.NewGrant, WireJson.Default.GrantInfo, default));
        more.Message.ShouldContain("nobody gives away more than he has");
        (await Should.ThrowAsync<ApiException>(() => tomasz.PostAsync("grants", new NewGrant("Priya Lund", null, "steward", Libraries), WireJson.Default.NewGrant, WireJson.Default.GrantInfo, default))).Problem.Status.ShouldBe(404);
        (await Should.ThrowAsync<ApiException>(() => tomasz.PostAsync("grants", new NewGrant("Priya Lund", null, "steward", null, true), WireJson.Default.NewGrant, WireJson.Default.GrantInfo, default))).Problem.Status.ShouldBe(403);

        // He sees the grants of his places, and not hers elsewhere.
        (await tomasz.GetAsync("grants", WireJson.Default.PageGrantInfo, default)).Items.Select(g => (g.Holder, g.GroupPath)).ShouldBe([("Priya Lund", "Saltmarsh Ferry/Quay"), ("Tomasz Vail", Ferry)]);
        var hers = (await service.Api.GetAsync("grants", WireJson.Default.PageGrantInfo, default)).Items.Single(g => g.Holder == "Priya Lund" && g.GroupPath == Libraries);
        (await Should.ThrowAsync<ApiException>(() => tomasz.ActAsync(HttpMethod.Delete, $"grants/{hers.Id}", default))).Problem.Status.ShouldBe(404);
        (await tomasz.GetAsync("access/matrix", WireJson.Default.AccessMatrix, default)).Customers.ShouldBe([Ferry]);
    }

    [Fact]
    public async Task A_team_gives_what_it_has_to_whoever_is_in_it()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", group: null);
        var me = await tomasz.GetAsync("me", WireJson.Default.Me, default);
        var team = await service.Api.PostAsync("teams", new NewTeam("Coast"), WireJson.Default.NewTeam, WireJson.Default.TeamInfo, default);
        await service.Api.PostAsync("grants", new NewGrant(null, "coast", "viewer", Ferry), WireJson.Default.NewGrant, WireJson.Default.GrantInfo, default);
        (await HostsAsync(tomasz)).ShouldBeEmpty();
        (await service.Api.PutAsync($"teams/{team.Id}/members/{me.Id}", WireJson.Default.TeamInfo, default)).Members.Single().Name.ShouldBe("Tomasz Vail");
        (await HostsAsync(tomasz)).ShouldBe(["quay-ticket-01"]);
        (await tomasz.GetAsync("me", WireJson.Default.Me, default)).Grants.Single().Holder.ShouldBe("Coast");
        var cell = (await service.Api.GetAsync("access/matrix", WireJson.Default.AccessMatrix, default)).Rows.Single(r => r.Technician == "Tomasz Vail").Cells[1].Grants.Single();
        (cell.Role, cell.Team, cell.GroupPath).ShouldBe(("viewer", "Coast", Ferry));
        await service.Api.ActAsync(HttpMethod.Delete, $"teams/{team.Id}/members/{me.Id}", default);
        (await HostsAsync(tomasz)).ShouldBeEmpty();
    }

    [Fact]
    public async Task A_role_of_one_s_own_holds_what_it_says_changes_at_once_and_stays_while_it_is_held()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        var host = await service.HostAsync("quay-ticket-01");
        var role = await service.Api.PostAsync("roles", new NewRole("files", [Permission.ReadFiles]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        role.Permissions.ShouldBe([Permission.See, Permission.ReadFiles]);
        using var priya = await service.JoinedByAsync("Priya Lund", "files", Ferry);
        async Task<bool> MayAsync(Permission p) => (await priya.GetAsync($"hosts/{host.Id}/access", WireJson.Default.AccessExplanation, default)).Answers.Single(a => a.Permission == p).Allowed;
        (await MayAsync(Permission.ReadFiles)).ShouldBeTrue();
        (await MayAsync(Permission.Scan)).ShouldBeFalse();
        var after = await service.Api.PutAsync($"roles/{role.Id}", new NewRole("look around", [Permission.Scan]), role.Version, WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        (after.Name, after.Grants).ShouldBe(("look around", 1));
        (await MayAsync(Permission.ReadFiles)).ShouldBeFalse();
        (await MayAsync(Permission.Scan)).ShouldBeTrue();
        (await Should.ThrowAsync<ApiException>(() => service.Api.PutAsync($"roles/{role.Id}", new NewRole("stale", [Permission.See]), role.Version, WireJson.Default.NewRole, WireJson.Default.RoleInfo, default))).Problem.Status.ShouldBe(412);
        (await Should.ThrowAsync<ApiException>(() => service.Api.ActAsync(HttpMethod.Delete, $"roles/{role.Id}", default))).Message.ShouldContain("A grant gives the role look around");
        (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("roles", new NewRole("Lead", [Permission.See]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default))).Problem.Status.ShouldBe(409);
        (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("roles", new NewRole("nothing", []), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default))).Message.ShouldContain("holds no permission");
        (await Should.ThrowAsync<ApiException>(() => service.Api.ActAsync(HttpMethod.Delete, $"roles/{Role.Lead.Id}", default))).Problem.Status.ShouldBe(409);
    }

    [Fact]
    public async Task A_removed_technician_is_out_at_once()
    {
        await using var service = await TestService.StartAsync();
        using var odile = await service.JoinedByAsync("Odile Marsh");
        var id = (await odile.GetAsync("me", WireJson.Default.Me, default)).Id;
        await service.Api.ActAsync(HttpMethod.Delete, $"technicians/{id}", default);
        (await Should.ThrowAsync<ApiException>(() => odile.GetAsync("me", WireJson.Default.Me, default))).Problem.Status.ShouldBe(401);
        (await service.Api.GetAsync("technicians", WireJson.Default.PageTechnicianInfo, default)).Items.Single().Name.ShouldBe(TestService.Name);
        (await service.Api.GetAsync("grants", WireJson.Default.PageGrantInfo, default)).Items.ShouldHaveSingleItem();
    }

    [Fact]
    public async Task A_grant_goes_with_its_group_when_that_is_renamed_moved_or_removed()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        var quay = (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items.Single(g => g.Name == "Quay");
        var renamed = await service.Api.PatchAsync($"groups/{quay.Id}", new GroupChange(Name: "North Quay"), quay.Version, WireJson.Default.GroupChange, WireJson.Default.GroupInfo, default);
        (await HostsAsync(tomasz)).ShouldBe(["quay-ticket-01"]);
        await service.Api.PatchAsync($"groups/{quay.Id}", new GroupChange(ParentPath: Libraries), renamed.Version, WireJson.Default.GroupChange, WireJson.Default.GroupInfo, default);
        (await tomasz.GetAsync("me", WireJson.Default.Me, default)).Grants.Single().GroupPath.ShouldBe("Copperbeech Libraries/North Quay");
        (await HostsAsync(tomasz)).ShouldBe(["quay-ticket-01"]);
        await service.Api.ActAsync(HttpMethod.Delete, $"groups/{quay.Id}?hostsTo={Uri.EscapeDataString(Ferry)}", default);
        (await HostsAsync(tomasz)).ShouldBeEmpty();
        (await tomasz.GetAsync("me", WireJson.Default.Me, default)).Grants.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_host_that_moves_out_of_sight_leaves_the_live_view()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        var host = await service.HostAsync("quay-ticket-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        await using var line = await service.LiveAsync(tomasz);
        using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        var view = line.StreamAsync<EstateChanges>("Estate", enough.Token).GetAsyncEnumerator(enough.Token);
        (await view.MoveNextAsync()).ShouldBeTrue();
        await service.Api.PostAsync("hosts/edits", new BulkEdit("all", GroupPath: Libraries), WireJson.Default.BulkEdit, WireJson.Default.BulkOutcome, default);
        (await view.MoveNextAsync()).ShouldBeTrue();
        view.Current.Hosts.ShouldBeEmpty();
        view.Current.Gone.ShouldBe([host.Id]);
    }

    [Fact]
    public async Task Nobody_moves_a_host_to_where_he_may_do_more_with_it()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("orrin-desk-01", group: Libraries);
        var host = await service.HostAsync("orrin-desk-01");
        await service.Api.PostAsync("roles", new NewRole("tidies", [Permission.Configure]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "technician", Ferry);
        await service.GrantAsync("Tomasz Vail", "tidies", Libraries);
        var refused = await Should.ThrowAsync<ApiException>(() => tomasz.PatchAsync($"hosts/{host.Id}", new HostChange(GroupPath: Ferry), 1, WireJson.Default.HostChange, WireJson.Default.HostDetail, default));
        refused.Message.ShouldContain("there you may do more with it");
        var many = await tomasz.PostAsync("hosts/edits", new BulkEdit("all", GroupPath: Ferry), WireJson.Default.BulkEdit, WireJson.Default.BulkOutcome, default);
        many.Problems.Single().Problem.ShouldContain("there you may do more with it");
        (await service.HostAsync("orrin-desk-01")).GroupPath.ShouldBe(Libraries);
    }

    [Fact]
    public async Task A_saved_selection_that_names_another_s_group_is_not_shown_and_only_its_owner_changes_it()
    {
        await using var service = await TestService.StartAsync();
        var own = await service.Api.PostAsync("selections", new NewSavedSelection("In the villages", $"in \"{Libraries}\""), WireJson.Default.NewSavedSelection, WireJson.Default.SavedSelectionInfo, default);
        var full = await service.Api.PostAsync("selections", new NewSavedSelection("Nearly full", "storage.used > 85 %"), WireJson.Default.NewSavedSelection, WireJson.Default.SavedSelectionInfo, default);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        (await tomasz.GetAsync("selections", WireJson.Default.PageSavedSelectionInfo, default)).Items.Select(s => s.Name).ShouldBe(["Nearly full"]);
        (await Should.ThrowAsync<ApiException>(() => tomasz.ActAsync(HttpMethod.Delete, $"selections/{full.Id}", default))).Message.ShouldContain("Ines Okafor saved 'Nearly full'");
        (await Should.ThrowAsync<ApiException>(() => tomasz.ActAsync(HttpMethod.Delete, $"selections/{own.Id}", default))).Problem.Status.ShouldBe(403);
        var his = await tomasz.PostAsync("selections", new NewSavedSelection("Mine", "is away"), WireJson.Default.NewSavedSelection, WireJson.Default.SavedSelectionInfo, default);
        await tomasz.ActAsync(HttpMethod.Delete, $"selections/{his.Id}", default);
    }

    [Fact]
    public async Task An_import_changes_only_what_its_technician_may_change()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        await service.EnrolAsync("orrin-desk-01", group: Libraries);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "technician", Ferry);
        var exported = await tomasz.GetAsync("estate/tree", WireJson.Default.ListTreeLine, default);
        exported.Select(l => l.Group).Distinct().ShouldBe([Ferry, "Saltmarsh Ferry/Quay"]);
        List<TreeLine> wish = [new("Saltmarsh Ferry/Quay", "Left desk", "quay-ticket-01"), new(Libraries, "Right desk", "orrin-desk-01"), new("A new customer"), new("Saltmarsh Ferry/Vessels")];
        var outcome = await tomasz.PostAsync("estate/tree", wish, WireJson.Default.ListTreeLine, WireJson.Default.ImportOutcome, default);
        outcome.Problems.Select(p => p.Line).ShouldBe([2, 3]);
        outcome.Problems[0].Problem.ShouldContain("There is no host");
        outcome.Problems[1].Problem.ShouldContain("on everything");
        (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items.ShouldNotContain(g => g.Name == "Vessels");
    }

    [Fact]
    public async Task What_a_host_s_own_side_forbids_is_told_as_its_own()
    {
        await using var service = await TestService.StartAsync();
        var installer = await service.NewInstallerAsync(new Wire.Enrolment.NewInstaller(TestService.Group, Policy: new HostPolicy([HostAct.Watch], ConsentRule.Never)));
        await service.EnrolAsync("quay-ticket-01", installer.Token);
        var host = await service.HostAsync("quay-ticket-01");
        var said = await service.Api.GetAsync($"hosts/{host.Id}/access", WireJson.Default.AccessExplanation, default);
        var shell = said.Answers.Single(a => a.Permission == Permission.Shell);
        (shell.Reason, shell.Remedy).ShouldBe((AccessReason.HostPolicy, "Whoever looks after the computer can change that on it."));
        said.Answers.Single(a => a.Permission == Permission.Watch).Allowed.ShouldBeTrue();
        said.CanChange.ShouldBe([TestService.Name]);
    }

    [Fact]
    public async Task A_restart_forgets_no_grant()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        await service.RestartAsync();
        (await HostsAsync(tomasz)).ShouldBe(["quay-ticket-01"]);
    }

    private static async Task<List<string>> HostsAsync(ApiClient who) =>
        [.. (await who.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items.Select(h => h.Label)];
}
