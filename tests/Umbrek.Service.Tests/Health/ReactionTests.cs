using Microsoft.Extensions.Time.Testing;
using Umbrek.Core.Health;
using Umbrek.Core.Jobs;
using Umbrek.Service.Health;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Service.Tests.Storage;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Health;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Health;

/// <summary>Runbooks that run because of alerts, in a service whose clock the test turns.</summary>
public abstract class ReactionTests
{
    private readonly FakeTimeProvider time = new(DateTimeOffset.UtcNow);

    /// <returns>Null is the embedded database.</returns>
    protected abstract string? NewDatabase();

    [Fact]
    public async Task An_alert_has_a_runbook_run_once_with_its_values()
    {
        await using var service = await TestService.StartAsync(time, NewDatabase());
        var host = await service.LinkedAsync(time, "ripening-climate-02");
        var there = await service.LinkedAsync(time, "quay-ticket-01");
        await service.RaiseAsync(time, there);
        var reaction = await NewAsync(service, await WishAsync(service));
        (reaction.CheckName, reaction.IsRunbook, reaction.Script, reaction.Owner, reaction.Ran).ShouldBe(("Storage nearly full", true, "Make room", TestService.Name, 0));
        await service.RaiseAsync(time, host);
        await UntilAsync(async () => (await JobsAsync(service)).Count == 1, "the job");
        var job = (await JobsAsync(service)).Single();
        using var viewer = await service.JoinedByAsync("Odile Marsh", "viewer");
        (await viewer.GetAsync($"reactions/{reaction.Id}", WireJson.Default.ReactionInfo, default)).Values.ShouldBe(new Dictionary<string, string> { ["DAYS"] = "" });
        (job.CommandText, job.CreatedBy, job.Selection).ShouldBe(("Make room (version 1)", $"{TestService.Name} (reaction 'Room by itself')", "\"ripening-climate-02\""));
        job.Command.Environment!["DAYS"].ShouldBe("9");

        // It is told with the alert; what was raised before stays with people.
        var alert = AlertOf(service, host);
        (await ReactionsAsync(service, alert)).ShouldHaveSingleItem().ShouldSatisfyAllConditions(r => r.JobId.ShouldBe(job.Id), r => r.State.ShouldBe(RunState.Waiting), r => r.At.ShouldNotBeNull());
        (await ReactionsAsync(service, AlertOf(service, there))).ShouldHaveSingleItem().ShouldSatisfyAllConditions(r => r.JobId.ShouldBeNull(), r => r.Says.ShouldBe("The alert was there before it."));

        // Neither another look nor a restart makes another job of it.
        await PassAsync(service);
        await service.RestartAsync();
        await PassAsync(service);
        (await JobsAsync(service)).Count.ShouldBe(1);
        (await GetAsync(service, reaction.Id)).ShouldSatisfyAllConditions(r => r.Ran.ShouldBe(1), r => r.LastProblem.ShouldBeNull());
        (await AuditAsync(service)).Where(a => a.StartsWith("reaction.", StringComparison.Ordinal)).ShouldBe(["reaction.run", "reaction.create"]);
    }

