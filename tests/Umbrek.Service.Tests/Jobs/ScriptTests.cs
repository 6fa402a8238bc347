using System.Net;
using Umbrek.Core.Jobs;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Simulation.Links;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Audit;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Jobs;

/// <summary>The library of scripts.</summary>
public sealed class ScriptTests : IAsyncLifetime
{
    private static readonly ScriptParameter Days = ParameterText.Read("DAYS: whole 1..90 = 14 -- how old", out _)!;
    private static readonly CommandSpec Text = new() { Script = "#!/bin/sh\nfind /var/tickets -mtime +$DAYS\n" };

    private TestService service = null!;
    private LightHost host = null!;

    public async ValueTask InitializeAsync()
    {
        service = await TestService.StartAsync();
        host = await service.LinkAsync("quay-ticket-01");
    }

    public async ValueTask DisposeAsync()
    {
        await host.DisposeAsync();
        await service.DisposeAsync();
    }

    [Fact]
    public async Task A_job_runs_a_script_with_the_values_that_were_said()
    {
        CommandSpec? got = null;
        host.Answer = order =>
        {
            got = order.Command;
            return Task.FromResult(("done\n", 1));
        };
        var kept = await KeepAsync("Old tickets");
        var job = await RunAsync(new NewJob("all", Script: new ScriptUse(kept.Script.Id, null, new Dictionary<string, string> { ["DAYS"] = " 030 " })));
        job.CommandText.ShouldBe("Old tickets (version 1)");
        job.Script.ShouldBe(new ScriptMark(kept.Script.Id, "Old tickets", 1));
        await EndedAsync(job.Id);
        got!.Script.ShouldBe(Text.Script);
        got.Environment!.ShouldBe(new Dictionary<string, string> { ["DAYS"] = "30" });

        // What ran stays told when the script has gone on, and when it is gone.
        await NextAsync(kept, new NewScriptVersion(Text with { Script = "true\n" }));
        await service.Api.ActAsync(HttpMethod.Delete, $"scripts/{kept.Script.Id}", default);
        var again = await service.Api.PostAsync($"jobs/{job.Id}/again", new NewJobAgain(), WireJson.Default.NewJobAgain, WireJson.Default.JobInfo, default);
        again.Script!.Name.ShouldBe("Old tickets");
        again.Command.Script.ShouldBe(Text.Script);
        await EndedAsync(again.Id);
        (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Job.Script!.Number.ShouldBe(1);
        (await AuditAsync()).ShouldContain(e => e.Action == "job.create" && e.Detail.Contains("\"library\":\"Old tickets\"") && e.Detail.Contains("\"version\":\"1\""));
    }

    [Fact]
    public async Task As_whom_and_for_how_long_may_be_said_anew_and_nothing_else()
    {
        var kept = await KeepAsync("Old tickets");
        var use = new ScriptUse(kept.Script.Id);
        var filled = await service.Api.PostAsync("scripts/fill", use, WireJson.Default.ScriptUse, WireJson.Default.FilledScript, default);
        filled.Command.Environment!["DAYS"].ShouldBe("14");
        (await RunAsync(new NewJob("all", filled.Command with { TimeoutSeconds = 60 }, Script: use))).Command.TimeoutSeconds.ShouldBe(60);
        foreach (var other in new[] { filled.Command with { Script = "true\n" }, filled.Command with { Environment = null }, filled.Command with { Shell = "/bin/bash" }, new CommandSpec { Line = "true" } })
        {
            (await RefusedAsync(() => RunAsync(new NewJob("all", other, Script: use)), HttpStatusCode.Conflict)).ShouldContain("Nothing was run");
        }
        (await RefusedAsync(() => RunAsync(new NewJob("all", Script: use with { Values = new Dictionary<string, string> { ["DAYS"] = "0" } })), HttpStatusCode.BadRequest)).ShouldBe("DAYS must be a whole number from 1 to 90, not '0'.");
        (await RefusedAsync(() => RunAsync(new NewJob("all", Script: use with { Number = 9 })), HttpStatusCode.NotFound)).ShouldContain("no version 9");
        (await RefusedAsync(() => RunAsync(new NewJob("all")), HttpStatusCode.BadRequest)).ShouldContain("no command");
    }

    [Fact]
    public async Task Versions_stay_and_what_changed_is_shown_line_by_line()
    {
        var kept = await KeepAsync("Old tickets");
        var next = await NextAsync(kept, new NewScriptVersion(Text with { Script = Text.Script + "echo done\n", TimeoutSeconds = 120 }, [Days with { Most = 365 }], "for a year"));
        next.Shown.Number.ShouldBe(2);
        next.Versions.Select(v => (v.Number, v.Lines, v.Note)).ShouldBe([(2, 3, "for a year"), (1, 2, null)]);
        (await service.Api.GetAsync($"scripts/{kept.Script.Id}?number=1", WireJson.Default.ScriptDetail, default)).Shown.Command.Script.ShouldBe(Text.Script);
        var comparison = await service.Api.GetAsync($"scripts/{kept.Script.Id}/comparison?from=1", WireJson.Default.ScriptComparison, default);
        comparison.Text.Where(l => l.Kind != Core.Text.DifferenceKind.Same).Select(l => l.Text).ShouldBe(["echo done"]);
        comparison.Settings.Select(l => l.Text).ShouldBe(["DAYS: whole 1..90 = 14 -- how old", "DAYS: whole 1..365 = 14 -- how old", "time-out 2 min"]);

        (await RefusedAsync(() => NextAsync(next, new NewScriptVersion(next.Shown.Command, next.Shown.Parameters)), HttpStatusCode.BadRequest)).ShouldContain("version 2 of 'Old tickets' is already");
        // Two who write the next version at once: the second is told.
        (await RefusedAsync(() => NextAsync(kept, new NewScriptVersion(Text)), HttpStatusCode.PreconditionFailed)).ShouldContain("Somebody else changed");
    }

    [Fact]
    public async Task A_script_is_its_owners_until_he_shares_it()
    {
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        using var priya = await service.JoinedByAsync("Priya Lund");
        using var viewer = await service.JoinedByAsync("Odile Marsh", "viewer");
        await RefusedAsync(() => viewer.GetAsync("scripts", WireJson.Default.PageScriptInfo, default), HttpStatusCode.Forbidden);
        var kept = await tomasz.PostAsync("scripts", new NewScript("Old tickets", Text, Parameters: [Days]), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default);
        (await priya.GetAsync("scripts", WireJson.Default.PageScriptInfo, default)).Items.ShouldBeEmpty();
        await RefusedAsync(() => priya.GetAsync($"scripts/{kept.Script.Id}", WireJson.Default.ScriptDetail, default), HttpStatusCode.NotFound);
        await RefusedAsync(() => priya.PostAsync("jobs", new NewJob("all", Script: new ScriptUse(kept.Script.Id)), WireJson.Default.NewJob, WireJson.Default.JobInfo, default), HttpStatusCode.NotFound);
        // A name is taken, whosever it is; who administers everything sees all.
        (await RefusedAsync(() => priya.PostAsync("scripts", new NewScript("OLD tickets", Text), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default), HttpStatusCode.Conflict)).ShouldContain("perhaps one that is not shared with you");
        (await service.Api.GetAsync("scripts", WireJson.Default.PageScriptInfo, default)).Items.ShouldHaveSingleItem().MayGovern.ShouldBeTrue();

        var team = await service.Api.PostAsync("teams", new NewTeam("Coast"), WireJson.Default.NewTeam, WireJson.Default.TeamInfo, default);
        var priyaId = (await priya.GetAsync("me", WireJson.Default.Me, default)).Id;
        await service.Api.PutAsync($"teams/{team.Id}/members/{priyaId}", WireJson.Default.TeamInfo, default);
        var shared = await ChangeAsync(tomasz, kept.Script, new ScriptChange(Sharing: [new ScriptShare(team.Id)]));
        var seen = (await priya.GetAsync("scripts", WireJson.Default.PageScriptInfo, default)).Items.ShouldHaveSingleItem();
        (seen.MayChange, seen.MayGovern, seen.Sharing[0].Team).ShouldBe((false, false, "Coast"));
        await priya.PostAsync("scripts/fill", new ScriptUse(kept.Script.Id), WireJson.Default.ScriptUse, WireJson.Default.FilledScript, default);
        (await RefusedAsync(() => NextAsync(kept, new NewScriptVersion(Text), priya, shared.Version), HttpStatusCode.Forbidden)).ShouldContain("Ask Tomasz Vail");
        (await RefusedAsync(() => ChangeAsync(priya, shared, new ScriptChange("Mine")), HttpStatusCode.Forbidden)).ShouldContain("'Old tickets' is Tomasz Vail's");

        shared = await ChangeAsync(tomasz, shared, new ScriptChange(Sharing: [new ScriptShare(null, null, MayChange: true)]));
        var next = await NextAsync(kept, new NewScriptVersion(Text), priya, shared.Version);
        next.Script.ChangedBy.ShouldBe("Priya Lund");
        await RefusedAsync(() => priya.ActAsync(HttpMethod.Delete, $"scripts/{kept.Script.Id}", default), HttpStatusCode.Forbidden);

        // Whoever is given it decides from then on; who gave it away and is not among those it is shared with has it no more.
        var given = await ChangeAsync(tomasz, next.Script, new ScriptChange("Tickets of old", "", [], priyaId));
        (given.Owner, given.Name, given.MayGovern).ShouldBe(("Priya Lund", "Tickets of old", false));
        await RefusedAsync(() => tomasz.GetAsync($"scripts/{kept.Script.Id}", WireJson.Default.ScriptDetail, default), HttpStatusCode.NotFound);
        await priya.ActAsync(HttpMethod.Delete, $"scripts/{kept.Script.Id}", default);
        (await service.Api.GetAsync("scripts", WireJson.Default.PageScriptInfo, default)).Items.ShouldBeEmpty();
        (await AuditAsync()).Select(e => e.Action).Where(a => a.StartsWith("script.")).ShouldBe(["script.create", "script.change", "script.change", "script.version", "script.change", "script.remove"], ignoreOrder: true);
    }

    [Fact]
    public async Task What_makes_no_sense_is_not_kept()
    {
        async Task Refused(NewScript wish, string why) =>
            (await RefusedAsync(() => service.Api.PostAsync("scripts", wish, WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default), HttpStatusCode.BadRequest)).ShouldContain(why);
        await Refused(new NewScript(" ", Text), "name is empty");
        await Refused(new NewScript("a@2", Text), "no @ in it");
        await Refused(new NewScript("A", new CommandSpec { Script = " " }), "command is empty");
        await Refused(new NewScript("A", new CommandSpec()), "Give one of these");
        await Refused(new NewScript("A", Text, Parameters: [Days, Days]), "two parameters DAYS");
        await Refused(new NewScript("A", Text, Parameters: [Days with { Default = "900" }]), "without a value does not fit");
        await Refused(new NewScript("A", Text with { Environment = new Dictionary<string, string> { ["DAYS"] = "1" } }, Parameters: [Days]), "leave out one");
        await Refused(new NewScript("A", Text, new string('x', 1001)), "more than 1000 characters");
        await RefusedAsync(() => service.Api.PostAsync("scripts", new NewScript("A", Text, Sharing: [new ScriptShare(Guid.NewGuid())]), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default), HttpStatusCode.NotFound);
        (await service.Api.GetAsync("scripts", WireJson.Default.PageScriptInfo, default)).Items.ShouldBeEmpty();
        // A line becomes a script.
        (await service.Api.PostAsync("scripts", new NewScript("Free space", new CommandSpec { Line = "df -h", Shell = "/bin/bash" }), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default)).Shown.Command.Script.ShouldBe("#!/bin/bash\ndf -h\n");
    }

    private Task<ScriptDetail> KeepAsync(string name) =>
        service.Api.PostAsync("scripts", new NewScript(name, Text, Parameters: [Days]), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default);

    private Task<ScriptDetail> NextAsync(ScriptDetail before, NewScriptVersion wish, ApiClient? who = null, long? version = null) =>
        (who ?? service.Api).PostAsync($"scripts/{before.Script.Id}/versions", wish, version ?? before.Script.Version, WireJson.Default.NewScriptVersion, WireJson.Default.ScriptDetail, default);

    private static Task<ScriptInfo> ChangeAsync(ApiClient who, ScriptInfo before, ScriptChange wish) =>
        who.PutAsync($"scripts/{before.Id}", wish, before.Version, WireJson.Default.ScriptChange, WireJson.Default.ScriptInfo, default);

    private Task<JobInfo> RunAsync(NewJob wish) => service.Api.PostAsync("jobs", wish, WireJson.Default.NewJob, WireJson.Default.JobInfo, default);

    private Task EndedAsync(Guid job) =>
        Wait.UntilAsync(async () => (await service.Api.GetAsync($"jobs/{job}", WireJson.Default.JobDetail, default)).Job.Runs is { Ended: > 0 }, "the run to end");

    private async Task<IReadOnlyList<AuditInfo>> AuditAsync() => (await service.Api.GetAsync("audit?limit=100", WireJson.Default.PageAuditInfo, default)).Items;

    private static async Task<string> RefusedAsync(Func<Task> act, HttpStatusCode status)
    {
        var refused = await Should.ThrowAsync<ApiException>(act);
        refused.Problem.Status.ShouldBe((int)status);
        return refused.Message;
    }
}