    [Fact]
    public async Task What_did_not_help_is_not_run_again_soon_and_what_a_person_has_taken_up_not_at_all()
    {
        await using var service = await TestService.StartAsync(time, NewDatabase());
        var host = await service.LinkedAsync(time, "ripening-climate-02");
        var reaction = await NewAsync(service, await WishAsync(service) with { SpacingSeconds = 86400, WaitSeconds = 3600 });
        await service.RaiseAsync(time, host);
        var first = AlertOf(service, host);
        (await ReactionsAsync(service, first)).Single().Says.ShouldBe("It runs when the alert has been open for 1 h.");
        await service.Api.PostAsync("alerts/acts", new AlertAct([first], AlertActKind.Acknowledge), WireJson.Default.AlertAct, WireJson.Default.PageAlertInfo, default);
        time.Advance(TimeSpan.FromHours(2));
        await PassAsync(service);
        (await ReactionsAsync(service, first)).Single().Says.ShouldBe("The alert is acknowledged; a person has decided.");
        (await JobsAsync(service)).ShouldBeEmpty();
        await service.Api.PostAsync("alerts/acts", new AlertAct([first], AlertActKind.Reopen), WireJson.Default.AlertAct, WireJson.Default.PageAlertInfo, default);
        await UntilAsync(async () => (await JobsAsync(service)).Count == 1, "the job");

        await service.ClearAsync(time, host);
        await service.RaiseAsync(time, host);
        var second = AlertOf(service, host);
        time.Advance(TimeSpan.FromHours(2));
        await UntilAsync(async () => (await ReactionsAsync(service, second)).Single().At is not null, "the second alert to be passed over");
        (await ReactionsAsync(service, second)).Single().Says!.ShouldEndWith("and does not run again within 1 d.");
        (await JobsAsync(service)).Count.ShouldBe(1);
        (await GetAsync(service, reaction.Id)).LastProblem!.ShouldStartWith("It ran on this host");
    }

    [Fact]
    public async Task It_runs_with_what_its_writer_is_granted_then()
    {
        await using var service = await TestService.StartAsync(time, NewDatabase());
        var host = await service.LinkedAsync(time, "ripening-climate-02");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "lead");
        var wish = await WishAsync(service);
        (await RefusedAsync(() => NewAsync(service, wish, tomasz))).ShouldContain("may not");
        var group = (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items.Single(g => g.Path == TestService.Group).Id;
        // A script that is not shared with him is not there for him.
        (await RefusedAsync(() => NewAsync(service, wish with { GroupId = group }, tomasz))).ShouldContain("script");
        var own = await KeepAsync(tomasz, "Room of mine");
        var reaction = await NewAsync(service, wish with { GroupId = group, ScriptId = own.Script.Id }, tomasz);
        (reaction.Owner, reaction.Place).ShouldBe(("Tomasz Vail", TestService.Group));
        await tomasz.ActAsync(HttpMethod.Delete, $"scripts/{own.Script.Id}", default);
        await service.RaiseAsync(time, host);
        await UntilAsync(async () => (await GetAsync(service, reaction.Id)).LastAt is not null, "it to be tried");
        (await GetAsync(service, reaction.Id)).ShouldSatisfyAllConditions(r => r.Script.ShouldBeNull(), r => r.Ran.ShouldBe(0), r => r.LastProblem!.ShouldContain("script"));
        (await JobsAsync(service)).ShouldBeEmpty();
        (await AuditAsync(service)).ShouldContain("reaction.pass");
    }

    [Fact]
    public async Task What_makes_no_sense_is_not_kept_and_whoever_is_late_is_told()
    {
        await using var service = await TestService.StartAsync(time, NewDatabase());
        var wish = await WishAsync(service);
        (await RefusedAsync(() => NewAsync(service, wish with { Name = " " }))).ShouldContain("name is empty");
        (await RefusedAsync(() => NewAsync(service, wish with { Check = "no-such-check" }))).ShouldContain("check");
        (await RefusedAsync(() => NewAsync(service, wish with { Number = 9 }))).ShouldContain("no version 9");
        (await RefusedAsync(() => NewAsync(service, wish with { Values = new Dictionary<string, string> { ["DAYS"] = "often" } }))).ShouldContain("DAYS must be a whole number");
        (await RefusedAsync(() => NewAsync(service, wish with { WaitSeconds = -1 }))).ShouldContain("0 s to 7 d");
        (await RefusedAsync(() => NewAsync(service, wish with { SpacingSeconds = 1 }))).ShouldContain("again and again");
        (await RefusedAsync(() => NewAsync(service, wish with { GroupId = Guid.NewGuid(), HostId = Guid.NewGuid() }))).ShouldContain("not both");
        var made = await NewAsync(service, wish);
        (await RefusedAsync(() => NewAsync(service, wish with { Name = "ROOM by itself" }))).ShouldContain("already");
        var off = await service.Api.PutAsync($"reactions/{made.Id}", wish with { Off = true }, made.Version, WireJson.Default.NewReaction, WireJson.Default.ReactionInfo, default);
        off.Off.ShouldBeTrue();
        (await RefusedAsync(() => service.Api.PutAsync($"reactions/{made.Id}", wish, made.Version, WireJson.Default.NewReaction, WireJson.Default.ReactionInfo, default))).ShouldContain("Somebody else changed");
        var host = await service.LinkedAsync(time, "ripening-climate-02");
        await service.RaiseAsync(time, host);
        await PassAsync(service);
        (await ReactionsAsync(service, AlertOf(service, host))).Single().Says.ShouldBe("It is switched off.");
        await service.Api.ActAsync(HttpMethod.Delete, $"reactions/{made.Id}", default);
        (await service.Api.GetAsync("reactions", WireJson.Default.PageReactionInfo, default)).Items.ShouldBeEmpty();
        (await JobsAsync(service)).ShouldBeEmpty();
    }

    private static Task<ScriptDetail> KeepAsync(ApiClient by, string name)
    {
        var book = RunbookText.Read("- parameter: DAYS: whole = 3\n## Look\n```\ndf\n```\n## Clear\n```\nrm -r \"/var/tmp/$DAYS\"\n```\n", out _)!;
        return by.PostAsync("scripts", new NewScript(name, book.Command, null, book.Parameters), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default);
    }

    private static async Task<NewReaction> WishAsync(TestService service) =>
        new("Room by itself", FullDisk.Check, (await KeepAsync(service.Api, "Make room")).Script.Id, Values: new Dictionary<string, string> { ["DAYS"] = "9" });

    private static Task<ReactionInfo> NewAsync(TestService service, NewReaction wish, ApiClient? by = null) =>
        (by ?? service.Api).PostAsync("reactions", wish, WireJson.Default.NewReaction, WireJson.Default.ReactionInfo, default);

    private static Task<ReactionInfo> GetAsync(TestService service, Guid id) => service.Api.GetAsync($"reactions/{id}", WireJson.Default.ReactionInfo, default);

    private static async Task<IReadOnlyList<JobInfo>> JobsAsync(TestService service) => (await service.Api.GetAsync("jobs", WireJson.Default.PageJobInfo, default)).Items;

    private static Guid AlertOf(TestService service, Joined host) => service.Get<AlertBook>().Current.Single(a => a.HostId == host.Id).Id;

    private static async Task<IReadOnlyList<AlertReaction>> ReactionsAsync(TestService service, Guid alert) => (await service.Api.GetAsync($"alerts/{alert}", WireJson.Default.AlertDetail, default)).Reactions;

    private static async Task<List<string>> AuditAsync(TestService service) => [.. (await service.Api.GetAsync("audit?limit=100", WireJson.Default.PageAuditInfo, default)).Items.Select(a => a.Action)];

    private static async Task<string> RefusedAsync(Func<Task> act) => (await Should.ThrowAsync<ApiException>(act)).Message;

    private Task UntilAsync(Func<Task<bool>> until, string what) => Wait.UntilAsync(
        async () =>
        {
            time.Advance(TimeSpan.FromSeconds(1));
            return await until();
        },
        what);

    /// <summary>Lets it look twice: once may have begun before.</summary>
    private Task PassAsync(TestService service)
    {
        var engine = service.Get<ReactionEngine>();
        var before = engine.Looked;
        return UntilAsync(() => Task.FromResult(engine.Looked >= before + 2), "it to look");
    }
}

public sealed class SqliteReactionTests : ReactionTests
{
    protected override string? NewDatabase() => null;
}

public sealed class PostgresReactionTests(PostgresServer server) : ReactionTests
{
    protected override string? NewDatabase() => server.NewDatabase();
}
